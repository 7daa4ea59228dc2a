// The Conditioning stage: barriers reviewed one by one, lines drawn, layers added, sinks sorted.
import { ask, notice, send, token } from '../../lib/common.js';

const ol = window.ol;

export class Conditioning {
  /** `page` gives base, map, desk and enters and leaves modes. */
  constructor(page) {
    this.page = page;
    this.barrier = null;
    document.body.addEventListener('barriers-changed', () => this.changed());
    document.body.addEventListener('layers-changed', () => { this.page.refreshParts(); this.page.fetchDesk(); this.page.map.loadFeatures(); });
  }

  /** The desk has been fetched anew. */
  prepare() {
    const { desk } = this.page;
    desk.querySelector('#add-layer')?.addEventListener('submit', (e) => { e.preventDefault(); this.addLayer(e.target); });
    for (const button of desk.querySelectorAll('[data-sort]')) button.addEventListener('click', () => this.sort(button));
    desk.querySelector('[data-least]')?.addEventListener('input', (e) => {
      const least = Number(e.target.value.replace(',', '.')) || 0;
      for (const row of desk.querySelectorAll('[data-sink]')) row.hidden = Number(row.dataset.by.split(' ')[0]) < least;
    });
    if (desk.querySelector('[data-burn]') && this.page.map.map) this.burnSection(this.burnAt ?? this.page.map.map.getView().getCenter());
    if (this.barrier && desk.querySelector(`[data-barrier-row="${this.barrier}"]`)) this.show(this.barrier, false);
    else this.barrier = null;
  }

  /** The ground across a stream as it would be burned. */
  async burnSection([x, y]) {
    const place = this.page.desk.querySelector('[data-burn]');
    const answer = await fetch(`${this.page.base}/burn-section?x=${x}&y=${y}`);
    const text = await answer.text();
    if (answer.ok) place.innerHTML = text; else place.textContent = text;
  }

  sort(button) {
    const at = Number(button.dataset.sort);
    const body = this.page.desk.querySelector('#sinks-list tbody');
    const by = (row) => Number(row.dataset.by.split(' ')[at]);
    body.append(...[...body.rows].sort((a, b) => by(b) - by(a)));
    for (const other of this.page.desk.querySelectorAll('[data-sort]')) other.classList.toggle('sorted', other === button);
  }

  async addLayer(form) {
    const button = form.querySelector('button');
    button.disabled = true;
    try {
      const answer = await fetch(`${this.page.base}/layers`, { method: 'POST', headers: { 'X-Bothros-Token': token() }, body: new FormData(form) });
      if (!answer.ok) { notice(await answer.text(), true); return; }
      notice(decodeURIComponent(answer.headers.get('X-Told') ?? 'Added.'));
      document.body.dispatchEvent(new Event(answer.headers.get('HX-Trigger') ?? 'layers-changed'));
    } catch {
      notice('The upload was broken off; nothing was kept. Try again.', true);
    } finally { button.disabled = false; }
  }

  /** Shows a barrier's card, and its line on the map. */
  async show(id, go = true) {
    const { base, desk, map } = this.page;
    this.barrier = id;
    const answer = await fetch(`${base}/barriers/${id}`);
    const html = await answer.text();
    if (!answer.ok) { notice(html, true); return; }
    const place = desk.querySelector('#barrier');
    if (!place || this.barrier !== id) return;
    place.innerHTML = html;
    for (const row of desk.querySelectorAll('[data-barrier-row]')) row.classList.toggle('chosen', row.dataset.barrierRow === String(id));
    map.chosenBarrier = Number(id);
    map.layers.barriers?.changed();
    if (go) place.scrollIntoView({ block: 'nearest' });
    document.body.dataset.barrier = id;
  }

  async changed() {
    this.page.refreshParts();
    await Promise.all([this.page.fetchDesk(), this.page.map.loadBarriers()]);
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
    if (!await send(`${this.page.base}/barriers/${id}/decide`, fields)) return;
    if (decision && !line && after) {
      const next = this.page.desk.querySelector(`[data-barrier-row="${after.dataset.barrierRow}"]`) ?? after;
      this.page.choose(next);
    }
  }

