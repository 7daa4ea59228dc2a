// The study page: stages, desk, map, log and keys held together.
import { ask, hearErrors, notice, send } from '../lib/common.js';
import { Conditioning } from '../stages/conditioning/conditioning.js';
import { Terrain } from '../stages/terrain/terrain.js';
import { Backdrops } from '../map/backdrops.js';
import { Threshold } from '../stages/network/threshold.js';
import { hear, listenToServer } from '../lib/events.js';
import { DRAWN_AT, StudyMap, area, keyOf } from '../map/map.js';

const shell = document.getElementById('study');
const study = shell.dataset.study;
const base = `/studies/${study}`;
const desk = document.getElementById('desk');
const target = document.getElementById('map');
const state = document.getElementById('map-state');
const map = new StudyMap(target, study);
const STAGES = ['terrain', 'conditioning', 'network', 'catchments', 'handover'];
const address = new URLSearchParams(location.search);
let stage = shell.dataset.stage;
let mode = null;
let pointer = null;
let finding = -1;
const drawnAt = structuredClone(DRAWN_AT);
if (address.has('draw')) drawnAt[stage] = address.get('draw').split(',').filter(Boolean);

hearErrors();
map.onProblem = (text) => notice(text, true);
document.addEventListener('alpine:init', () => window.Alpine.data('shell', () => ({
  folded: false, logged: false,
  get unfolded() { return String(!this.folded); },
  fold() { this.folded = !this.folded; queueMicrotask(() => map.map?.updateSize()); },
  init() {
    shell.addEventListener('fold-desk', () => this.fold());
    shell.addEventListener('open-log', () => { this.logged = !this.logged; queueMicrotask(() => map.map?.updateSize()); });
  },
})));

// ---- address ----
function remember() {
  const q = new URLSearchParams({ stage });
  const view = map.map?.getView();
  if (view?.getCenter()) {
    const [x, y] = view.getCenter();
    q.set('x', +x.toPrecision(10));
    q.set('y', +y.toPrecision(10));
    q.set('r', +view.getResolution().toPrecision(6));
  }
  q.set('draw', [...map.shown].join());
  history.replaceState(null, '', `${base}/?${q}`);
}

// ---- desk ----
async function openStage(next, focus = false) {
  stage = next;
  shell.dataset.stage = stage;
  finding = -1;
  leave();
  map.unmark();
  map.shown = new Set(drawnAt[stage]);
  if (map.map) map.show();
  map.redrawStreams();
  map.redrawSides();
  map.redrawWays();
  await fetchDesk();
  markStage();
  drawList();
  remember();
  if (focus) desk.focus();
}

async function fetchDesk() {
  const wanted = stage;
  const answer = await fetch(`${base}/desk/${wanted}`);
  const html = await answer.text();
  if (wanted !== stage) return;
  if (!answer.ok) { notice(html, true); return; }
  const top = desk.scrollTop;
  desk.innerHTML = html;
  window.htmx.process(desk);
  desk.scrollTop = desk.dataset.stage === stage ? top : 0;
  desk.dataset.stage = stage;
  threshold.prepare();
  prepareStretch();
  if (stage === 'conditioning' || stage === 'terrain') conditioning.prepare();
  if (stage === 'terrain') { terrain.prepare(); backdrops.prepare(); } else { terrain.outline(); terrain.prepareSending(); }
}

function markStage() {
  for (const item of document.querySelectorAll('#rail .stage')) {
    const here = item.dataset.stage === stage;
    item.classList.toggle('here', here);
    const link = item.querySelector('a');
    if (here) link.setAttribute('aria-current', 'step'); else link.removeAttribute('aria-current');
  }
}

function refreshParts() {
  document.body.dispatchEvent(new Event('refresh-rail'));
  document.body.dispatchEvent(new Event('refresh-log'));
}

async function refreshAll() {
  refreshParts();
  await Promise.all([fetchDesk(), loadMap()]);
}

