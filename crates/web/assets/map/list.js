// The list of what is drawn, with keys and styles, and what can be added to it.
import { keyOf } from './map.js';
import { styleBox } from './style_box.js';

const FOLDED = 'bothros.drawn.folded';
/** Width of the window below which the list is folded to begin with, pixels. */
const NARROW = 1100;

export class MapList {
  /**
   * @param {HTMLElement} box
   * @param map
   * @param {() => void} shown  what is drawn was changed
   * @param {() => void} addLayer  a layer is wanted that the study has not got yet
   */
  constructor(box, map, shown, addLayer) {
    this.box = box;
    this.map = map;
    this.shown = shown;
    this.addLayer = addLayer;
    this.adding = false;
    // On a narrow map it would cover much of it.
    const usual = window.innerWidth < NARROW ? 'yes' : 'no';
    this.folded = (localStorage.getItem(FOLDED) ?? usual) === 'yes';
  }

  /** Steps aside while something under it is pointed at elsewhere. */
  aside(geometry) {
    const { map } = this.map;
    const [list, ground] = [this.box, this.map.target].map((e) => e.getBoundingClientRect());
    const corners = geometry && map ? this.map.pixels(geometry) : [];
    const under = ([x, y]) =>
      x + ground.left >= list.left && y + ground.top <= list.bottom && y + ground.top >= list.top;
    this.box.classList.toggle('aside', corners.some(under));
  }

  /** Draws the list; who is at a field of a style stays there. */
  draw() {
    const at = this.box.contains(document.activeElement) && document.activeElement.dataset.style;
    this.drawAll();
    if (at) this.box.querySelector(`[data-style="${at}"]`)?.focus();
  }

  drawAll() {
    const { box, map } = this;
    box.replaceChildren();
    if (!map.map) return;
    const title = document.createElement('h2');
    const fold = Object.assign(document.createElement('button'), {
      type: 'button',
      textContent: 'Drawn',
    });
    fold.setAttribute('aria-expanded', String(!this.folded));
    fold.dataset.foldList = '';
    fold.addEventListener('click', () => {
      this.folded = !this.folded;
      localStorage.setItem(FOLDED, this.folded ? 'yes' : 'no');
      this.draw();
      this.box.querySelector('[data-fold-list]').focus();
    });
    title.append(fold);
    box.classList.toggle('folded', this.folded);
    if (this.folded) {
      box.append(title);
      return;
    }
    const add = Object.assign(document.createElement('details'), {
      className: 'add',
      open: this.adding,
    });
    add.addEventListener('toggle', () => {
      this.adding = add.open;
    });
    add.append(
      Object.assign(document.createElement('summary'), {
        textContent: 'Add to the map',
      }),
    );
    box.append(title);
    for (const { key, name, quiet } of map.list()) {
      if (!map.layers[key] || quiet) continue;
      const on = map.shown.has(key);
      (on ? box : add).append(this.tick(key, name, on));
      if (on) box.append(this.key(key));
    }
    const more = Object.assign(document.createElement('button'), {
      type: 'button',
      className: 'btn btn-sm quiet',
      textContent: 'A layer from a file, or drawn…',
    });
    more.dataset.addLayer = '';
    more.addEventListener('click', this.addLayer);
    const formula = Object.assign(document.createElement('button'), {
      type: 'button',
      className: 'btn btn-sm quiet',
      textContent: 'A raster from a formula…',
    });
    formula.dataset.formula = '';
    add.append(more, formula);
    box.append(add);
  }

  tick(key, name, on) {
    const label = document.createElement('label');
    const tick = Object.assign(document.createElement('input'), {
      type: 'checkbox',
      checked: on,
    });
    tick.dataset.layer = key;
    tick.addEventListener('change', () => {
      this.map.toggle(key, tick.checked);
      this.shown();
      this.box.querySelector(`[data-layer=${key}]`).focus();
    });
    label.append(tick, name);
    return label;
  }

  /** The key of a layer, with what can be chosen for it. */
  key(key) {
    const { map } = this;
    const box = keyOf(key, map);
    if (key === 'cells' && map.layers.area) {
      const choose = document.createElement('select');
      choose.setAttribute('aria-label', 'Value shown in cells');
      for (const what of ['elevation', 'accumulation', 'contributing area'])
        choose.add(new Option(what, what, false, map.cellsOf === what));
      choose.addEventListener('change', () => {
        map.cellsOf = choose.value;
        map.map.render();
      });
      const ticks = document.createElement('label');
      const sized = Object.assign(document.createElement('input'), {
        type: 'checkbox',
        checked: map.ticksBy === 'accumulation',
      });
      sized.dataset.ticks = '';
      sized.addEventListener('change', () => {
        map.ticksBy = sized.checked ? 'accumulation' : '';
        map.map.render();
      });
      ticks.append(sized, 'Ticks of direction sized by accumulation');
      box.append(choose, ticks);
    }
    if (map.layers[key]?.getSource?.()?.getFeatures) {
      const go = Object.assign(document.createElement('button'), {
        type: 'button',
        textContent: 'Zoom to it',
      });
      go.className = 'to-layer';
      go.dataset.zoomTo = key;
      go.addEventListener('click', () => map.fit(map.extentOf(key) ?? undefined));
      box.append(go);
    }
    const how = styleBox(map, key);
    if (how) box.append(how);
    return box;
  }
}