  key(key) {
    if (!this.barrier || !this.page.desk.querySelector('.barrier-card')) return false;
    const decision = { y: 'breach', i: 'fill', k: 'keep' }[key];
    if (decision) { this.decide(decision); return true; }
    if (key === 'r') { this.redraw(); return true; }
    return false;
  }

  click(target) {
    if (target.closest('[data-close-measured]')) { document.getElementById('measured').replaceChildren(); return true; }
    const decide = target.closest('[data-decide]');
    if (decide) { this.decide(decide.dataset.decide); return true; }
    if (target.closest('[data-redraw]')) { this.redraw(); return true; }
    if (target.closest('[data-burn-here]')) {
      this.page.enter({ place: (at) => { this.burnAt = at; this.burnSection(at); } }, 'Click near a mapped stream. Esc leaves.');
      return true;
    }
    if (target.closest('[data-swipe]')) { this.page.map.swipe(); return true; }
    if (target.closest('[data-edit]')) { this.edit(); return true; }
    const see = target.closest('[data-see]');
    if (see) { this.page.see(see.dataset.see.split(',')); return true; }
    const draw = target.closest('[data-draw]');
    if (draw) { this.draw(draw.dataset.draw || this.page.desk.querySelector('#layer-role').value); return true; }
    return false;
  }

  redraw() {
    this.drawing('Draw the breach line from upstream to downstream; double click or Enter ends it. Esc leaves.', (line) => this.decide('breach', line));
  }

  /** Draws a feature of a role: a point, a line or a polygon. */
  draw(role) {
    const { shape, what, height } = DRAWN[role];
    const keep = (points) => {
      const elevation = height ? window.prompt('Its elevation in metres') : '';
      if (elevation !== null) send(`${this.page.base}/draw`, { role, line: JSON.stringify(points), elevation });
    };
    if (shape === 'Point') { this.page.enter({ place: (at) => keep([at]) }, `Click ${what}. Esc leaves.`); return; }
    this.drawing(`Draw ${what}; double click or Enter ends it. Esc leaves.`, (line) => keep(line), shape);
  }

  /** A line drawn on the map, with snapping to what is there. */
  drawing(text, done, type = 'LineString') {
    const { map } = this.page.map;
    if (!map) return;
    this.stop();
    const draw = new ol.interaction.Draw({ source: new ol.source.Vector(), type, stopClick: true });
    const snaps = ['features', 'barriers'].map((k) => this.page.map.layers[k]?.getSource()).filter(Boolean).map((source) => new ol.interaction.Snap({ source, pixelTolerance: 8 }));
    this.active = [draw, ...snaps];
    for (const one of this.active) map.addInteraction(one);
    this.pen = draw;
    this.page.enter({ drawing: true }, text);
    draw.on('drawend', (e) => {
      const drawn = e.feature.getGeometry().getCoordinates();
      const line = type === 'Polygon' ? drawn[0] : drawn;
      // The click that ends it must not be taken for another.
      setTimeout(() => { this.stop(); this.page.leave(); done(line); }, 0);
    });
  }

  /** Features are reshaped and deleted on the map; each change is kept at once and can be undone. */
  edit() {
    const { map, layers } = this.page.map;
    const source = layers.features?.getSource();
    if (!map || !source) return;
    this.stop();
    const select = new ol.interaction.Select({ layers: [layers.features], hitTolerance: 6 });
    const modify = new ol.interaction.Modify({ features: select.getFeatures(), pixelTolerance: 10 });
    this.active = [select, modify, new ol.interaction.Snap({ source, pixelTolerance: 8 })];
    for (const one of this.active) map.addInteraction(one);
    this.selected = select.getFeatures();
    this.page.enter({ drawing: true }, 'Click a feature and drag its corners; Alt and click takes a corner away, Delete the feature. Esc leaves.');
    modify.on('modifyend', (e) => e.features.forEach((f) => this.reshape(f, JSON.stringify(shapeOf(f)))));
  }