document.body.addEventListener('htmx:afterSwap', (e) => {
  if (e.target.id === 'rail') markStage();
  if (e.target.id === 'log') progressed = null;
});
document.body.addEventListener('study-changed', refreshAll);
document.body.addEventListener('threshold-changed', async () => {
  refreshParts();
  await fetchDesk();
  const t = document.getElementById('threshold');
  map.rest(t ? Number(t.dataset.cells) : (await ask(`${base}/map`)).threshold_cells);
});
document.body.addEventListener('trials-changed', refreshParts);
document.body.addEventListener('shortfalls-changed', refreshParts);
document.body.addEventListener('points-changed', () => { refreshParts(); fetchDesk(); map.loadCatchments(); });
document.body.addEventListener('undone', (e) => notice(`Undone: ${e.detail.value}`));

// ---- map ----
async function loadMap() {
  const view = map.map ? null : ['x', 'y', 'r'].map((k) => (address.has(k) ? Number(address.get(k)) : NaN));
  try {
    const there = await map.load(view);
    state.textContent = there ? '' : 'No terrain to show yet. The desk tells what comes next.';
    if (there && !map.onMove) {
      map.onMove = () => { remember(); terrain.extent(); if (map.shown.has('streams')) map.redrawStreams(); map.redrawSides(); map.loadFeatures(); map.views.contours().catch((e) => notice(e.message, true)); };
      map.onStyled = drawList;
      map.map.on('pointermove', (e) => { if (!e.dragging) { pointer = e.coordinate; readOut(); } });
      map.map.on('singleclick', (e) => { if (mode) useMode(e.coordinate); else if (stage === 'conditioning') conditioning.pick(e.coordinate); else if (stage === 'network') pickReach(e.pixel); });
    }
    drawList();
  } catch (error) {
    state.textContent = error.message;
  }
}

function drawList() {
  const box = document.getElementById('drawn');
  box.replaceChildren();
  if (!map.map) return;
  const title = document.createElement('h2');
  title.textContent = 'Drawn';
  box.append(title);
  const add = document.createElement('details');
  add.className = 'add';
  add.open = adding;
  add.addEventListener('toggle', () => { adding = add.open; });
  const more = document.createElement('summary');
  more.textContent = 'Add to the map';
  add.append(more);
  for (const { key, name } of map.list()) {
    if (!map.layers[key]) continue;
    const label = document.createElement('label');
    const tick = document.createElement('input');
    tick.type = 'checkbox';
    tick.checked = map.shown.has(key);
    tick.dataset.layer = key;
    tick.addEventListener('change', () => { map.toggle(key, tick.checked); drawnAt[stage] = [...map.shown]; drawList(); remember(); box.querySelector(`[data-layer=${key}]`).focus(); });
    label.append(tick, name);
    if (!tick.checked) { add.append(label); continue; }
    box.append(label);
    const k = keyOf(key, map);
    if (key === 'cells' && map.layers.area) {
      const choose = document.createElement('select');
      choose.setAttribute('aria-label', 'Value shown in cells');
      for (const what of ['elevation', 'accumulation']) choose.add(new Option(what, what, false, map.cellsOf === what));
      choose.addEventListener('change', () => { map.cellsOf = choose.value; map.map.render(); });
      k.append(choose);
    }
    const how = map.views.controls(key);
    if (how) k.append(how);
    box.append(k);
  }
  box.append(add);
}
let adding = false;

// ---- read-out ----
let reading = false;
let readAgain = false;
const WAYS = { 1: 'E', 2: 'SE', 4: 'S', 8: 'SW', 16: 'W', 32: 'NW', 64: 'N', 128: 'NE', 0: 'outlet' };
let under = null;
async function readOut() {
  if (reading) { readAgain = true; return; }
  reading = true;
  try {
    const [x, y] = pointer;
    const c = await ask(`${base}/cell?x=${x}&y=${y}`);
    under = c;
    const parts = [];
    const degrees = map.data.crs?.degrees;
    if (!degrees) parts.push(`E ${x.toFixed(1)} N ${y.toFixed(1)}${map.data.crs?.epsg ? ` (EPSG:${map.data.crs.epsg})` : ''}`);
    if (c.lat != null) parts.push(`${Math.abs(c.lat).toFixed(5)}° ${c.lat < 0 ? 'S' : 'N'} ${Math.abs(c.lon).toFixed(5)}° ${c.lon < 0 ? 'W' : 'E'}`);
    if (c.elevation_m != null) parts.push(c.fill_m > 0 ? `${c.elevation_m.toFixed(2)} m, filled to ${(c.elevation_m + c.fill_m).toFixed(2)} m` : `${c.elevation_m.toFixed(2)} m`);
    else if (c.row != null) parts.push('no elevation');
    if (c.area_m2 != null) parts.push(c.method ? `${area(c.area_m2)} by ${c.method}, carried down along D8` : `drains ${area(c.area_m2)}`, WAYS[c.direction] === 'outlet' ? 'outlet' : `to ${WAYS[c.direction]}`);
    if (c.weighted != null) parts.push(`${c.weighted.toLocaleString('en', { maximumSignificantDigits: 5 }).replaceAll(',', '\u202F')} (${c.weighted_of ?? 'weights'}, itself counted)`);
    if (c.order != null) parts.push(`order ${c.order}`);
    document.getElementById('readout').replaceChildren(...parts.map((p) => { const s = document.createElement('span'); s.textContent = p; return s; }));
  } catch { /* the pointer has moved on; the next reading tells */ }
  reading = false;
  if (readAgain) { readAgain = false; readOut(); }
}

