// One layer right of a handle, what lies below it left.
const ol = window.ol;

export class Swipe {
  constructor(map) {
    this.map = map;
    this.share = 0.5;
  }

  /** Shows `layer` right of the handle; again hides it. */
  toggle(layer) {
    if (this.layer) { this.end(); return; }
    this.layer = layer;
    const { map, target } = this.map;
    const clip = (e) => {
      const pen = e.context;
      const size = map.getSize();
      const top = ol.render.getRenderPixel(e, [size[0] * this.share, 0]);
      const end = ol.render.getRenderPixel(e, size);
      pen.save();
      pen.beginPath();
      pen.rect(top[0], top[1], end[0] - top[0], end[1] - top[1]);
      pen.clip();
    };
    this.keys = [layer.on('prerender', clip), layer.on('postrender', (e) => e.context.restore())];
    layer.setVisible(true);
    const handle = document.createElement('div');
    handle.className = 'swipe';
    handle.tabIndex = 0;
    handle.setAttribute('role', 'slider');
    handle.setAttribute('aria-label', 'Before left, after right');
    handle.setAttribute('aria-valuemin', 0);
    handle.setAttribute('aria-valuemax', 100);
    handle.innerHTML = '<span>before</span><span>after</span>';
    const move = (share) => {
      this.share = Math.min(0.98, Math.max(0.02, share));
      handle.style.left = `${this.share * 100}%`;
      handle.setAttribute('aria-valuenow', Math.round(this.share * 100));
      map.render();
    };
    handle.addEventListener('pointerdown', (e) => { handle.setPointerCapture(e.pointerId); e.preventDefault(); handle.focus(); });
    handle.addEventListener('pointermove', (e) => { if (handle.hasPointerCapture(e.pointerId)) { const box = target.getBoundingClientRect(); move((e.clientX - box.left) / box.width); } });
    handle.addEventListener('keydown', (e) => {
      const by = { ArrowLeft: -0.02, ArrowRight: 0.02 }[e.key];
      if (by) { e.preventDefault(); e.stopPropagation(); move(this.share + by); }
      if (e.key === 'Escape') { e.stopPropagation(); this.end(); }
    });
    target.append(handle);
    this.handle = handle;
    move(this.share);
    handle.focus();
  }

  end() {
    if (!this.layer) return;
    for (const key of this.keys) ol.Observable.unByKey(key);
    this.layer.setVisible(false);
    this.handle.remove();
    this.layer = null;
  }
}
