// The page on which a sheet is laid out: parts are chosen, moved and sized by hand and by number, maps moved under
// their frames; what is seen is the sheet as it will print.
import { hearErrors, notice, query, send } from '../lib/common.js';
import { hear, listenToServer } from '../lib/events.js';
import { Latest } from '../lib/latest.js';
import { download, give } from './files.js';
import { Hold, LEAST } from './hold.js';
import { freeSize } from './page_fields.js';

hearErrors();
listenToServer();

const root = document.getElementById('sheet');
const { study, sheet } = root.dataset;
const base = `/studies/${study}/sheets/${sheet}`;
const paper = document.getElementById('paper');
const print = /** @type {HTMLImageElement} */ (document.getElementById('print'));
const EDGES = ['nw', 'n', 'ne', 'e', 'se', 's', 'sw', 'w'];
/** Resolution of what is seen, dots an inch. */
const SEEN = 96;

/** Brings the children of a box to these, and moves only those that stand elsewhere. */
function arrange(box, children) {
  [...box.children].filter((child) => !children.includes(child)).forEach((child) => child.remove());
  children.forEach((child, at) => {
    if (box.children[at] !== child) box.insertBefore(child, box.children[at] ?? null);
  });
}

class Editor {
  constructor() {
    this.paper = paper;
    this.print = print;
    this.base = base;
    this.holding = new Hold(this);
    this.state = null;
    this.chosen = null;
    /** whether the ground is moved instead of parts */
    this.moving = false;
    /** how much nearer the wheel brings the ground, and when it is sent */
    this.nearer = 1;
    this.wheeled = 0;
    this.asked = new Latest();
    this.formAsked = new Latest();
    this.checked = new Latest();
  }

  /** Pixels in a mm. */
  get scale() {
    return paper.clientWidth / this.state.page.width;
  }

  get part() {
    return this.state.parts.find(({ id }) => id === this.chosen);
  }

  /** Reads the sheet anew, and shows it. */
  async load() {
    // What is on its way was asked before the sheet was changed.
    this.formAsked.asking?.abort();
    const state = await this.asked.ask(`${base}/state`);
    if (!state) return;
    this.state = state;
    if (!this.part) this.chosen = null;
    this.fit();
    this.draw();
    this.list();
    this.fields();
    this.see();
    await this.form();
    root.dataset.version = state.version;
    document.body.dataset.ready = 'yes';
  }

  /** The page as large as there is room. */
  fit() {
    const side = paper.parentElement;
    const { width, height } = this.state.page;
    const times = Math.min((side.clientWidth - 40) / width, (side.clientHeight - 40) / height);
    paper.style.width = `${Math.max(50, width * times)}px`;
    paper.style.height = `${Math.max(50, height * times)}px`;
  }

  /** Shows the sheet as it will print, and what does not come out as it was meant. */
  see() {
    const { version, revision } = this.state;
    const address = `${base}/preview.svg?${query({ dpi: SEEN, v: `${version}.${revision}` })}`;
    if (print.dataset.at !== address) {
      print.dataset.at = address;
      paper.classList.add('working');
      print.src = address;
    }
    this.complain();
  }

  async complain() {
    const box = document.getElementById('complaints');
    try {
      const told = await this.checked.ask(`${base}/preview.svg?${query({ dpi: 30, check: true })}`);
      if (!told) return;
      box.replaceChildren(
        ...told.complaints.map((text) => Object.assign(document.createElement('li'), { textContent: text })),
      );
    } catch (error) {
      box.replaceChildren(Object.assign(document.createElement('li'), { textContent: error.message }));
    }
  }

  place(element, at) {
    const { width, height } = this.state.page;
    element.style.left = `${(100 * at.x) / width}%`;
    element.style.top = `${(100 * at.y) / height}%`;
    element.style.width = `${(100 * at.width) / width}%`;
    element.style.height = `${(100 * at.height) / height}%`;
  }

  /** Draws the frames of parts and the guides over the page; what stands there stays, for a hand may hold it. */
  draw() {
    const box = document.getElementById('parts');
    const shown = this.state.parts.filter(({ hidden }) => !hidden);
    const frames = shown.map((part) => {
      const frame = box.querySelector(`:scope > [data-part="${part.id}"]`) ?? this.frame(part);
      frame.title = part.title;
      this.hold(frame, part.id === this.chosen);
      this.place(frame, part);
      return frame;
    });
    arrange(box, frames);
    this.guides();
  }

  frame({ id, kind }) {
    const frame = document.createElement('div');
    frame.className = `piece piece-${kind}`;
    frame.dataset.part = id;
    return frame;
  }

  /** Gives a frame handles, or takes them. */
  hold(frame, held) {
    if (frame.classList.contains('held') === held) return;
    frame.classList.toggle('held', held);
    const handles = held
      ? EDGES.map((edge) => {
          const handle = document.createElement('span');
          handle.className = `handle ${edge}`;
          handle.dataset.edge = edge;
          return handle;
        })
      : [];
    frame.replaceChildren(...handles);
  }

