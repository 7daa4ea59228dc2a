// Beginning from a boundary: drawn or from a file, on a map of what the archive covers.
import { ask, hearErrors, notice, token } from '../lib/common.js';
import { METRE, length } from '../lib/units.js';

hearErrors();
const ol = window.ol;
const el = (id) => document.getElementById(id);
const COVERS = ['#7C4E8C', '#B4532A', '#5B7F3B', '#4A66A0'];
const state = { collections: [], chosen: null, boundary: null };

const stroke = (color, width, lineDash) => new ol.style.Stroke({ color, width, lineDash });
const layer = (style) => new ol.layer.Vector({ source: new ol.source.Vector({ wrapX: false }), style });
const cover = layer(
  (f) =>
    new ol.style.Style({
      stroke: stroke(f.get('colour'), f.get('chosen') ? 2.5 : 1.3, f.get('chosen') ? undefined : [7, 5]),
      text: new ol.style.Text({
        text: f.get('title'),
        placement: 'line',
        textBaseline: 'bottom',
        font: '600 12px "Source Sans 3"',
        fill: new ol.style.Fill({ color: '#22302E' }),
        stroke: stroke('#FFFDF8', 3),
      }),
    }),
);
const files = layer(
  new ol.style.Style({ fill: new ol.style.Fill({ color: '#0F5C6322' }), stroke: stroke('#0F5C63', 1) }),
);
const wanted = layer(new ol.style.Style({ stroke: stroke('#B4532A', 1.6, [9, 5]) }));
const drawn = layer(
  new ol.style.Style({ fill: new ol.style.Fill({ color: '#B4532A22' }), stroke: stroke('#B4532A', 2.4) }),
);

const map = new ol.Map({
  target: 'map',
  keyboardEventTarget: 'map',
  layers: [
    new ol.layer.Graticule({
      showLabels: true,
      wrapX: false,
      strokeStyle: stroke('#B9AF9A', 0.8),
      lonLabelStyle: label('bottom'),
      latLabelStyle: label('right'),
    }),
    cover,
    files,
    wanted,
    drawn,
  ],
  view: new ol.View({ projection: 'EPSG:4326', center: [0, 30], zoom: 2, constrainOnlyCenter: true }),
});
map.addControl(new ol.control.ScaleLine({ units: METRE.size === 1 ? 'metric' : 'imperial', minWidth: 90 }));

function label(baseline) {
  return new ol.style.Text({
    font: '11px "Source Sans 3"',
    textBaseline: baseline === 'bottom' ? 'bottom' : 'middle',
    textAlign: baseline === 'right' ? 'end' : 'center',
    fill: new ol.style.Fill({ color: '#5D6B68' }),
    stroke: stroke('#FFFDF8', 3),
  });
}
const degrees = (v, plus, minus) => `${Math.abs(v).toFixed(5)}° ${v < 0 ? minus : plus}`;
map.on('pointermove', (e) => {
  el('readout').textContent =
    `${degrees(e.coordinate[1], 'N', 'S')}, ${degrees(e.coordinate[0], 'E', 'W')} (WGS 84)`;
});

const extentFeature = ([w, s, e, n], more = {}) =>
  new ol.Feature({
    geometry: new ol.geom.Polygon([
      [
        [w, s],
        [e, s],
        [e, n],
        [w, n],
        [w, s],
      ],
    ]),
    ...more,
  });

function showCover() {
  const source = cover.getSource();
  source.clear();
  state.collections.forEach((c, i) =>
    source.addFeature(
      extentFeature(c.extent, {
        title: c.title,
        colour: COVERS[i % COVERS.length],
        chosen: c.id === state.chosen,
      }),
    ),
  );
}

async function begin() {
  // A simulated archive draws its ground when it is first asked, which takes a while.
  const slow = setTimeout(() => {
    el('map-state').textContent = 'The archive is slow to answer…';
  }, 4000);
  try {
    const told = await ask('/archive');
    state.collections = told.collections;
    el('host').textContent = ` at ${told.host}`;
  } catch (error) {
    el('map-state').textContent = `${error.message}. Reload the page to ask again.`;
    return;
  } finally {
    clearTimeout(slow);
  }
  el('map-state').textContent = state.collections.length ? '' : 'The archive is empty.';
  // The finest first.
  state.collections.sort((a, b) => (a.resolution_m ?? 1e9) - (b.resolution_m ?? 1e9));
  state.chosen = state.collections[0]?.id;
  const box = el('collections');
  box.replaceChildren(
    ...state.collections.map((c) => {
      const row = document.createElement('label');
      row.className = 'collection';
      const radio = Object.assign(document.createElement('input'), {
        type: 'radio',
        name: 'collection',
        value: c.id,
        checked: c.id === state.chosen,
      });
      radio.addEventListener('change', () => {
        state.chosen = c.id;
        showCover();
        plan();
      });
      const text = document.createElement('span');
      const title = document.createElement('strong');
      title.textContent = c.title;
      const about = [c.resolution_m ? length(c.resolution_m) : '', c.source, c.licence];
      text.append(title, ` ${about.filter(Boolean).join(', ')}. ${c.description}`);
      row.append(radio, text);
      return row;
    }),
  );
  showCover();
  if (state.collections.length)
    map.getView().fit(cover.getSource().getExtent(), { padding: [40, 40, 40, 40], maxZoom: 14 });
}