// ---- modes: place and move pour points ----
function enter(what, text) {
  mode = what;
  const box = document.getElementById('mode');
  box.textContent = text;
  box.hidden = false;
  target.classList.add('placing');
  target.focus();
}
function leave() {
  conditioning.stop();
  mode = null;
  document.getElementById('mode').hidden = true;
  target.classList.remove('placing');
  document.getElementById('goto').hidden = true;
}
async function useMode([x, y]) {
  const m = mode;
  if (m.drawing) return;
  leave();
  if (m.place) { await m.place([x, y]); return; }
  await send(m.move ? `${base}/pour-points/${m.move}/move` : `${base}/pour-points`, { x, y });
}
async function placeMode() {
  if (!map.layers.catchments) { notice('Pour points need flow directions: fill sinks and route flow first.', true); return; }
  if (stage !== 'catchments') await openStage('catchments');
  enter({}, 'Click where the catchment is asked for, or press Enter for the middle of the map. Esc leaves.');
}

// ---- threshold ----
const threshold = new Threshold({ base, map, desk });

function prepareStretch() {
  const box = document.getElementById('stretch');
  if (!box) return;
  const [low, high] = ['stretch-low', 'stretch-high'].map((id) => document.getElementById(id));
  if (map.stretch) [low.value, high.value] = map.stretch;
  const tell = () => {
    for (const i of [low, high]) i.nextElementSibling.textContent = area(10 ** Number(i.value) * (map.data?.cell_area_m2 ?? 1));
  };
  for (const i of [low, high]) i.addEventListener('input', () => { map.setStretch(Number(low.value), Number(high.value)); tell(); drawList(); });
  tell();
}

/** A click on a stream finds it in the table of reaches. */
function pickReach(pixel) {
  const found = map.map.forEachFeatureAtPixel(pixel, (f) => f.get('id'), { layerFilter: (l) => l === map.layers.streams, hitTolerance: 5 });
  if (!found || !document.getElementById('reaches')) return;
  window.htmx.ajax('GET', `${base}/reaches?reach=${found}`, '#reaches').then(() => document.querySelector('#reaches .chosen')?.scrollIntoView({ block: 'nearest' }));
}

/** Prunes, begins a stream, or sets another threshold inside an area, by hand. */
function editStreams(kind) {
  const reason = document.getElementById('edit-reason').value.trim();
  const hectares = document.getElementById('edit-hectares').value.trim();
  if (!reason) { notice('Say why first: the reason stands in the log beside the change.', true); document.getElementById('edit-reason').focus(); return; }
  if (kind === 'within' && !hectares) { notice('Give the threshold that holds inside the area first.', true); document.getElementById('edit-hectares').focus(); return; }
  const keep = (points) => send(`${base}/edits`, { kind, reason, hectares, line: JSON.stringify(points) });
  if (kind === 'within') conditioning.drawing('Draw the area; double click or Enter ends it. Esc leaves.', keep, 'Polygon');
  else enter({ place: (at) => keep([at]) }, kind === 'prune' ? 'Click the stream: from there upwards it is taken away. Esc leaves.' : 'Click where a stream begins. Esc leaves.');
}