  guides() {
    const { page, guides } = this.state;
    const box = document.getElementById('guide-lines');
    const all = guides.flatMap((places, axis) =>
      places.map((mm, at) => {
        const there = box.querySelector(`:scope > [data-axis="${axis}"][data-at="${at}"]`);
        const line = there instanceof HTMLElement ? there : document.createElement('div');
        line.className = `guide ${axis ? 'across' : 'upright'}`;
        line.dataset.axis = axis;
        line.dataset.at = at;
        const share = (100 * mm) / (axis ? page.height : page.width);
        line.style[axis ? 'top' : 'left'] = `${share}%`;
        line.title = `${Math.round(mm * 10) / 10} mm`;
        return line;
      }),
    );
    arrange(box, all);
  }

  /** The list of parts, the uppermost first. */
  list() {
    const rows = this.state.parts
      .slice()
      .reverse()
      .map((part) => {
        const row = document.createElement('li');
        const name = Object.assign(document.createElement('button'), {
          type: 'button',
          textContent: part.title,
        });
        name.className = 'part-name';
        name.dataset.choose = part.id;
        name.setAttribute('aria-pressed', String(part.id === this.chosen));
        const eye = Object.assign(document.createElement('button'), { type: 'button' });
        eye.className = 'btn btn-sm quiet';
        eye.textContent = part.hidden ? 'Show' : 'Hide';
        eye.dataset.show = part.id;
        row.classList.toggle('off', part.hidden);
        row.append(name, eye);
        return row;
      });
    document.getElementById('part-list').replaceChildren(...rows);
  }

  /** Fields that belong to the page as a whole. */
  fields() {
    const { name, page, together, undo } = this.state;
    const field = document.getElementById('sheet-name');
    if (document.activeElement !== field) field.value = name;
    document.getElementById('page-told').textContent = page.told;
    document.getElementById('together').checked = together;
    const button = document.getElementById('undo-sheet');
    button.disabled = !undo;
    button.title = undo ? `${undo} (Ctrl+Z)` : 'Nothing to undo';
  }

  /** What can be chosen of the chosen part. */
  async form() {
    const box = document.getElementById('part-form');
    if (this.chosen === null) {
      box.innerHTML = '<p class="empty">Choose a part on the page or in the list.</p>';
      return;
    }
    const chosen = this.chosen;
    const html = await this.formAsked.text(`${base}/parts/${chosen}`);
    if (html === undefined) return;
    const typing = document.activeElement;
    const here = box.contains(typing) && box.firstElementChild?.dataset.part === String(chosen);
    // What is being typed is not taken away; it comes with the next change.
    if (here && typing.matches('input, textarea') && typing.value !== typing.defaultValue) return;
    // The same as before need not be drawn anew.
    if (box.firstElementChild?.dataset.part === String(chosen) && html === this.html) return;
    this.html = html;
    const at = here ? typing.id : null;
    const { scrollTop } = box.parentElement;
    box.innerHTML = html;
    window.htmx.process(box);
    box.parentElement.scrollTop = scrollTop;
    if (at) document.getElementById(at)?.focus({ preventScroll: true });
  }

  choose(id) {
    if (id === this.chosen) return;
    this.chosen = id;
    this.leave();
    this.draw();
    this.list();
    this.form().catch((error) => notice(error.message, true));
  }

  put(at) {
    const { x, y, width, height } = at;
    return send(`${base}/parts/${this.chosen}/place`, { x, y, width, height });
  }

  /** Begins to move the ground under the chosen map. */
  enter() {
    if (this.part?.kind !== 'map' && this.part?.kind !== 'locator') return;
    this.moving = true;
    const mode = document.getElementById('sheet-mode');
    mode.textContent = 'Drag the ground; the wheel brings it nearer, Shift and drag fits a box. Esc leaves.';
    mode.hidden = false;
    paper.classList.add('moving');
    paper.focus();
  }

  leave() {
    this.moving = false;
    document.getElementById('sheet-mode').hidden = true;
    paper.classList.remove('moving');
  }

  /** A place of the pointer, in mm of the page. */
  at(event) {
    const box = paper.getBoundingClientRect();
    return [(event.clientX - box.left) / this.scale, (event.clientY - box.top) / this.scale];
  }

  async setGuides(guides) {
    this.state.guides = guides;
    this.guides();
    await send(`${base}/guides`, { points: JSON.stringify(guides) });
  }

  /** Arrow keys move the chosen part by a millimetre, with Shift by ten; with Ctrl they size it. */
  arrow(event) {
    const ways = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
    const way = ways[event.key];
    if (!way || !this.part) return false;
    const [dx, dy] = way.map((d) => d * (event.shiftKey ? 10 : 1));
    if (this.moving) {
      send(`${base}/parts/${this.chosen}/look`, { right: -dx, down: -dy });
      return true;
    }
    const { part } = this;
    if (event.ctrlKey || event.metaKey) {
      part.width = Math.max(LEAST, part.width + dx);
      part.height = Math.max(LEAST, part.height + dy);
    } else {
      part.x += dx;
      part.y += dy;
    }
    this.draw();
    clearTimeout(this.pushed);
    this.pushed = setTimeout(() => this.put(part), 250);
    return true;
  }

