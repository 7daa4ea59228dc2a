// The list of what is drawn, with keys and styles, and what can be added to it.
import { keyOf } from './map.js';

const FOLDED = 'bothros.drawn.folded';

export class MapList {
  /**
   * @param {HTMLElement} box
   * @param map
   * @param {() => void} shown  what is drawn was changed
   */
  constructor(box, map, shown) {
    this.box = box;
    this.map = map;
    this.shown = shown;
    this.adding = false;
    this.folded = localStorage.getItem(FOLDED) === 'yes';
  }

  draw() {
    const { box, map } = this;
    box.replaceChildren();
    if (!map.map) return;
    const title = document.createElement('h2');
    const fold = Object.assign(document.createElement('button'), { type: 'button', textContent: 'Drawn' });
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
    const add = Object.assign(document.createElement('details'), { className: 'add', open: this.adding });
    add.addEventListener('toggle', () => {
      this.adding = add.open;
    });
    add.append(Object.assign(document.createElement('summary'), { textContent: 'Add to the map' }));
    box.append(title);
    for (const { key, name } of map.list()) {
      if (!map.layers[key]) continue;
      const on = map.shown.has(key);
      (on ? box : add).append(this.tick(key, name, on));
      if (on) box.append(this.key(key));
    }
    box.append(add);
  }

  tick(key, name, on) {
    const label = document.createElement('label');
    const tick = Object.assign(document.createElement('input'), { type: 'checkbox', checked: on });
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
      box.append(choose);
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
    const how = map.views.controls(key);
    if (how) box.append(how);
    return box;
  }
}