function compareTrials() {
  const ticked = [...desk.querySelectorAll('#compare-form input:checked')].map((i) => i.value);
  if (ticked.length < 2 || ticked.length > 4) { notice('Tick two to four trials to compare; the mapped streams may be one of them.', true); return; }
  location.href = `${base}/compare?trials=${ticked.join()}`;
}
desk.addEventListener('submit', (e) => { if (e.target.id === 'compare-form') { e.preventDefault(); compareTrials(); } });

// ---- jobs ----
let progressed = null;
function listen() {
  hear((e) => {
    // A server that starts again may have moved on meanwhile.
    if (e.state === 'missed') { refreshAll(); return; }
    if (!e.job || e.study !== Number(study)) return;
    if (e.state === 'queued' || e.state === 'running') {
      const bar = document.getElementById('job-progress');
      if (!bar) { if (progressed !== e.job) { progressed = e.job; refreshParts(); fetchDesk(); } return; }
      bar.value = e.progress;
      document.getElementById('job-share').textContent = `${Math.round(e.progress * 100)} %`;
      document.getElementById('job-message').textContent = e.message;
      told ??= { at: performance.now(), from: e.progress };
      const passed = (performance.now() - told.at) / 1000;
      const rate = (e.progress - told.from) / passed;
      document.getElementById('job-left').textContent = rate > 0 && passed > 1.5 ? `about ${Math.max(1, Math.round((1 - e.progress) / rate))} s left` : '';
      return;
    }
    told = null;
    progressed = null;
    if (e.state === 'done') notice(e.message);
    if (e.state === 'failed' || e.state === 'interrupted') notice(e.message, true);
    if (e.state === 'cancelled') notice('Cancelled; nothing was changed.');
    refreshAll();
  });
  listenToServer();
}
let told = null;

// ---- clicks ----
document.addEventListener('click', async (e) => {
  const go = e.target.closest('[data-go]');
  if (go) { e.preventDefault(); openStage(go.dataset.go, true); return; }
  if (e.target.closest('[data-log]')) { shell.dispatchEvent(new Event('open-log')); return; }
  if (e.target.closest('#help-button')) { window.htmx.ajax('GET', `/help/${stage}`, '#help'); return; }
  if (e.target.closest('[data-place]')) { placeMode(); return; }
  const abort = e.target.closest('[data-abort]');
  if (abort) { window.htmx.trigger(document.getElementById(abort.dataset.abort), 'htmx:abort'); abort.closest('p').textContent = 'Cancelled.'; return; }
  const editing = e.target.closest('[data-edit-stream]');
  if (editing) { editStreams(editing.dataset.editStream); return; }
  const seen = stage === 'network' && e.target.closest('[data-see]');
  if (seen) { see(seen.dataset.see.split(',')); return; }
  const move = e.target.closest('[data-move]');
  if (move) { enter({ move: move.dataset.move }, `Click where ${move.dataset.name} belongs. Esc leaves.`); return; }
  const crs = e.target.closest('button.crs');
  if (crs) {
    const list = crs.closest('.crs-list');
    if (list.dataset.post) { send(list.dataset.post, { crs: crs.dataset.crs }); return; }
    const answer = await fetch(`${list.dataset.plan}?crs=${encodeURIComponent(crs.dataset.crs)}`);
    const text = await answer.text();
    if (!answer.ok) { notice(text, true); return; }
    list.closest('form').querySelector('#offer').innerHTML = text;
    list.closest('details').open = false;
    list.closest('form').dispatchEvent(new Event('change'));
    return;
  }
  if (conditioning.click(e.target)) return;
  if (e.target.closest('button, summary, input, select, form')) return;
  const place = e.target.closest('a[data-x], tr[data-x], li[data-x]');
  if (place && map.map) {
    if (place.tagName === 'A') e.preventDefault();
    choose(place);
  }
});

function choose(element, go = true) {
  for (const other of desk.querySelectorAll('.chosen')) other.classList.remove('chosen');
  element.classList.add('chosen');
  element.scrollIntoView({ block: 'nearest' });
  const barrier = 'barrierRow' in element.dataset;
  if (go) map.goTo(Number(element.dataset.x), Number(element.dataset.y), !barrier, barrier ? 0.4 : 1.5);
  if (element.dataset.barrierRow) { map.unmark(); conditioning.show(element.dataset.barrierRow, go); }
}

