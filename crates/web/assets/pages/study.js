// The study page: stages, desk, map, log and keys held together. What a stage does is its own affair.
import { ask, hearErrors, notice, send } from '../lib/common.js';
import { hear, listenToServer } from '../lib/events.js';
import { hearCharts } from '../lib/chart.js';
import { keepFolds } from '../lib/folds.js';
import { Latest } from '../lib/latest.js';
import { takeSending } from '../lib/sending.js';
import { LayerList } from '../map/layer_list.js';
import { FormulaPanel } from '../derived/panel.js';
import { StudyMap } from '../map/map.js';
import { MapList } from '../map/list.js';
import { Pen } from '../map/pen.js';
import { ReadOut } from '../map/readout.js';
import { STAGES } from '../stages/registry.js';
import { hearChoices } from './choices.js';
import { Drawer } from './drawer.js';
import { followDrop } from './drop.js';
import { Hands } from './hands.js';
import { Progress } from './progress.js';
import { perspectiveOf } from '../map/perspective.js';
import { Sections } from './sections.js';

const shell = document.getElementById('study');
const study = shell.dataset.study;
const base = `/studies/${study}`;
const desk = document.getElementById('desk');
const target = document.getElementById('map');
const state = document.getElementById('map-state');
const map = new StudyMap(target, study);
const address = new URLSearchParams(location.search);
const drawnAt = Object.fromEntries(STAGES.map(({ key, drawn }) => [key, drawn.slice()]));
let mode = null;
let finding = -1;

hearErrors();
hearCharts();
keepFolds();
hearChoices(desk);
map.onProblem = (text) => notice(text, true);
const resize = () => queueMicrotask(() => map.map?.updateSize());
document.addEventListener('alpine:init', () =>
  window.Alpine.data('shell', () => ({
    folded: false,
    logged: false,
    get unfolded() {
      return String(!this.folded);
    },
    fold() {
      this.folded = !this.folded;
      resize();
    },
    init() {
      shell.addEventListener('fold-desk', () => this.fold());
      shell.addEventListener('open-log', () => {
        this.logged = !this.logged;
        resize();
      });
    },
  })),
);

// ---- what stages and the map's parts are given ----
const page = {
  base,
  map,
  desk,
  stage: shell.dataset.stage,
  parts: { base, map, desk },
  enter,
  leave,
  choose,
  fetchDesk,
  refreshParts,
  openStage,
  drawList: () => list.draw(),
  /** Turns layers on, and shows that they are. */
  see(keys) {
    for (const key of keys) map.toggle(key, true);
    shown();
  },
  shown,
};
if (address.has('draw')) drawnAt[page.stage] = address.get('draw').split(',').filter(Boolean);
page.pen = new Pen(page);
const list = new MapList(document.getElementById('drawn'), map, shown, addLayer);
map.perspective = perspectiveOf(map);
map.onPointed = (geometry) => list.aside(geometry);
const readout = new ReadOut(document.getElementById('readout'), map, base);
const progress = new Progress({ refreshParts, fetchDesk });
const parts = new Map(STAGES.map((s) => [s.key, s.begin?.(page) ?? {}]));
const everywhere = [page.pen, new LayerList(page)];
const here = () => parts.get(page.stage);
const deskAsked = new Latest();
const hands = new Hands(desk, fetchDesk);
const sections = new Sections(desk, () => remember());
if (address.has('section')) sections.shown[page.stage] = address.get('section');
page.sections = sections;
const drawer = new Drawer(document.getElementById('drawer'), page);
page.drawer = drawer;
const formula = new FormulaPanel(document.getElementById('formula'), page);
page.formula = formula;
page.under = (pixel) => here().under?.(pixel);
page.shapeOf = (table, key) => here().shapeOf?.(table, key);

/** What is drawn was changed by the analyst. */
function shown() {
  drawnAt[page.stage] = [...map.shown];
  list.draw();
  remember();
}