function take(name, polygons) {
  state.boundary = { name, polygons };
  const source = drawn.getSource();
  source.clear();
  source.addFeature(new ol.Feature(new ol.geom.MultiPolygon(polygons)));
  el('boundary-told').textContent = name;
  if (!el('study-name').value || el('study-name').dataset.own !== 'yes')
    el('study-name').value = name === 'drawn boundary' ? '' : name;
  plan();
}
el('study-name').addEventListener('input', () => {
  el('study-name').dataset.own = 'yes';
});

let drawing = null;
function stopDrawing() {
  if (drawing) map.removeInteraction(drawing);
  drawing = null;
  el('mode').hidden = true;
}
function draw(kind) {
  stopDrawing();
  const options =
    kind === 'box'
      ? { type: 'Circle', geometryFunction: ol.interaction.Draw.createBox() }
      : { type: 'Polygon' };
  drawing = new ol.interaction.Draw({ ...options, stopClick: true });
  drawing.on('drawend', (e) => {
    const polygons = [e.feature.getGeometry().getCoordinates()];
    setTimeout(() => {
      stopDrawing();
      take('drawn boundary', polygons);
    });
  });
  map.addInteraction(drawing);
  el('mode').hidden = false;
  el('mode').textContent =
    kind === 'box'
      ? 'Click two opposite corners. Esc ends.'
      : 'Click the corners; double click or Enter ends it. Esc leaves.';
  el('map').focus();
}
el('draw-polygon').addEventListener('click', () => draw('polygon'));
el('draw-box').addEventListener('click', () => draw('box'));
document.addEventListener('keydown', (e) => {
  if (e.key === 'Escape') stopDrawing();
  // As on the map of a study.
  else if (e.key === 'Enter' && drawing && !e.target.closest('input, button')) drawing.finishDrawing();
});

el('boundary-file').addEventListener('change', async () => {
  const chosen = [...el('boundary-file').files];
  if (!chosen.length) return;
  const form = new FormData();
  for (const file of chosen) form.append('file', file);
  el('boundary-told').textContent = 'Reading…';
  const answer = await fetch('/archive/boundary', {
    method: 'POST',
    headers: { 'X-Bothros-Token': token() },
    body: form,
  }).catch(() => null);
  if (!answer?.ok) {
    el('boundary-told').textContent = state.boundary?.name ?? 'No boundary yet.';
    notice(answer ? await answer.text() : 'The server does not answer; try again.', true);
    return;
  }
  const { name, polygons } = await answer.json();
  take(name, polygons);
  map.getView().fit(drawn.getSource().getExtent(), { padding: [120, 120, 120, 120], maxZoom: 16 });
});

const wish = () => ({
  collection: state.chosen,
  boundary: state.boundary,
  margin_m: Number(el('margin').value.replace(',', '.')) * METRE.size,
  name: el('study-name').value,
  description: el('study-description').value,
});
const post = (address, body) =>
  fetch(address, {
    method: 'POST',
    headers: { 'X-Bothros-Token': token(), 'Content-Type': 'application/json' },
    body: JSON.stringify(body),
  });

let asked = 0;
async function plan() {
  if (!state.boundary || !state.chosen) return;
  const told = el('told');
  const asking = ++asked;
  if (!Number.isFinite(wish().margin_m) || el('margin').value.trim() === '') {
    told.textContent = `The margin must be a number, in ${METRE.symbol}.`;
    told.classList.add('wrong');
    el('go').disabled = true;
    return;
  }
  told.textContent = 'Asking the archive…';
  const answer = await post('/archive/plan', wish()).catch(() => null);
  if (asking !== asked) return;
  told.classList.toggle('wrong', !answer?.ok);
  el('go').disabled = !answer?.ok;
  files.getSource().clear();
  wanted.getSource().clear();
  if (!answer?.ok) {
    told.textContent = answer ? await answer.text() : 'The server does not answer; try again.';
    return;
  }
  const plan = await answer.json();
  told.textContent = plan.told;
  files.getSource().addFeatures(plan.files.map((f) => extentFeature(f)));
  wanted.getSource().addFeature(extentFeature(plan.extent));
}
let resting = 0;
el('margin').addEventListener('input', () => {
  clearTimeout(resting);
  resting = setTimeout(plan, 300);
});

el('wish').addEventListener('submit', async (e) => {
  e.preventDefault();
  el('go').disabled = true;
  const answer = await post('/archive/begin', wish()).catch(() => null);
  if (answer?.ok) {
    location.href = (await answer.json()).location;
    return;
  }
  el('go').disabled = false;
  notice(answer ? await answer.text() : 'The server does not answer; try again.', true);
});

begin();
