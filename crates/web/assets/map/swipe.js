// One layer right of a handle, what lies below it left.
const ol = window.ol;

export class Swipe {
  constructor(map) {
    this.map = map;
    this.share = 0.5;
    /** called when it has ended */
    this.ended = null;
  }

  /** Shows `layer` right of the handle; again hides it. */
  toggle(layer) {
    if (this.layer) {
      this.end();
      return;
    }
    this.layer = layer;
    const { map, target } = this.map;
    this.keys = this.clipped(layer, () => [this.share, 1]);
    layer.setVisible(true);
    const handle = document.createElement('div');
    handle.className = 'swipe';
    handle.tabIndex = 0;
    handle.setAttribute('role', 'slider');
    handle.setAttribute('aria-valuemin', '0');
    handle.setAttribute('aria-valuemax', '100');
    const names = this.map.names ?? ['before', 'after'];
    handle.setAttribute('aria-label', `${names[0]} left, ${names[1]} right`);
    for (const name of names)
      handle.append(Object.assign(document.createElement('span'), { textContent: name }));
    const move = (share) => {
      this.share = Math.min(0.98, Math.max(0.02, share));
      handle.style.left = `${this.share * 100}%`;
      handle.setAttribute('aria-valuenow', String(Math.round(this.share * 100)));
      map.render();
    };
    handle.addEventListener('pointerdown', (e) => {
      handle.setPointerCapture(e.pointerId);
      e.preventDefault();
      handle.focus();
    });
    handle.addEventListener('pointermove', (e) => {
      if (handle.hasPointerCapture(e.pointerId)) {
        const box = target.getBoundingClientRect();
        move((e.clientX - box.left) / box.width);
      }
    });
    handle.addEventListener('keydown', (e) => {
      const by = { ArrowLeft: -0.02, ArrowRight: 0.02 }[e.key];
      if (by) {
        e.preventDefault();
        e.stopPropagation();
        move(this.share + by);
      }
      if (e.key === 'Escape') {
        e.stopPropagation();
        this.end();
      }
    });
    target.append(handle);
    this.handle = handle;
    move(this.share);
    handle.focus();
  }

  /** Shows a layer only between two shares of the width. */
  clipped(layer, between) {
    const clip = (e) => {
      const pen = e.context;
      const size = this.map.map.getSize();
      const [from, to] = between();
      const top = ol.render.getRenderPixel(e, [size[0] * from, 0]);
      const end = ol.render.getRenderPixel(e, [size[0] * to, size[1]]);
      pen.save();
      pen.beginPath();
      pen.rect(top[0], top[1], end[0] - top[0], end[1] - top[1]);
      pen.clip();
    };
    return [layer.on('prerender', clip), layer.on('postrender', (e) => e.context.restore())];
  }

  /** Keeps another layer left of the handle; answers how to let it go. */
  keep(layer) {
    const keys = this.clipped(layer, () => [0, this.share]);
    this.map.map.render();
    return { end: () => keys.forEach((key) => ol.Observable.unByKey(key)) };
  }

  end() {
    if (!this.layer) return;
    for (const key of this.keys) ol.Observable.unByKey(key);
    this.layer.setVisible(false);
    this.handle.remove();
    this.layer = null;
    this.ended?.();
  }
}