/** Shows where layers are added, whatever section of the desk is open. */
function addLayer() {
  const form = desk.querySelector('#add-layer');
  if (!form) {
    notice('Layers are laid onto the prepared DEM: prepare it first.', true);
    return;
  }
  if (shell.classList.contains('folded')) shell.dispatchEvent(new Event('fold-desk'));
  sections.reveal(form);
  form.scrollIntoView({ block: 'nearest' });
  form.querySelector('select').focus();
}

// ---- address ----
function remember() {
  const q = new URLSearchParams({ stage: page.stage });
  const view = map.map?.getView();
  if (view?.getCenter()) {
    const [x, y] = view.getCenter();
    q.set('x', String(+x.toPrecision(10)));
    q.set('y', String(+y.toPrecision(10)));
    q.set('r', String(+view.getResolution().toPrecision(6)));
  }
  if (sections.key) q.set('section', sections.key);
  q.set('draw', [...map.shown].join());
  history.replaceState(null, '', `${base}/?${q}`);
}

// ---- desk ----
async function openStage(next, focus = false) {
  here().left?.();
  page.stage = next;
  shell.dataset.stage = next;
  finding = -1;
  leave();
  map.unmark();
  map.drawOnly(drawnAt[next]);
  map.setQuiet(next !== STAGES[0].key);
  await Promise.all([fetchDesk(), openDrawer(next)]);
  markStage();
  list.draw();
  remember();
  if (focus) desk.focus();
}

async function openDrawer(next) {
  try {
    await drawer.at(next);
  } catch (error) {
    notice(error.message, true);
  }
}

/** Fetches the desk anew; whether it was exchanged, and not put off. */
async function fetchDesk() {
  const wanted = page.stage;
  const { made } = hands;
  desk.setAttribute('aria-busy', 'true');
  let html;
  try {
    html = await deskAsked.text(`${base}/desk/${wanted}`);
  } catch (error) {
    desk.removeAttribute('aria-busy');
    notice(error.message, true);
  }
  // Another one is on its way, or another stage was opened.
  if (html === undefined || wanted !== page.stage) return false;
  desk.removeAttribute('aria-busy');
  if (desk.dataset.stage === wanted) return hands.exchange(made, () => showDesk(html));
  showDesk(html);
  return true;
}

function showDesk(html) {
  const wanted = page.stage;
  const top = desk.scrollTop;
  desk.innerHTML = html;
  window.htmx.process(desk);
  sections.begin(wanted);
  desk.scrollTop = desk.dataset.stage === wanted ? top : 0;
  desk.dataset.stage = wanted;
  takeSending(desk);
  for (const part of everywhere) part.prepare?.();
  here().prepare?.();
}

function markStage() {
  for (const item of document.querySelectorAll('#rail .stage')) {
    const current = item.dataset.stage === page.stage;
    item.classList.toggle('here', current);
    const link = item.querySelector('a');
    if (current) link.setAttribute('aria-current', 'step');
    else link.removeAttribute('aria-current');
  }
}

function refreshParts() {
  document.body.dispatchEvent(new Event('refresh-rail'));
  document.body.dispatchEvent(new Event('refresh-log'));
}

/** How far the study is that the page shows: its revision, and the job that waits or runs. */
let known = null;
const now = async () => JSON.stringify(await ask(`${base}/revision`));

/** Something may have happened unheard: what is shown is fetched anew if it is not what there is. */
async function lookForMissed() {
  try {
    if ((await now()) !== known) await refreshAll();
  } catch {
    /* the server is away; it is looked for again when it answers */
  }
}

async function refreshAll() {
  known = await now().catch(() => null);
  refreshParts();
  drawer.refresh();
  await Promise.all([fetchDesk(), loadMap()]);
}

