// A table of the study: sorted, filtered, searched, in pages, its columns chosen; copied and saved.
import { notice, send } from './common.js';
import { Latest } from './latest.js';

const REMEMBERED = ['sort', 'down', 'columns'];
const memory = (name) => `bothros.table.${name}`;

function remembered(name) {
  try {
    return JSON.parse(localStorage.getItem(memory(name)) ?? '{}');
  } catch {
    return {};
  }
}

/** What of a table is shown in `box`. */
export class TableView {
  /**
   * @param {HTMLElement} box
   * @param {string} address  of the table
   * @param {string} name
   * @param {() => void} [changed]  other rows are shown
   */
  constructor(box, address, name, changed = () => {}) {
    this.box = box;
    this.address = address;
    this.name = name;
    this.changed = changed;
    this.asked = remembered(name);
    this.last = new Latest();
    this.typing = 0;
    this.hear();
  }

  query(more = {}) {
    const asked = Object.entries({ ...this.asked, ...more });
    return new URLSearchParams(asked.filter(([, value]) => value !== '').map(([k, v]) => [k, String(v)]));
  }

  /** Fetches the rows anew; `more` holds for this time alone. */
  async fetch(more = {}) {
    const writing = document.activeElement;
    const [sheet, top] = [this.box.querySelector('.sheet-rows'), more.row ? null : 'kept'];
    const scrolled = [sheet?.scrollLeft ?? 0, sheet?.scrollTop ?? 0];
    let html;
    try {
      html = await this.last.text(`${this.address}?${this.query(more)}`);
    } catch (error) {
      this.fails(error);
      return;
    }
    if (html === undefined) return;
    const held = this.box.contains(writing) && this.selectorOf(writing);
    const typed = held && 'value' in writing ? { value: writing.value, at: writing.selectionStart } : null;
    this.box.innerHTML = html;
    window.htmx.process(this.box);
    const rows = this.box.querySelector('.sheet-rows');
    if (rows && top) [rows.scrollLeft, rows.scrollTop] = scrolled;
    this.box.querySelector('tr.chosen')?.scrollIntoView({ block: 'nearest' });
    const again = held && this.box.querySelector(held);
    if (again) {
      again.focus();
      if (typed && 'value' in again) {
        again.value = typed.value;
        if (typed.at !== null) again.setSelectionRange?.(typed.at, typed.at);
      }
    }
    this.changed();
  }

  /** What was asked cannot be given: a condition is taken back to be mended, a column that has gone is forgotten. */
  fails(error) {
    if (this.box.querySelector('.sheet')) {
      notice(error.message, true);
      return;
    }
    this.asked = {};
    localStorage.removeItem(memory(this.name));
    const again = Object.assign(document.createElement('p'), {
      className: 'empty',
      textContent: error.message,
    });
    this.box.replaceChildren(again);
  }

  selectorOf(element) {
    for (const what of ['where', 'sort']) {
      if (element.dataset?.[what]) return `[data-${what}="${element.dataset[what]}"]`;
    }
    return element.matches?.('[data-find]') ? '[data-find]' : null;
  }

  set(asked) {
    this.asked = { ...this.asked, from: 0, ...asked };
    const kept = Object.fromEntries(REMEMBERED.filter((k) => k in this.asked).map((k) => [k, this.asked[k]]));
    localStorage.setItem(memory(this.name), JSON.stringify(kept));
    return this.fetch();
  }