  async reshape(feature, shape) {
    const kept = await send(`${this.page.base}/layers/${feature.get('layer')}/features/${feature.get('id')}`, { shape });
    // What was refused is shown as it was.
    if (!kept) this.page.map.loadFeatures();
  }

  deleteSelected() {
    const all = this.selected?.getArray().slice() ?? [];
    if (!all.length) return false;
    this.selected.clear();
    for (const feature of all) this.reshape(feature, '');
    return true;
  }

  /** A line anywhere, and the ground along it. */
  measure() {
    this.drawing('Draw a line to measure; double click or Enter ends it. Esc leaves.', async (line) => {
      const answer = await fetch(`${this.page.base}/profile?line=${encodeURIComponent(JSON.stringify(line))}`);
      const html = await answer.text();
      if (!answer.ok) { notice(html, true); return; }
      document.getElementById('measured').innerHTML = html;
    });
  }

  finish() { this.pen?.finishDrawing(); }
  back() { this.pen?.removeLastPoint(); }

  stop() {
    for (const one of this.active ?? []) this.page.map.map.removeInteraction(one);
    this.active = null;
    this.pen = null;
    this.selected = null;
  }

  /** A click on the map beside all modes: the nearest barrier or sink is shown on the desk. */
  pick(coordinate) {
    const { desk, map } = this.page;
    const near = map.map.getView().getResolution() * 14;
    const rows = [...desk.querySelectorAll('[data-barrier-row], [data-sink]')].filter((r) => !r.hidden);
    const away = (r) => Math.hypot(Number(r.dataset.x) - coordinate[0], Number(r.dataset.y) - coordinate[1]);
    const nearest = rows.filter((r) => away(r) < near).sort((a, b) => away(a) - away(b))[0];
    if (nearest) this.page.choose(nearest, false);
  }
}

const DRAWN = {
  mapped_streams: { shape: 'LineString', what: 'the stream' }, breach_lines: { shape: 'LineString', what: 'the breach line from upstream to downstream' }, walls: { shape: 'LineString', what: 'the wall' },
  culverts: { shape: 'Point', what: 'where the culvert or bridge is' }, lakes: { shape: 'Polygon', what: 'the shore of the lake' }, closed_basins: { shape: 'Point', what: 'in the sink that is real' },
  boundaries: { shape: 'Polygon', what: 'the boundary' }, rebuild_areas: { shape: 'Polygon', what: 'the area to rebuild' },
  elevation_points: { shape: 'Point', what: 'where the elevation is known', height: true }, contour_lines: { shape: 'LineString', what: 'the contour line', height: true }, dams: { shape: 'LineString', what: 'the dam' }, sites: { shape: 'Point', what: 'where the site is' },
};

const DECIDED = { breach: '#0F5C63', fill: '#5D6B68', keep: '#5B7F3B', open: '#B4532A' };
const ROLES = {
  mapped_streams: { color: '#2F6DA8', width: 1.4 }, breach_lines: { color: '#0F5C63', width: 2.6 }, walls: { color: '#7A3B2E', width: 3 },
  culverts: { color: '#22302E', width: 1.5 }, lakes: { color: '#2F6DA8', width: 1.4, fill: '#2F6DA833' }, closed_basins: { color: '#5B7F3B', width: 1.6, fill: '#5B7F3B33' },
  boundaries: { color: '#22302E', width: 1.5, dash: [8, 4, 2, 4] }, rebuild_areas: { color: '#7C4E8C', width: 1.8, dash: [6, 4], fill: '#7C4E8C22' }, elevation_points: { color: '#7A5A36', width: 1.5 }, contour_lines: { color: '#7A5A36', width: 1.1 }, dams: { color: '#5A4A3A', width: 3.2 }, sites: { color: '#A3263B', width: 1.5 },
};