document.body.addEventListener('htmx:afterSwap', (e) => {
  if (e.target.id === 'rail') markStage();
  if (e.target.id === 'log') progress.again();
});
document.body.addEventListener('study-changed', refreshAll);
document.body.addEventListener('threshold-changed', async () => {
  refreshParts();
  const fresh = await fetchDesk();
  const t = fresh && document.getElementById('threshold');
  // Streams may begin otherwise than before, at the same threshold.
  const told = await ask(`${base}/map`);
  if (map.data) map.data.begun = told.begun;
  map.rest(t ? Number(t.dataset.cells) : told.threshold_cells);
});
document.body.addEventListener('trials-changed', refreshParts);
document.body.addEventListener('shortfalls-changed', refreshParts);
// What became of what was asked for, where the answer tells more than that it was done.
document.body.addEventListener('htmx:afterRequest', (e) => {
  const told = e.detail.xhr?.getResponseHeader('X-Told');
  if (told) notice(decodeURIComponent(told));
});
document.body.addEventListener('undone', (e) => notice(`Undone: ${e.detail.value}`));

// ---- map ----
async function loadMap() {
  const view = map.map ? null : ['x', 'y', 'r'].map((k) => (address.has(k) ? Number(address.get(k)) : NaN));
  try {
    const there = await map.load(view);
    state.textContent = there ? '' : 'No terrain to show yet. The desk tells what comes next.';
    if (there && !map.onMove) hearMap();
    list.draw();
  } catch (error) {
    state.textContent = error.message;
  }
}

function hearMap() {
  map.onMove = () => {
    remember();
    here().moved?.();
    formula.moved();
    map.refresh('view');
  };
  map.onStyled = () => list.draw();
  map.map.on('pointermove', (e) => {
    if (!e.dragging) readout.at(e.coordinate);
    if (!e.dragging) mode?.hover?.(e.coordinate);
    drawer.pointed(e);
  });
  map.map.on('singleclick', (e) => {
    if (mode) useMode(e.coordinate);
    else here().pick?.(e);
  });
}

// ---- modes: what the next click on the map is for ----
function enter(what, text) {
  mode = what;
  const box = document.getElementById('mode');
  box.textContent = text;
  box.hidden = false;
  target.classList.add('placing');
  target.focus();
}

function leave() {
  page.pen.stop();
  if (mode?.hover) map.point(null);
  mode = null;
  document.getElementById('mode').classList.remove('warns');
  document.getElementById('mode').hidden = true;
  target.classList.remove('placing');
  document.getElementById('goto').hidden = true;
}

async function useMode([x, y]) {
  if (mode.drawing) return;
  const { place } = mode;
  leave();
  await place([x, y]);
}

// ---- clicks ----
document.addEventListener('click', (e) => {
  const go = e.target.closest('[data-go]');
  if (go) {
    e.preventDefault();
    openStage(go.dataset.go, true);
    return;
  }
  if (e.target.closest('[data-log]')) {
    shell.dispatchEvent(new Event('open-log'));
    return;
  }
  const table = e.target.closest('[data-open-table]');
  if (table) {
    if (table.closest('#measured')) document.getElementById('measured').replaceChildren();
    drawer.show(table.dataset.openTable, table.dataset.row);
    return;
  }
  const seen = e.target.closest('[data-see]');
  if (seen) {
    page.see(seen.dataset.see.split(','));
    return;
  }
  if (e.target.closest('#help-button')) {
    help();
    return;
  }
  const abort = e.target.closest('[data-abort]');
  if (abort) {
    window.htmx.trigger(document.getElementById(abort.dataset.abort), 'htmx:abort');
    const { back } = abort.dataset;
    abort.closest('p').textContent = 'Cancelled.';
    // What stood there before.
    if (back) window.htmx.ajax('GET', back, '#evidence');
    return;
  }
  if ([formula, ...everywhere, ...parts.values()].some((part) => part.click?.(e.target))) return;
  // A link to a place leads there inside a form too.
  const control = e.target.closest('a[data-x], button, summary, input, select, form');
  if (control && !control.matches('a[data-x]')) return;
  const place = e.target.closest('a[data-x], tr[data-x], li[data-x]');
  if (!place || !map.map) return;
  if (place.tagName === 'A') e.preventDefault();
  choose(place);
});

