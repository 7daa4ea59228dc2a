// The drawer below the map: the tables of the stage, a tab for each; rows and places on the map point at each other.
import { ask } from '../lib/common.js';
import { TableView } from '../lib/table.js';

const LEAST = 140;
const MEMORY = 'bothros.drawer';

const tabOf = (table) => {
  const tab = Object.assign(document.createElement('button'), { type: 'button', textContent: table.title });
  tab.setAttribute('role', 'tab');
  tab.id = `tab-${table.name}`;
  tab.setAttribute('aria-controls', 'drawer-table');
  tab.dataset.tab = table.name;
  return tab;
};

export class Drawer {
  /**
   * @param {HTMLElement} box
   * @param page
   */
  constructor(box, page) {
    this.box = box;
    this.page = page;
    this.side = box.parentElement;
    this.opener = document.getElementById('open-drawer');
    this.tables = {};
    this.view = null;
    /** the tab of each stage that was open last */
    this.tabs = {};
    this.stage = null;
    try {
      this.kept = JSON.parse(localStorage.getItem(MEMORY) ?? '{}');
    } catch {
      this.kept = {};
    }
    this.hear();
  }

  get open() {
    return !this.box.hidden;
  }

  /** The stage that is open has these tables. */
  async at(stage) {
    this.stage = stage;
    if (!this.known) {
      this.known = ask(`${this.page.base}/tables`);
      this.known.catch(() => {
        this.known = null;
      });
    }
    this.tables = await this.known;
    if (stage !== this.stage) return;
    const has = this.tables[stage].length > 0;
    this.opener.hidden = !has;
    if (has && (this.open || this.kept.open)) await this.show();
    else if (!has) this.hide(false);
  }

  toggle() {
    if (this.open) this.hide();
    else if (this.tables[this.stage]?.length) this.show();
  }

  /** Opens the drawer, at a table and at one of its rows. */
  async show(name = this.tabs[this.stage] ?? this.tables[this.stage]?.[0]?.name, row) {
    const all = this.tables[this.stage] ?? [];
    if (!all.some((t) => t.name === name)) return;
    this.tabs[this.stage] = name;
    this.page.formula?.hide();
    this.box.hidden = false;
    this.size(this.kept.height ?? Math.round(this.side.clientHeight * 0.42));
    this.opener.setAttribute('aria-expanded', 'true');
    this.keep({ open: true });
    this.box.querySelector('.tabs').replaceChildren(...all.map(tabOf));
    for (const tab of this.box.querySelectorAll('[role=tab]')) {
      const here = tab.dataset.tab === name;
      tab.setAttribute('aria-selected', String(here));
      tab.tabIndex = here ? 0 : -1;
      if (here) this.box.querySelector('[role=tabpanel]').setAttribute('aria-labelledby', tab.id);
    }
    if (this.view?.name !== name) {
      const place = Object.assign(document.createElement('div'), { className: 'sheet-place' });
      this.box.querySelector('[role=tabpanel]').replaceChildren(place);
      this.view = new TableView(place, `${this.page.base}/tables/${name}`, name, () => this.changed());
    }
    if (row === undefined) await this.view.fetch();
    else await this.view.reveal(row);
    this.page.map.map?.updateSize();
  }

  hide(keep = true) {
    this.box.hidden = true;
    this.side.style.setProperty('--drawer', '0px');
    this.opener.setAttribute('aria-expanded', 'false');
    if (keep) this.keep({ open: false });
    this.page.map.map?.updateSize();
    this.page.map.point(null);
  }

  /** What is shown may be another. */
  refresh() {
    if (this.open) this.view?.fetch();
  }

  changed() {
    const { chosen } = this;
    if (!chosen || chosen.table !== this.view.name) return;
    this.row(chosen.key)?.classList.add('chosen');
  }

  row(key) {
    return this.box.querySelector(`tr[data-key="${CSS.escape(String(key))}"]`);
  }

  /** Marks a row, where it is shown. */
  mark(table, key) {
    this.chosen = { table, key };
    for (const other of this.box.querySelectorAll('tr.chosen')) other.classList.remove('chosen');
    if (this.view?.name !== table) return;
    const row = this.row(key);
    row?.classList.add('chosen');
    row?.scrollIntoView({ block: 'nearest' });
  }

  /** Something on the map was clicked that has a row: the open table shows it, or a card tells of it. */
  async found(table, which) {
    const { base } = this.page;
    const answer = await fetch(`${base}/tables/${table}?${new URLSearchParams({ as: 'card', ...which })}`);
    if (answer.status !== 200) return null;
    const card = document.createElement('div');
    card.innerHTML = await answer.text();
    const section = card.firstElementChild;
    if (section instanceof HTMLElement) section.className += ' measured';
    const key = card.querySelector('[data-key]').dataset.key;
    if (this.open) {
      this.chosen = { table, key };
      await this.show(table, key);
      this.mark(table, key);
    } else document.getElementById('measured').replaceChildren(...card.childNodes);
    return key;
  }

