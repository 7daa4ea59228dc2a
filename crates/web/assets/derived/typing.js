// The field of a formula: names and functions are offered, what is wrong is marked under its characters.
const WORD = /[\p{L}_][\p{L}\p{N}_]*$/u;
const MOST = 8;

export class Typing {
  /**
   * @param {HTMLElement} box  the field with its mirror and its list
   * @param {() => void} changed  another formula stands there
   */
  constructor(box, changed) {
    this.field = box.querySelector('textarea');
    this.mirror = box.querySelector('.mirror');
    this.list = box.querySelector('ul');
    this.changed = changed;
    this.names = [];
    this.at = -1;
    this.field.addEventListener('input', () => {
      this.mark(null);
      this.offer();
      this.changed();
    });
    this.field.addEventListener('keydown', (e) => this.key(e));
    this.field.addEventListener('blur', () => this.close());
    this.field.addEventListener('scroll', () => {
      this.mirror.scrollTop = this.field.scrollTop;
    });
    this.list.addEventListener('pointerdown', (e) => {
      e.preventDefault();
      const item = e.target.closest('li');
      if (item) this.take(Number(item.dataset.at));
    });
  }

  get text() {
    return this.field.value;
  }

  set text(text) {
    this.field.value = text;
    this.mark(null);
    this.close();
    this.changed();
  }

  /** Underlines a part of the text; nothing where there is none. */
  mark(part) {
    this.mirror.replaceChildren();
    if (!part) return;
    const { text } = this;
    const end = Math.max(part.to, part.from + 1);
    const mark = Object.assign(document.createElement('mark'), {
      textContent: text.slice(part.from, end) || ' ',
    });
    this.mirror.append(text.slice(0, part.from), mark, text.slice(end));
    this.mirror.scrollTop = this.field.scrollTop;
  }

  /** The word that ends at the caret. */
  word() {
    const caret = this.field.selectionStart;
    const found = WORD.exec(this.text.slice(0, caret))?.[0] ?? '';
    return { found, from: caret - found.length, to: caret };
  }

  /** Offers what the word at the caret can become; everything where it is asked for. */
  offer(all = false) {
    const { found } = this.word();
    const low = found.toLowerCase();
    const fits = this.names.filter(({ name }) => name.toLowerCase().includes(low));
    const first = ({ name }) => (name.toLowerCase().startsWith(low) ? 0 : 1);
    this.offered = fits.sort((a, b) => first(a) - first(b)).slice(0, all && !found ? fits.length : MOST);
    const done = this.offered.length === 1 && this.offered[0].name === found;
    if ((!found && !all) || !this.offered.length || done) {
      this.close();
      return;
    }
    this.list.replaceChildren(...this.offered.map((name, at) => this.item(name, at)));
    this.list.hidden = false;
    this.field.setAttribute('aria-expanded', 'true');
    this.point(all ? 0 : -1);
  }

  item({ name, kind, unit, told }, at) {
    const item = document.createElement('li');
    item.id = `formula-offer-${at}`;
    item.dataset.at = String(at);
    item.setAttribute('role', 'option');
    const strong = Object.assign(document.createElement('strong'), {
      textContent: kind === 'function' ? `${name}( )` : name,
    });
    const more = Object.assign(document.createElement('span'), {
      textContent: unit ? `${told}, ${unit}` : told,
    });
    item.append(strong, more);
    return item;
  }

  point(at) {
    this.at = at;
    [...this.list.children].forEach((item, n) => item.setAttribute('aria-selected', String(n === at)));
    const item = this.list.children[at];
    if (item) this.field.setAttribute('aria-activedescendant', item.id);
    else this.field.removeAttribute('aria-activedescendant');
    item?.scrollIntoView({ block: 'nearest' });
  }

  close() {
    this.list.hidden = true;
    this.at = -1;
    this.field.setAttribute('aria-expanded', 'false');
    this.field.removeAttribute('aria-activedescendant');
  }

  /** Puts what was offered in the place of the word. */
  take(at) {
    const { name, kind } = this.offered[at];
    const { from, to } = this.word();
    const call = kind === 'function' && this.text[to] !== '(';
    this.field.setRangeText(call ? `${name}()` : name, from, to, 'end');
    if (call) this.field.setSelectionRange(from + name.length + 1, from + name.length + 1);
    this.close();
    this.field.focus();
    this.mark(null);
    this.changed();
  }

  key(e) {
    if (e.ctrlKey && e.key === ' ') {
      e.preventDefault();
      this.offer(true);
      return;
    }
    if (this.list.hidden) return;
    const count = this.offered.length;
    const does = {
      ArrowDown: () => this.point((this.at + 1) % count),
      ArrowUp: () => this.point((this.at - 1 + count) % count),
      Escape: () => this.close(),
      Enter: () => this.take(Math.max(this.at, 0)),
      Tab: () => this.take(Math.max(this.at, 0)),
    }[e.key];
    if (!does) return;
    // Enter begins a line where nothing is pointed at.
    if (e.key === 'Enter' && this.at < 0) return;
    e.preventDefault();
    e.stopPropagation();
    does();
  }
}