/** Chooses a row of the desk, and goes to its place. */
function choose(element, go = true) {
  for (const other of desk.querySelectorAll('.chosen')) other.classList.remove('chosen');
  const { table } = element.closest('[data-table]')?.dataset ?? {};
  if (table) drawer.mark(table, element.dataset.key);
  else element.classList.add('chosen');
  if (!table) sections.reveal(element);
  element.scrollIntoView({ block: 'nearest' });
  if ([...parts.values()].some((part) => part.chosen?.(element, go))) return;
  if (go && 'x' in element.dataset) map.goTo(Number(element.dataset.x), Number(element.dataset.y));
}

document.getElementById('goto').addEventListener('submit', async (e) => {
  e.preventDefault();
  try {
    const text = document.getElementById('goto-text').value;
    const p = await ask(`${base}/find?text=${encodeURIComponent(text)}`);
    document.getElementById('goto').hidden = true;
    map.goTo(p.x, p.y);
  } catch (error) {
    notice(error.message, true);
  }
});

// ---- keys ----
const help = () => window.htmx.ajax('GET', `/help/${page.stage}`, '#help');

function nextFinding(back) {
  const rows = [...desk.querySelectorAll('[data-finding], .finding[data-x]')];
  const all = [...(here().findings?.() ?? []), ...rows.map((row) => () => choose(row))];
  if (!all.length || !map.map) return;
  finding = (finding + (back ? -1 : 1) + all.length) % all.length;
  all[finding]();
}

/** Keys that work on every stage: the page's own, the map's, and those that stages have registered. */
const KEYS = {
  '?': help,
  '/': () => {
    document.getElementById('goto').hidden = false;
    document.getElementById('goto-text').focus();
  },
  m: () => page.pen.measure(),
  d: () => followDrop(page),
  t: () => drawer.toggle(),
  '=': (e) => {
    e.preventDefault();
    formula.toggle();
  },
  ',': () => sections.step(-1),
  '.': () => sections.step(1),
  f: () => shell.dispatchEvent(new Event('fold-desk')),
  l: () => shell.dispatchEvent(new Event('open-log')),
  x: () => readout.copy(),
  0: () => map.zooming?.do('whole'),
  z: () => map.zooming?.do('box'),
  v: () => map.zooming?.do('back'),
  o: () => map.perspective?.toggle(),
  n: (e) => nextFinding(e.shiftKey),
};
STAGES.forEach((s, at) => {
  KEYS[at + 1] = () => openStage(s.key, true);
  Object.assign(KEYS, s.keys?.(page, parts.get(s.key)));
});

document.addEventListener('keydown', (e) => {
  if (e.key === 'Escape') {
    map.zooming?.endBox();
    map.perspective?.close();
    leave();
    map.unmark();
    document.getElementById('measured').replaceChildren();
    return;
  }
  if (page.pen.key(e)) {
    e.preventDefault();
    return;
  }
  const writing = e.target.closest('input[type=text], input:not([type]), textarea');
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z' && writing?.value === writing?.defaultValue) {
    e.preventDefault();
    send(`${base}/undo`);
    return;
  }
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.target.closest('input:not([type=range]):not([type=checkbox]), textarea, select')) return;
  if (e.key === 'Enter' && mode && document.activeElement === target) {
    useMode(map.map.getView().getCenter());
    return;
  }
  if (e.key === 'Enter' && e.target.matches('[data-x]')) {
    choose(e.target);
    return;
  }
  if (here().key?.(e)) return;
  const done = KEYS[e.key] ?? KEYS[e.key.toLowerCase()];
  if (!done) return;
  if (e.key === '/') e.preventDefault();
  done(e);
});

// ---- events of the server ----
function listen() {
  hear((e) => {
    if (e.state === 'missed') {
      lookForMissed();
      return;
    }
    if (!e.job || e.study !== Number(study)) return;
    if (progress.tell(e)) return;
    if (e.state === 'done') notice(e.message);
    if (e.state === 'failed' || e.state === 'interrupted') notice(e.message, true);
    if (e.state === 'cancelled') notice('Cancelled; nothing was changed.');
    refreshAll();
  });
  listenToServer();
}

window.bothrosMap = map; // for the tests, which look at what is drawn
known = await now().catch(() => null);
await loadMap();
await openStage(page.stage);
listen();
document.body.dataset.ready = 'yes';