const terrain = new Terrain({ base, map, desk });
/** Turns layers on, and shows that they are. */
function see(keys) {
  for (const key of keys) map.toggle(key, true);
  drawnAt[stage] = [...map.shown];
  drawList();
  remember();
}

const backdrops = new Backdrops({
  base, map, desk, leave: () => leave(), onClick: (text, then) => enter({ place: then }, text),
  onShown: () => { drawnAt[stage] = [...map.shown]; drawList(); remember(); },
});

const conditioning = new Conditioning({ base, map, desk, enter, leave: () => leave(), choose, fetchDesk, refreshParts, see });

document.getElementById('goto').addEventListener('submit', async (e) => {
  e.preventDefault();
  try {
    const p = await ask(`${base}/find?text=${encodeURIComponent(document.getElementById('goto-text').value)}`);
    document.getElementById('goto').hidden = true;
    map.goTo(p.x, p.y);
  } catch (error) { notice(error.message, true); }
});

// ---- keys ----
document.addEventListener('keydown', async (e) => {
  if (e.key === 'Escape') { leave(); map.unmark(); document.getElementById('measured').replaceChildren(); return; }
  if (conditioning.pen && ((e.ctrlKey && e.key === 'z') || e.key === 'Backspace')) { e.preventDefault(); conditioning.back(); return; }
  if ((e.key === 'Delete' || e.key === 'Backspace') && !e.target.closest('input, textarea, select') && conditioning.deleteSelected()) { e.preventDefault(); return; }
  if (conditioning.pen && e.key === 'Enter') { conditioning.finish(); return; }
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z' && !e.target.closest('input[type=text], input:not([type]), textarea')) { e.preventDefault(); send(`${base}/undo`); return; }
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  const typing = e.target.closest('input:not([type=range]):not([type=checkbox]), textarea, select');
  if (typing) return;
  if (e.key === 'Enter' && mode && document.activeElement === target) { useMode(map.map.getView().getCenter()); return; }
  if (e.key === 'Enter' && e.target.matches('[data-x]')) { choose(e.target); return; }
  const n = '12345'.indexOf(e.key);
  if (n >= 0) { openStage(STAGES[n], true); return; }
  if (stage === 'conditioning' && conditioning.key(e.key.toLowerCase())) return;
  switch (e.key) {
    case '[': threshold.step(-1); break;
    case ']': threshold.step(1); break;
    case '{': threshold.step(-10); break;
    case '}': threshold.step(10); break;
    case '?': window.htmx.ajax('GET', `/help/${stage}`, '#help'); break;
    case '/': e.preventDefault(); document.getElementById('goto').hidden = false; document.getElementById('goto-text').focus(); break;
    default:
      switch (e.key.toLowerCase()) {
        case 'u': send(`${base}/route`); break;
        case 'p': placeMode(); break;
        case 'm': if (map.layers.features) conditioning.measure(); break;
        case 'b': if (map.layers.features) { if (stage !== 'conditioning') await openStage('conditioning'); conditioning.draw('breach_lines'); } break;
        case 'c': if (document.getElementById('compare-form')) compareTrials(); break;
        case 'f': shell.dispatchEvent(new Event('fold-desk')); break;
        case 'l': shell.dispatchEvent(new Event('open-log')); break;
        case 'x': if (under?.x != null) {
          const text = map.data.crs?.degrees ? `${under.lat}, ${under.lon}` : `${under.x.toFixed(2)}, ${under.y.toFixed(2)}`;
          navigator.clipboard?.writeText(text).then(() => notice(`Copied ${text}`), () => notice('The browser does not allow copying here.', true));
        } break;
        case 'n': {
          const all = [...desk.querySelectorAll('[data-finding], .finding[data-x]')];
          if (!all.length || !map.map) break;
          finding = (finding + (e.shiftKey ? -1 : 1) + all.length) % all.length;
          choose(all[finding]);
          break;
        }
        default:
      }
  }
});

window.bothrosMap = map; // for the tests, which look at what is drawn
await loadMap();
await openStage(stage);
listen();
document.body.dataset.ready = 'yes';
