// The Conditioning stage: barriers reviewed one by one, burning looked at across streams, sinks sorted.
import { notice, send } from '../../lib/common.js';
import { layers, loadBarriers } from './layers.js';

const ol = window.ol;

/** The part of the page that is about Conditioning. */
class Conditioning {
  /** `page` gives base, map, desk and enters and leaves modes. */
  constructor(page) {
    this.page = page;
    this.barrier = null;
    document.body.addEventListener('barriers-changed', () => this.changed());
  }

  /** A crossing was chosen on the desk or in its table. */
  chosen(element, go) {
    const inTable = element.closest('[data-table=crossings]');
    const id = inTable ? element.dataset.key : element.dataset.barrierRow;
    if (!id) return false;
    this.look(id, go);
    return true;
  }

  /** Goes to a crossing and shows its card. */
  look(id, go = true) {
    const { map, drawer } = this.page;
    const crossing = this.crossing(id);
    if (!crossing) return;
    map.unmark();
    if (go) map.goTo(...crossing.crest, false, 0.4);
    drawer.mark('crossings', id);
    this.show(id, go);
  }

  /** The crossing whose card is shown. */
  get card() {
    return this.page.desk.querySelector('.barrier-card')?.dataset.barrier;
  }

  crossing(id) {
    return (this.page.map.crossings ?? []).find((c) => String(c.id) === String(id));
  }

  /** All crossings, one after another. */
  findings() {
    return (this.page.map.crossings ?? []).map(
      ({ id }) =>
        () =>
          this.look(id),
    );
  }

  /** The line of a crossing. */
  shapeOf(table, key) {
    const crossing = table === 'crossings' && this.crossing(key);
    return crossing ? new ol.geom.LineString(crossing.line) : null;
  }

  /** The desk has been fetched anew. */
  prepare() {
    const { desk } = this.page;
    if (desk.querySelector('[data-burn]') && this.page.map.map)
      this.burnSection(this.burnAt ?? this.page.map.map.getView().getCenter());
    if (this.barrier && this.crossing(this.barrier)) this.show(this.barrier, false);
    else this.barrier = null;
  }

  /** The ground across a stream as it would be burned. */
  async burnSection([x, y]) {
    const place = this.page.desk.querySelector('[data-burn]');
    const answer = await fetch(`${this.page.base}/burn-section?x=${x}&y=${y}`);
    const text = await answer.text();
    if (answer.ok) place.innerHTML = text;
    else place.textContent = text;
  }

  /** Shows a barrier's card, and its line on the map. */
  async show(id, go = true) {
    const { base, desk, map } = this.page;
    this.barrier = id;
    const answer = await fetch(`${base}/barriers/${id}`);
    const html = await answer.text();
    if (!answer.ok) {
      notice(html, true);
      return;
    }
    const place = desk.querySelector('#barrier');
    if (go && place) this.page.sections.reveal(place);
    if (!place || this.barrier !== id) return;
    place.innerHTML = html;
    for (const row of desk.querySelectorAll('[data-barrier-row]'))
      row.classList.toggle('chosen', row.dataset.barrierRow === String(id));
    map.chosenBarrier = Number(id);
    map.layers.barriers?.changed();
    if (go) place.scrollIntoView({ block: 'nearest' });
    document.body.dataset.barrier = id;
  }

  async changed() {
    this.page.refreshParts();
    await Promise.all([this.page.fetchDesk(), loadBarriers(this.page.map)]);
  }

  /** Decides about the barrier that is shown, and goes on to the next open one. */
  async decide(decision, line) {
    const id = this.card;
    // While the next one is on its way nothing is decided that nobody has seen.
    if (!id || id !== String(this.barrier)) return;
    const all = this.page.map.crossings ?? [];
    const at = all.findIndex((c) => String(c.id) === String(id));
    const after = [...all.slice(at + 1), ...all.slice(0, at)].find((c) => !c.decision);
    const fields = { decision };
    if (line) fields.line = JSON.stringify(line);
    if (!(await send(`${this.page.base}/barriers/${id}/decide`, fields))) return;
    if (decision && !line && after) this.look(after.id);
  }

  /** Decisions about the barrier that is shown, by keys. */
  key(e) {
    const key = e.key.toLowerCase();
    if (!this.card) return false;
    const decision = { y: 'breach', i: 'fill', k: 'keep' }[key];
    if (decision) {
      this.decide(decision);
      return true;
    }
    if (key === 'r') {
      this.redraw();
      return true;
    }
    return false;
  }

  click(target) {
    const decide = target.closest('[data-decide]');
    if (decide) {
      this.decide(decide.dataset.decide);
      return true;
    }
    if (target.closest('[data-redraw]')) {
      this.redraw();
      return true;
    }
    if (target.closest('[data-burn-here]')) {
      this.page.enter(
        {
          place: (at) => {
            this.burnAt = at;
            this.burnSection(at);
          },
        },
        'Click near a mapped stream. Esc leaves.',
      );
      return true;
    }
    if (target.closest('[data-swipe]')) {
      this.page.map.swipe();
      return true;
    }
    return false;
  }

  redraw() {
    this.page.pen.line(
      'Draw the breach line from upstream to downstream; double click or Enter ends it. Esc leaves.',
      (line) => this.decide('breach', line),
    );
  }

  /** A click on the map beside all modes: the crossing there is shown on the desk, or a sink by its row. */
  pick({ coordinate }) {
    const { map, drawer } = this.page;
    const near = map.map.getView().getResolution() * 14;
    const away = ({ crest: [x, y] }) => Math.hypot(x - coordinate[0], y - coordinate[1]);
    const nearest = (map.crossings ?? []).filter((c) => away(c) < near).sort((a, b) => away(a) - away(b))[0];
    if (nearest) this.look(nearest.id, false);
    else drawer.found('sinks', { near: [...coordinate, near].join() });
  }
}

export const conditioning = {
  key: 'conditioning',
  drawn: ['relief', 'sinks', 'features', 'barriers', 'cells'],
  layers,
  begin: (page) => new Conditioning(page),
  keys: (page) => ({
    u: () => send(`${page.base}/route`),
    b: async () => {
      if (!page.map.layers.features) return;
      if (page.stage !== 'conditioning') await page.openStage('conditioning');
      page.pen.feature('breach_lines');
    },
  }),
};
