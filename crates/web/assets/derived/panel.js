// The formula below the map: typed, looked at at once, kept under a name.
import { ask, notice, send, token } from '../lib/common.js';
import { Latest } from '../lib/latest.js';
import { drawRamp, ends, showFormula } from './layers.js';
import { Typing } from './typing.js';

/** Milliseconds that the hand rests before the formula is looked at. */
const REST = 250;
const HEIGHT = '290px';

export class FormulaPanel {
  constructor(box, page) {
    this.box = box;
    this.page = page;
    this.look = null;
    this.asked = new Latest();
    this.of = (name) => box.querySelector(`#formula-${name}`);
    this.said = this.of('said').innerHTML;
    this.typing = new Typing(box.querySelector('.typing'), () => this.rest());
    this.form = this.of('keep');
    /** name of the raster whose formula is being changed */
    this.earlier = '';
    /** the part of the formula that is pointed at, until another one is typed */
    this.pointed = null;
    this.hear();
  }

  get open() {
    return !this.box.hidden;
  }

  hear() {
    this.form.addEventListener('submit', (e) => {
      e.preventDefault();
      this.keep();
    });
    this.of('new').addEventListener('click', () => this.begin());
    this.form.elements.name.addEventListener('input', () => this.ready());
    document.body.addEventListener('study-changed', () => {
      if (!this.open) return;
      this.fetchNames();
      this.rest(0);
    });
    this.box.addEventListener('keydown', (e) => {
      if (e.key !== 'Escape') return;
      e.stopPropagation();
      this.hide();
    });
  }

  /** A click on the page; whether it was taken. */
  click(target) {
    const edit = target.closest('[data-formula-edit]');
    if (edit) {
      this.begin(edit.dataset.formulaEdit, edit.dataset.text);
      return true;
    }
    const draw = target.closest('[data-formula-draw]');
    if (draw) {
      this.page.see([`derived-${draw.dataset.formulaDraw}`]);
      return true;
    }
    const odd = target.closest('[data-formula-odd]');
    if (odd) {
      const { x, y, from, to } = odd.dataset;
      this.pointed = { from: Number(from), to: Number(to) };
      this.typing.mark(this.pointed);
      this.page.map.goTo(Number(x), Number(y));
      return true;
    }
    if (target.closest('[data-close-formula]')) {
      this.hide();
      return true;
    }
    if (target.closest('[data-formula]')) {
      this.toggle();
      return true;
    }
    return false;
  }

  toggle() {
    if (this.open) this.hide();
    else this.show();
  }

  show() {
    if (!this.page.map.data?.rasters.dem) {
      notice('Formulas are of the prepared DEM and what follows from it: prepare it first.', true);
      return;
    }
    this.page.drawer.hide(false);
    this.box.hidden = false;
    this.box.parentElement.style.setProperty('--drawer', HEIGHT);
    this.page.map.map?.updateSize();
    document.body.dispatchEvent(new Event('formula-opened'));
    this.fetchNames();
    this.rest(0);
    this.typing.field.focus();
  }

  hide() {
    if (!this.open) return;
    this.box.hidden = true;
    this.box.parentElement.style.setProperty('--drawer', '0px');
    showFormula(this.page.map, null);
    this.page.map.map?.updateSize();
    this.page.map.target.focus();
  }

  /** Begins anew, or with a formula that is kept. */
  begin(name = '', text = '') {
    this.earlier = name;
    this.form.elements.name.value = name;
    this.of('new').hidden = !name;
    this.form.querySelector('button').textContent = name ? 'Keep the change' : 'Keep';
    this.typing.text = text;
    this.rest(0);
    this.typing.field.focus();
  }

  async fetchNames() {
    try {
      this.typing.names = await ask(`${this.page.base}/formulas/names`);
    } catch (error) {
      notice(error.message, true);
    }
  }

  /** The formula is looked at when the hand rests. */
  rest(after = REST) {
    clearTimeout(this.timer);
    this.look = null;
    this.pointed = null;
    this.ready();
    this.timer = setTimeout(() => this.see(), after);
  }

  ready() {
    this.form.querySelector('button').disabled = !this.look || !this.form.elements.name.value.trim();
  }

  /** The map was moved: the histogram is of what is in view. */
  moved() {
    if (this.open && this.look) this.see();
  }

  async see() {
    const { map } = this.page;
    const formula = this.typing.text;
    if (!this.open) return;
    if (!formula.trim()) {
      this.tell(null);
      this.of('said').innerHTML = this.said;
      this.of('said').classList.remove('warn');
      return;
    }
    const [west, south, east, north] = map.map.getView().calculateExtent(map.map.getSize());
    const slow = setTimeout(() => {
      this.of('unit').textContent = 'Computing…';
    }, 300);
    try {
      const text = await this.asked.text(`${this.page.base}/formulas/look`, {
        method: 'POST',
        headers: { 'X-Bothros-Token': token() },
        body: new URLSearchParams({ formula, west, south, east, north }),
      });
      if (text === undefined || formula !== this.typing.text) return;
      this.tell(JSON.parse(text));
    } catch (error) {
      this.tell({ error: { from: 0, to: formula.length, what: error.message } });
    } finally {
      clearTimeout(slow);
    }
  }

  /** Shows what came of it. */
  tell(look) {
    const { error } = look ?? {};
    const fine = look && !error;
    this.look = fine ? look : null;
    this.typing.mark(error ?? this.pointed);
    this.typing.field.setAttribute('aria-invalid', String(Boolean(error)));
    const said = this.of('said');
    said.classList.toggle('warn', Boolean(error));
    said.textContent = error
      ? `${error.character ? `Character ${error.character}: ` : ''}${error.what}.`
      : '';
    this.of('unit').textContent = fine ? look.unit : '';
    this.of('histogram').innerHTML = fine
      ? (look.histogram ?? '<p class="hint">No cell in view has a value.</p>')
      : '';
    this.of('figures').replaceChildren(...(fine ? look.figures.flatMap(figure) : []));
    this.of('odd').replaceChildren(...(fine ? look.odd.map(odd) : []));
    showFormula(this.page.map, this.look);
    const ramp = this.of('ramp');
    ramp.hidden = !fine;
    if (fine) {
      drawRamp(this.page.map, ramp.querySelector('canvas'));
      ends(look).forEach((text, at) => {
        ramp.querySelectorAll('span')[at].textContent = text;
      });
    }
    this.box.dataset.of = fine ? look.of : '';
    this.ready();
  }

  async keep() {
    const name = this.form.elements.name.value.trim();
    const fields = { name, formula: this.typing.text, earlier: this.earlier };
    if (!(await send(`${this.page.base}/formulas/keep`, fields))) return;
    this.begin(name, fields.formula);
  }
}

function figure([name, value]) {
  const term = Object.assign(document.createElement('dt'), { textContent: name });
  return [term, Object.assign(document.createElement('dd'), { textContent: value })];
}

function odd({ what, cells, x, y, from, to }) {
  const item = document.createElement('li');
  const show = Object.assign(document.createElement('button'), {
    type: 'button',
    className: 'btn btn-sm quiet',
    textContent: 'Show the first',
  });
  Object.assign(show.dataset, { formulaOdd: '', x, y, from, to });
  item.append(`${what} in ${cells} cells, which are none `, show);
  return item;
}
