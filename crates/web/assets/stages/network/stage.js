// The Network stage: the threshold under the hand, trials compared, streams changed by hand.
import { notice, send } from '../../lib/common.js';
import { layers } from './layers.js';
import { Threshold } from './threshold.js';

const EDITS = {
  prune: 'Click the stream: from there upwards it is taken away. Esc leaves.',
  head: 'Click where a stream begins. Esc leaves.',
};

/** The part of the page that is about Network. */
class Network {
  constructor(page) {
    this.page = page;
    this.threshold = new Threshold(page);
    page.desk.addEventListener('submit', (e) => {
      if (e.target.id !== 'compare-form') return;
      e.preventDefault();
      this.compare();
    });
  }

  /** The desk has been fetched anew. */
  prepare() {
    this.threshold.prepare();
  }

  /** Without its desk there is nothing to drag. */
  left() {
    this.threshold.box = null;
  }

  reachAt(pixel) {
    const { map } = this.page;
    if (!map.layers.streams) return null;
    const options = { layerFilter: (l) => l === map.layers.streams, hitTolerance: 5 };
    return map.map.forEachFeatureAtPixel(pixel, (f) => f, options);
  }

  /** A click on a stream tells of its reach. */
  async pick({ pixel }) {
    const { map, drawer } = this.page;
    const reach = this.reachAt(pixel);
    if (!reach) return;
    const key = await drawer.found('reaches', { row: reach.get('id') });
    if (key) map.point(reach.getGeometry());
  }

  under(pixel) {
    const reach = this.reachAt(pixel);
    return reach ? { table: 'reaches', key: reach.get('id') } : null;
  }

  /** The line of a reach, where it is drawn. */
  shapeOf(table, key) {
    if (table !== 'reaches') return null;
    const all = this.page.map.layers.streams?.getSource().getFeatures() ?? [];
    return all.find((f) => String(f.get('id')) === key)?.getGeometry() ?? null;
  }

  click(target) {
    const editing = target.closest('[data-edit-stream]');
    if (editing) {
      this.edit(editing.dataset.editStream);
      return true;
    }
    return false;
  }

  /** Prunes, begins a stream, or sets another threshold inside an area, by hand. */
  edit(kind) {
    const [said, given] = ['edit-reason', 'edit-area'].map((id) => document.getElementById(id));
    const [reason, area] = [said.value.trim(), given.value.trim()];
    if (!reason) {
      notice('Give the reason first: it goes into the log with the change.', true);
      said.focus();
      return;
    }
    if (kind === 'within' && !area) {
      notice('Give the threshold that holds inside the area first.', true);
      given.focus();
      return;
    }
    const line = (points) => JSON.stringify(points);
    const keep = (points) => send(`${this.page.base}/edits`, { kind, reason, area, line: line(points) });
    const draw = 'Draw the area; double click or Enter ends it. Esc leaves.';
    if (kind === 'within') this.page.pen.line(draw, keep, 'Polygon');
    else this.page.enter({ place: (at) => keep([at]) }, EDITS[kind]);
  }

  compare() {
    const ticked = [...this.page.desk.querySelectorAll('#compare-form input:checked')].map((i) => i.value);
    if (ticked.length < 2 || ticked.length > 4) {
      notice('Tick two to four trials to compare; the mapped streams may be one of them.', true);
      return;
    }
    location.href = `${this.page.base}/compare?trials=${ticked.join()}`;
  }
}

export const network = {
  key: 'network',
  drawn: ['relief', 'streams', 'cells'],
  layers,
  begin: (page) => new Network(page),
  keys: (_page, part) => ({
    '[': () => part.threshold.step(-1),
    ']': () => part.threshold.step(1),
    '{': () => part.threshold.step(-10),
    '}': () => part.threshold.step(10),
    c: () => {
      if (document.getElementById('compare-form')) part.compare();
    },
  }),
};
