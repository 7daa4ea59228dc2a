// The threshold under the hand: slider, keys and chart move it; the network and its figures follow.
import { moveMark, valueAt } from '../../lib/chart.js';
import { ask, send } from '../../lib/common.js';
import { area, density, whole } from '../../lib/units.js';

const PLACES = 1000; // from a single cell to the largest contributing area, evenly by the logarithm
const percent = (share) => `${Math.round(share * 100)} %`;

export class Threshold {
  constructor({ base, map, desk }) {
    this.base = base;
    this.map = map;
    this.desk = desk;
    this.box = null;
    this.known = null;
    // A step of a key that is not yet kept, and what is on its way to the server.
    this.waiting = undefined;
    this.sending = undefined;
    // Where keys set out from between two places, or on one.
    this.from = undefined;
    desk.addEventListener('pointerdown', (e) => this.dragChart(e));
    // Figures rest on what the evidence was gathered with: they come after it.
    document.body.addEventListener('htmx:afterSwap', (e) => {
      if (e.target.id === 'evidence') this.learn();
    });
  }

  get largest() {
    return Number(this.box.dataset.largest);
  }
  toCells(place) {
    return Math.max(1, Math.round(this.largest ** (place / PLACES)));
  }
  toPlace(cells) {
    return (PLACES * Math.log(cells)) / Math.log(Math.max(this.largest, 2));
  }
  /** The nearest threshold that can be dragged to: its figures are known. */
  near(cells) {
    return this.toCells(Math.round(this.toPlace(cells)));
  }

  /** Takes up the desk that was just fetched. */
  prepare() {
    this.box = document.getElementById('threshold');
    this.known = null;
    if (!this.box) {
      if (this.waiting) this.keep();
      return;
    }
    this.slider = document.getElementById('slider');
    if (this.sending?.arrived) this.sending = undefined;
    // A desk may come between a key and what it keeps: the hand is right.
    this.show(this.waiting ? this.cells : Number(this.box.dataset.cells));
    this.slider.addEventListener('input', () => {
      this.cells = this.toCells(Number(this.slider.value));
      this.tell();
      this.map.live(this.cells);
    });
    this.slider.addEventListener('change', () => this.keep());
  }

  show(cells) {
    this.cells = Math.min(Math.max(1, cells), this.largest);
    this.slider.value = this.toPlace(this.cells);
    this.tell();
  }

  tell() {
    const text = `${area(this.cells * Number(this.box.dataset.cellM2))} · ${whole(this.cells)} cells`;
    document.getElementById('threshold-text').textContent = text;
    this.slider.setAttribute('aria-valuetext', text);
    this.markNow();
    this.figures();
  }

  /** What the network at the threshold is like, while it is dragged. */
  figures() {
    const line = document.getElementById('threshold-figures');
    const found = this.known?.at.get(this.cells);
    if (!found) {
      // A threshold that was typed is asked for once the hand rests.
      const typed = this.known && this.cells === Number(this.box.dataset.cells);
      if (typed) this.learn(this.cells);
      line.textContent = this.known && !typed ? 'Figures follow when the hand rests.' : '';
      return;
    }
    const [, heads, lengthM, order, matched, hit, both] = found;
    const parts = [
      `${whole(heads)} headwater${heads === 1 ? '' : 's'}`,
      density(lengthM / 1000 / this.known.km2),
    ];
    if (order) parts.push(`order ${order}`);
    if (this.known.mapped)
      parts.push(
        `agreement ${percent(both)}`,
        `correctness ${percent(matched)}`,
        `completeness ${percent(hit)}`,
      );
    line.textContent = parts.join(' · ');
  }

  /** Fetches the figures of all thresholds that can be dragged to, or of one. */
  async learn(cells) {
    const box = this.box;
    if (!box) return;
    const told = await ask(`${this.base}/figures${cells ? `?cells=${cells}` : ''}`).catch(() => null);
    // Without them the slider works as before; the evidence itself tells what is wrong.
    if (!told || box !== this.box) return;
    if (!cells) this.known = { ...told, at: new Map() };
    for (const row of told.figures) this.known?.at.set(row[0], row);
    if (!cells || this.known?.at.has(this.cells)) this.figures();
  }

  async keep() {
    clearTimeout(this.waiting);
    this.waiting = undefined;
    const kept = this.sending?.cells ?? Number(this.box?.dataset.cells);
    if (this.cells === kept) {
      this.map.rest(this.cells);
      return;
    }
    // Until the next desk shows it, what was sent is what is kept.
    const sending = { cells: this.cells, arrived: false };
    this.sending = sending;
    sending.arrived = await send(`${this.base}/threshold`, { cells: sending.cells });
    if (!sending.arrived && this.sending === sending) this.sending = undefined;
  }

  step(n) {
    if (!this.box) return;
    const place = (cells) => Math.round(this.toPlace(cells));
    const here = place(this.cells);
    // One that was typed may lie between two places, and is there again on the way back.
    if (this.near(this.cells) !== this.cells || (this.from && place(this.from) === here))
      this.from = this.cells;
    const there = here + n * 4;
    let to = this.from && place(this.from) === there ? this.from : this.toCells(there);
    if (to === this.cells) to += Math.sign(n);
    this.show(to);
    this.map.live(this.cells);
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.keep(), 350);
  }

  /** The mark of the threshold in all charts follows. */
  markNow() {
    const evidence = document.getElementById('evidence');
    const chart = evidence?.querySelector('.evidence-chart');
    if (!chart) return;
    const area = this.cells / Number(chart.dataset.cellsPerM2);
    for (const figure of evidence.querySelectorAll('figure.chart')) moveMark(figure, 'now', area);
  }

  /** Dragging on the chart of evidence moves the threshold; letting go keeps it. */
  dragChart(e) {
    const chart = e.target.closest?.('.evidence-chart svg') && e.target.closest('.evidence-chart');
    if (!chart || !this.box) return;
    e.preventDefault();
    const figure = chart.querySelector('figure');
    const perCell = 1 / Number(chart.dataset.cellsPerM2);
    const to = (at) => {
      const cells = valueAt(figure, at.clientX) / perCell;
      this.show(this.near(Math.min(Number(chart.dataset.high), Math.max(Number(chart.dataset.low), cells))));
      this.map.live(this.cells);
    };
    to(e);
    chart.setPointerCapture(e.pointerId);
    chart.onpointermove = to;
    chart.onpointerup = () => {
      chart.onpointermove = chart.onpointerup = null;
      this.keep();
    };
  }
}