  hear() {
    this.box.addEventListener('click', (e) => {
      const of = (what) => e.target.closest(`[data-${what}]`);
      const at = of('sort');
      if (at) this.sort(at.dataset.sort);
      else if (of('from')) this.set({ from: of('from').dataset.from });
      else if (of('clear')) this.clear();
      else if (of('copy')) this.copy();
      else if (of('csv')) location.href = `${this.address}?${this.query({ as: 'csv' })}`;
      else if (of('layer-as')) {
        // All features, whatever the filters leave out.
        const file = `${this.name}.${of('layer-as').dataset.layerAs}`;
        location.href = this.address.replace(/tables\/[^/]*$/, `layer/${file}`);
      } else if (of('usual-columns')) this.set({ columns: '' });
      else if (of('to-row')) this.reveal(of('to-row').dataset.toRow);
      else if (of('set')) this.type(of('set'));
    });
    this.box.addEventListener('submit', (e) => {
      if (!(e.target instanceof HTMLFormElement) || !e.target.matches('[data-set-listed]')) return;
      e.preventDefault();
      this.write(Object.fromEntries(new FormData(e.target)));
    });
    this.box.addEventListener('change', (e) => {
      if (!e.target.matches('[data-show-column]')) return;
      const ticked = [...this.box.querySelectorAll('[data-show-column]:checked')].map((t) => t.value);
      if (ticked.length) this.set({ columns: ticked.join() }).then(() => this.openColumns());
      else e.target.checked = true;
    });
    this.box.addEventListener('input', (e) => {
      const { target } = e;
      if (!target.matches('[data-where], [data-find]')) return;
      clearTimeout(this.typing);
      const key = target.matches('[data-find]') ? 'find' : `where.${target.dataset.where}`;
      this.typing = setTimeout(() => this.set({ [key]: target.value }), 300);
    });
  }

  /** Puts a value in place of those of a column: of the row that is named, or of all rows that are listed. */
  write(fields) {
    const listed = Object.entries(this.asked).filter(([k]) => k === 'find' || k.startsWith('where.'));
    return send(`${this.address}/set`, { ...Object.fromEntries(listed), ...fields });
  }

  /** A value becomes a field: Enter writes, Escape leaves it. */
  type(button) {
    const before = button.textContent === '–' ? '' : button.textContent;
    const field = Object.assign(document.createElement('input'), {
      className: 'form-control',
      value: before,
    });
    field.setAttribute('aria-label', button.getAttribute('aria-label'));
    field.inputMode = 'decimal';
    let open = true;
    const end = () => {
      open = false;
      field.replaceWith(button);
      button.focus();
    };
    const write = async () => {
      const { value } = field;
      end();
      const row = button.closest('tr').dataset.key;
      if (value.trim() !== before) await this.write({ row, column: button.dataset.set, value });
    };
    field.addEventListener('keydown', (e) => {
      e.stopPropagation();
      if (e.key === 'Enter') write();
      else if (e.key === 'Escape') end();
    });
    field.addEventListener('blur', () => open && write());
    button.replaceWith(field);
    field.select();
  }

  openColumns() {
    const columns = this.box.querySelector('.sheet-columns');
    if (columns) columns.open = true;
  }

  sort(column) {
    const again = this.asked.sort === column;
    // Once up, once down, then as the rows come by themselves.
    if (!again) this.set({ sort: column, down: false });
    else if (!this.asked.down) this.set({ down: true });
    else this.set({ sort: '', down: false });
  }

  clear() {
    this.asked = Object.fromEntries(REMEMBERED.filter((k) => k in this.asked).map((k) => [k, this.asked[k]]));
    return this.fetch();
  }

  /** Shows the row, whatever the filters leave out. */
  async reveal(key) {
    const shown = () => this.box.querySelector(`tr[data-key="${CSS.escape(String(key))}"]`);
    await this.fetch({ row: key });
    if (!shown()) {
      await this.clear();
      await this.fetch({ row: key });
    }
    const row = shown();
    if (row) this.asked.from = this.box.querySelector('[data-first]')?.dataset.first ?? 0;
    return row;
  }

  async copy() {
    try {
      const answer = await fetch(`${this.address}?${this.query({ as: 'text' })}`);
      if (!answer.ok) throw new Error(await answer.text());
      await navigator.clipboard.writeText(await answer.text());
      notice('Copied as text with tabs: paste it into a spreadsheet.');
    } catch (error) {
      notice(`The table cannot be copied: ${error.message}`, true);
    }
  }
}
