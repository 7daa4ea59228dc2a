// Going about the map: whole study, box, the view before, in and out; on keys and on one group of buttons.

const ol = window.ol;
const BUTTONS = [
  ['in', '+', 'Closer', '+'],
  ['out', '−', 'Farther', '−'],
  ['box', '▢', 'Zoom to a box', 'Z'],
  ['back', '↶', 'The view before', 'V'],
  ['whole', '⤢', 'Whole study', '0'],
  ['depth', '3D', 'View in 3D', 'O'],
];
/** Views that are remembered. */
const REMEMBERED = 50;

export class Zooming {
  constructor(map) {
    this.map = map;
    this.views = [];
    this.box = new ol.interaction.DragZoom({ condition: () => this.boxing, className: 'zoom-box' });
    this.boxing = false;
    map.map.addInteraction(this.box);
    this.box.on(['boxend', 'boxcancel'], () => this.endBox());
    map.map.addControl(new ol.control.Control({ element: this.group() }));
  }

  group() {
    const group = document.createElement('div');
    group.className = 'zooming ol-unselectable ol-control';
    group.setAttribute('role', 'group');
    group.setAttribute('aria-label', 'Zoom');
    for (const [what, text, title, key] of BUTTONS) {
      const button = Object.assign(document.createElement('button'), { type: 'button', textContent: text });
      button.title = `${title} (${key})`;
      button.setAttribute('aria-label', title);
      button.dataset.zoom = what;
      button.addEventListener('click', () => this.do(what));
      group.append(button);
    }
    this.buttons = group;
    return group;
  }

  do(what) {
    const view = this.map.map.getView();
    if (what === 'in' || what === 'out')
      view.animate({ zoom: view.getZoom() + (what === 'in' ? 1 : -1), duration: 200 });
    if (what === 'box') this.beginBox();
    if (what === 'back') this.back();
    if (what === 'whole') this.map.fit();
    if (what === 'depth') this.map.perspective?.toggle();
  }

  beginBox() {
    this.boxing = true;
    this.map.target.classList.add('boxing');
    this.buttons.querySelector('[data-zoom=box]').setAttribute('aria-pressed', 'true');
  }

  endBox() {
    this.boxing = false;
    this.map.target.classList.remove('boxing');
    this.buttons.querySelector('[data-zoom=box]').setAttribute('aria-pressed', 'false');
  }

  now() {
    const view = this.map.map.getView();
    return { centre: view.getCenter(), resolution: view.getResolution() };
  }

  /** The map rests: where it is, is remembered. */
  rests() {
    const now = this.now();
    const last = this.views.at(-1);
    const near = (a, b) => Math.abs(a - b) < now.resolution;
    const same =
      last &&
      near(last.centre[0], now.centre[0]) &&
      near(last.centre[1], now.centre[1]) &&
      Math.abs(last.resolution / now.resolution - 1) < 1e-3;
    if (same) return;
    this.views.push(now);
    if (this.views.length > REMEMBERED) this.views.shift();
  }

  back() {
    if (this.views.length < 2) return;
    this.views.pop();
    const { centre, resolution } = this.views.at(-1);
    this.map.map.getView().animate({ center: centre, resolution, duration: 250 });
  }

  /** Another study's ground, or another grid: earlier views mean nothing there. */
  forget() {
    this.views = [];
  }
}