  async undo() {
    await send(`/studies/${study}/undo`);
  }
}

const editor = new Editor();
const again = () => editor.load().catch((error) => notice(error.message, true));

print.addEventListener('load', () => {
  paper.classList.remove('working');
  print.hidden = false;
});
// What is wrong stands in the list beside it.
print.addEventListener('error', () => {
  paper.classList.remove('working');
  print.hidden = true;
  delete print.dataset.at;
});

paper.addEventListener('pointerdown', (event) => {
  const { target } = event;
  if (event.button !== 0 || !(target instanceof HTMLElement)) return;
  const guide = target.closest('.guide');
  if (guide) {
    editor.holding.guide(event, guide);
    return;
  }
  const element = target.closest('[data-part]');
  if (!element) {
    editor.choose(null);
    return;
  }
  const id = Number(element.dataset.part);
  if (editor.moving && id === editor.chosen) {
    event.preventDefault();
    if (event.shiftKey) editor.holding.box(event);
    else editor.holding.ground(event);
    return;
  }
  const edge = target.dataset.edge ?? '';
  editor.choose(id);
  event.preventDefault();
  paper.focus({ preventScroll: true });
  // What was chosen has been drawn anew: the pointer is followed on the page itself.
  const held = { target: paper, pointerId: event.pointerId, clientX: event.clientX, clientY: event.clientY };
  editor.holding.part(held, edge);
});

paper.addEventListener(
  'wheel',
  (event) => {
    if (!editor.moving) return;
    event.preventDefault();
    const [x, y] = editor.at(event);
    editor.nearer = editor.nearer * (event.deltaY < 0 ? 1.25 : 0.8);
    clearTimeout(editor.wheeled);
    editor.wheeled = setTimeout(() => {
      const { nearer } = editor;
      editor.nearer = 1;
      send(`${base}/parts/${editor.chosen}/look`, { nearer, x, y });
    }, 200);
  },
  { passive: false },
);

document.addEventListener('keydown', (event) => {
  const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, select');
  if (event.key === 'Escape') editor.leave();
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z' && !typing) {
    event.preventDefault();
    editor.undo();
    return;
  }
  if (typing) return;
  if (event.key === '?') window.htmx.ajax('GET', '/help/sheets', '#help');
  if (event.key.toLowerCase() === 'm' && !event.ctrlKey) editor.enter();
  if (event.key === 'Delete' && editor.part) send(`${base}/parts/${editor.chosen}/delete`);
  if (editor.arrow(event)) event.preventDefault();
});

document.addEventListener('click', (event) => {
  if (!(event.target instanceof HTMLElement)) return;
  const choose = event.target.closest('[data-choose]');
  if (choose) editor.choose(Number(choose.dataset.choose));
  const show = event.target.closest('[data-show]');
  if (show) {
    const part = editor.state.parts.find(({ id }) => id === Number(show.dataset.show));
    send(`${base}/parts/${part.id}/shown`, { shown: part.hidden ? 'yes' : 'no' });
  }
  if (event.target.closest('#move-map')) editor.enter();
  if (event.target.closest('#undo-sheet')) editor.undo();
  if (event.target.closest('#sheet-help')) window.htmx.ajax('GET', '/help/sheets', '#help');
  const guide = event.target.closest('[data-guide]');
  if (guide) {
    const axis = Number(guide.dataset.guide);
    const { page, guides } = editor.state;
    const all = guides.map((places) => places.slice());
    all[axis].push(Math.round((axis ? page.height : page.width) / 3));
    editor.setGuides(all);
  }
});

document.addEventListener('submit', async (event) => {
  const form = event.target;
  if (!(form instanceof HTMLFormElement)) return;
  if (form.id === 'write-sheet') {
    event.preventDefault();
    await download(form, base);
  }
  if (form.id === 'logo-form') {
    event.preventDefault();
    await give(form, again);
  }
});

// A field that was changed is sent alone: what stands in the others may be of yesterday.
document.body.addEventListener('htmx:configRequest', ({ target, detail }) => {
  const { parameters, triggeringEvent } = detail;
  const field = triggeringEvent?.target;
  if (triggeringEvent?.type !== 'change' || !target.closest('#part-form') || !field?.name) return;
  const hidden = [...target.querySelectorAll('input[type=hidden]')].map(({ name }) => name);
  for (const name of [...Object.keys(parameters)])
    if (name !== field.name && !hidden.includes(name)) delete parameters[name];
});

for (const event of ['sheet-changed', 'study-changed']) document.body.addEventListener(event, again);
hear(({ study: of, state }) => {
  // The study is another one: what the maps show may be too.
  if (of === Number(study) && ['done', 'missed'].includes(state)) again();
});
window.addEventListener('resize', () => editor.state && editor.fit());
freeSize(document.getElementById('page-form'));
again();
