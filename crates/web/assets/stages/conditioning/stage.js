// The Conditioning stage: barriers reviewed one by one, burning looked at across streams, sinks sorted.
import { notice, send } from '../../lib/common.js';
import { layers, loadBarriers } from './layers.js';

/** The part of the page that is about Conditioning. */
class Conditioning {
  /** `page` gives base, map, desk and enters and leaves modes. */
  constructor(page) {
    this.page = page;
    this.barrier = null;
    document.body.addEventListener('barriers-changed', () => this.changed());
  }

  /** A row of the desk was chosen. */
  chosen(element, go) {
    if (!element.dataset.barrierRow) return;
    this.page.map.unmark();
    this.show(element.dataset.barrierRow, go);
  }

  /** The desk has been fetched anew. */
  prepare() {
    const { desk } = this.page;
    for (const button of desk.querySelectorAll('[data-sort]'))
      button.addEventListener('click', () => this.sort(button));
    desk.querySelector('[data-least]')?.addEventListener('input', (e) => {
      const least = Number(e.target.value.replace(',', '.')) || 0;
      for (const row of desk.querySelectorAll('[data-sink]'))
        row.hidden = Number(row.dataset.by.split(' ')[0]) < least;
    });
    if (desk.querySelector('[data-burn]') && this.page.map.map)
      this.burnSection(this.burnAt ?? this.page.map.map.getView().getCenter());
    if (this.barrier && desk.querySelector(`[data-barrier-row="${this.barrier}"]`))
      this.show(this.barrier, false);
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

  sort(button) {
    const at = Number(button.dataset.sort);
    const body = this.page.desk.querySelector('#sinks-list tbody');
    const by = (row) => Number(row.dataset.by.split(' ')[at]);
    body.append(...[...body.rows].sort((a, b) => by(b) - by(a)));
    for (const other of this.page.desk.querySelectorAll('[data-sort]'))
      other.classList.toggle('sorted', other === button);
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
    const id = this.barrier;
    if (!id) return;
    const rows = [...this.page.desk.querySelectorAll('[data-barrier-row]')];
    const at = rows.findIndex((r) => r.dataset.barrierRow === String(id));
    const after = [...rows.slice(at + 1), ...rows.slice(0, at)].find((r) => 'open' in r.dataset);
    const fields = { decision };
    if (line) fields.line = JSON.stringify(line);
    if (!(await send(`${this.page.base}/barriers/${id}/decide`, fields))) return;
    if (decision && !line && after) {
      const next = this.page.desk.querySelector(`[data-barrier-row="${after.dataset.barrierRow}"]`) ?? after;
      this.page.choose(next);
    }
  }

  /** Decisions about the barrier that is shown, by keys. */
  key(e) {
    const key = e.key.toLowerCase();
    if (!this.barrier || !this.page.desk.querySelector('.barrier-card')) return false;
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
    const see = target.closest('[data-see]');
    if (see) {
      this.page.see(see.dataset.see.split(','));
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

  /** A click on the map beside all modes: the nearest barrier or sink is shown on the desk. */
  pick({ coordinate }) {
    const { desk, map } = this.page;
    const near = map.map.getView().getResolution() * 14;
    const rows = [...desk.querySelectorAll('[data-barrier-row], [data-sink]')].filter((r) => !r.hidden);
    const away = (r) => Math.hypot(Number(r.dataset.x) - coordinate[0], Number(r.dataset.y) - coordinate[1]);
    const nearest = rows.filter((r) => away(r) < near).sort((a, b) => away(a) - away(b))[0];
    if (nearest) this.page.choose(nearest, false);
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