  /** The pointer is over the map: the row of what lies there. */
  pointed(e) {
    if (!this.open || e.dragging) return;
    const named = this.page.under?.(e.pixel);
    let row = named?.table === this.view?.name ? this.row(named.key) : null;
    if (!row) {
      const near = this.page.map.map.getView().getResolution() * 12;
      const away = (r) =>
        Math.hypot(Number(r.dataset.x) - e.coordinate[0], Number(r.dataset.y) - e.coordinate[1]);
      for (const other of this.box.querySelectorAll('tr[data-x]')) {
        if (away(other) < (row ? away(row) : near)) row = other;
      }
    }
    for (const other of this.box.querySelectorAll('tr.pointed'))
      if (other !== row) other.classList.remove('pointed');
    row?.classList.add('pointed');
  }

  size(height) {
    const most = this.side.clientHeight - 160;
    const fits = Math.max(Math.min(height, most), Math.min(LEAST, most));
    this.side.style.setProperty('--drawer', `${fits}px`);
    this.grip.setAttribute('aria-valuenow', String(fits));
    this.grip.setAttribute('aria-valuemax', String(most));
    return fits;
  }

  keep(what) {
    this.kept = { ...this.kept, ...what };
    localStorage.setItem(MEMORY, JSON.stringify(this.kept));
  }

  get grip() {
    return this.box.querySelector('.grip');
  }

  hear() {
    const { box } = this;
    const grip = /** @type {HTMLElement} */ (this.grip);
    this.opener.addEventListener('click', () => this.toggle());
    box.querySelector('[data-close-drawer]').addEventListener('click', () => this.hide());
    grip.addEventListener('pointerdown', (e) => {
      e.preventDefault();
      grip.focus();
      grip.setPointerCapture(e.pointerId);
      const from = box.clientHeight + e.clientY;
      const move = (m) => this.keep({ height: this.size(from - m.clientY) });
      const end = () => {
        grip.removeEventListener('pointermove', move);
        this.page.map.map?.updateSize();
      };
      grip.addEventListener('pointermove', move);
      grip.addEventListener('lostpointercapture', end, { once: true });
    });
    grip.addEventListener('keydown', (e) => {
      const step = { ArrowUp: 40, ArrowDown: -40 }[e.key];
      if (!step) return;
      e.preventDefault();
      this.keep({ height: this.size(box.clientHeight + step) });
      this.page.map.map?.updateSize();
    });
    box.querySelector('.tabs').addEventListener('click', (e) => {
      const tab = e.target.closest('[data-tab]');
      if (tab) this.show(tab.dataset.tab);
    });
    box.querySelector('.tabs').addEventListener('keydown', (e) => {
      const way = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
      if (!way) return;
      const tabs = [.../** @type {NodeListOf<HTMLElement>} */ (box.querySelectorAll('[role=tab]'))];
      const next =
        tabs[(tabs.indexOf(/** @type {HTMLElement} */ (e.target)) + way + tabs.length) % tabs.length];
      this.show(next.dataset.tab).then(() => box.querySelector('[aria-selected=true]').focus());
    });
    const point = (e) => {
      const row = /** @type {HTMLElement} */ (e.target).closest('tr[data-key]');
      this.page.map.point(row && this.placeOf(row));
    };
    box.addEventListener('pointerover', point);
    box.addEventListener('focusin', point);
    box.addEventListener('pointerleave', () => this.page.map.point(null));
    box.addEventListener('keydown', (e) => {
      const way = { ArrowDown: 'nextElementSibling', ArrowUp: 'previousElementSibling' }[e.key];
      if (!way || !e.target.matches('tr[data-key]')) return;
      e.preventDefault();
      e.target[way]?.focus();
    });
    window.addEventListener('resize', () => this.open && this.size(this.kept.height ?? box.clientHeight));
    const events = [
      'threshold-changed',
      'trials-changed',
      'shortfalls-changed',
      'barriers-changed',
      'points-changed',
      'scheme-changed',
    ];
    for (const event of events) document.body.addEventListener(event, () => this.refresh());
  }

  /** Where a row is: the shape that its stage knows, or the place that it names. */
  placeOf(row) {
    const shape = this.page.shapeOf?.(this.view.name, row.dataset.key);
    if (shape) return shape;
    return 'x' in row.dataset
      ? new window.ol.geom.Point([Number(row.dataset.x), Number(row.dataset.y)])
      : null;
  }
}
