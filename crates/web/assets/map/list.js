// The list of what is drawn, with keys and styles, and what can be added to it.
import { keyOf } from './map.js';

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
  }

  draw() {
    const { box, map } = this;
    box.replaceChildren();
    if (!map.map) return;
    const title = Object.assign(document.createElement('h2'), { textContent: 'Drawn' });
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
      for (const what of ['elevation', 'accumulation'])
        choose.add(new Option(what, what, false, map.cellsOf === what));
      choose.addEventListener('change', () => {
        map.cellsOf = choose.value;
        map.map.render();
      });
      box.append(choose);
    }
    const how = map.views.controls(key);
    if (how) box.append(how);
    return box;
  }
}