/** Layers of a study as they were given or drawn. */
export function featureLayer() {
  const styles = {};
  const style = (feature) => {
    const role = feature.get('role');
    const r = ROLES[role] ?? ROLES.sites;
    styles[role] ??= new ol.style.Style({
      stroke: new ol.style.Stroke({ color: r.color, width: r.width, lineDash: r.dash }), fill: r.fill ? new ol.style.Fill({ color: r.fill }) : undefined,
      image: new ol.style.RegularShape({ points: role === 'culverts' ? 4 : 3, radius: 6, stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 1.3 }), fill: new ol.style.Fill({ color: r.color }) }),
    });
    return styles[role];
  };
  return new ol.layer.Vector({ source: new ol.source.Vector(), style, updateWhileInteracting: true });
}

export function featureOf(f) {
  const [[kind, at]] = Object.entries(f.shape);
  const geometry = kind === 'point' ? new ol.geom.Point(at) : kind === 'line' ? new ol.geom.LineString(at) : new ol.geom.MultiPolygon(at);
  return new ol.Feature({ geometry, role: f.role, name: f.name, layer: f.layer, id: f.id });
}

/** A feature's shape as the server keeps it. */
function shapeOf(feature) {
  const geometry = feature.getGeometry();
  const kind = { Point: 'point', LineString: 'line', MultiPolygon: 'polygons' }[geometry.getType()];
  return { [kind]: geometry.getCoordinates() };
}

/** The streams before anything is decided. */
export function provisionalLayer() {
  const halo = new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3.4 }) });
  const line = new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#1F2F63', width: 1.5 }) });
  return new ol.layer.Vector({ source: new ol.source.Vector(), style: [halo, line], updateWhileInteracting: true });
}

/** Proposed breach lines: thick where chosen, coloured and dashed by what was decided. */
export function barrierLayer(map) {
  const style = (feature, resolution) => {
    const chosen = feature.get('id') === map.chosenBarrier;
    const color = DECIDED[feature.get('decision') ?? 'open'];
    const line = (width, c, dash) => new ol.style.Style({ stroke: new ol.style.Stroke({ color: c, width, lineDash: dash }), zIndex: chosen ? 6 : 5 });
    if (feature.getGeometry().getType() === 'Point') {
      // From near by the line itself is seen.
      if (resolution < map.main.cell_x) return null;
      return new ol.style.Style({ image: new ol.style.Circle({ radius: chosen ? 9 : 6, stroke: new ol.style.Stroke({ color, width: 2.4 }), fill: new ol.style.Fill({ color: '#FFFDF8CC' }) }), zIndex: 4 });
    }
    return [line(chosen ? 7 : 5, '#FFFDF8'), line(chosen ? 4.4 : 2.8, color, feature.get('decision') === 'breach' ? undefined : [6, 4])];
  };
  return new ol.layer.Vector({ source: new ol.source.Vector(), style, updateWhileAnimating: true });
}

export async function loadBarriers(map) {
  const source = map.layers.barriers?.getSource();
  if (!source) return;
  const all = await ask(`${map.base}/barriers`);
  source.clear();
  for (const b of all) {
    const about = { id: b.id, decision: b.decision };
    source.addFeature(new ol.Feature({ geometry: new ol.geom.LineString(b.line), ...about }));
    source.addFeature(new ol.Feature({ geometry: new ol.geom.Point(b.crest), ...about }));
  }
  map.target.dataset.barriers = all.length;
}

export async function loadFeatures(map) {
  const source = map.layers.features?.getSource();
  const size = map.map?.getSize();
  if (!source || !size) return;
  const [west, south, east, north] = map.map.getView().calculateExtent(size);
  const pad = (east - west) * 0.25;
  const told = await ask(`${map.base}/layers?${new URLSearchParams({ west: west - pad, south: south - pad, east: east + pad, north: north + pad })}`);
  const computed = (f) => f.role === 'provisional';
  source.clear(true);
  source.addFeatures(told.features.filter((f) => !computed(f)).map(featureOf));
  const provisional = map.layers.provisional.getSource();
  provisional.clear(true);
  provisional.addFeatures(told.features.filter(computed).map(featureOf));
  map.target.dataset.features = source.getFeatures().length;
  map.featuresComplete = told.complete;
  map.target.dataset.provisional = provisional.getFeatures().length;
}
