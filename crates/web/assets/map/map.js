// The map: layers on the study's own grid, in its own CRS.
import { backdropLayers } from './backdrops.js';
import { ask } from '../lib/common.js';
import { closeUp } from './cells.js';
import { barrierLayer, featureLayer, loadBarriers, loadFeatures, provisionalLayer } from '../stages/conditioning/conditioning.js';
import { Flow } from '../stages/network/flow.js';
import { WATER, loadSides, sideLayer, streamStyle, wanted } from '../stages/network/network.js';
import { Swipe } from './swipe.js';
import { POSITION, SLOPE, Views } from './views.js';

const ol = window.ol;
const BASINS = ['#B9A27A', '#8FA98C', '#A58FA6', '#C29A84', '#8CA3B5', '#ADAB7C'];
const AREA_RAMP = ['#F3EBD3', '#D5DCC0', '#A3C4B5', '#6BA5A5', '#3A7F8C', '#215873', '#1B3557', '#141E3A'];

export const LAYERS = [
  { key: 'relief', name: 'Terrain' }, { key: 'slope', name: 'Slope' }, { key: 'curvature', name: 'Curvature' }, { key: 'near', name: 'Position, near' }, { key: 'far', name: 'Position, far' }, { key: 'contours', name: 'Contours' },
  { key: 'area', name: 'Accumulation' }, { key: 'direction', name: 'Flow direction' },
  { key: 'sinks', name: 'Sinks' }, { key: 'change', name: 'Cut and fill' }, { key: 'files', name: 'DEM files' }, { key: 'provisional', name: 'Provisional network' }, { key: 'features', name: 'Layers' }, { key: 'barriers', name: 'Crossings' }, { key: 'streams', name: 'Network' }, { key: 'agreement', name: 'Matched, extra, missed' }, { key: 'way', name: 'Way to a stream' }, { key: 'catchments', name: 'Catchments' }, { key: 'cells', name: 'Cell values' },
];
export const DRAWN_AT = {
  terrain: ['relief', 'files', 'cells'], conditioning: ['relief', 'sinks', 'features', 'barriers', 'cells'], network: ['relief', 'streams', 'cells'],
  catchments: ['relief', 'streams', 'catchments', 'cells'], handover: ['relief', 'streams', 'catchments', 'cells'],
};

export class StudyMap {
  constructor(target, study) {
    this.base = `/studies/${study}`;
    this.study = study;
    this.target = target;
    this.shown = new Set(['relief']);
    this.layers = {};
    this.threshold = 1;
    this.frames = 0;
    this.cellsOf = 'elevation';
    this.views = new Views(this);
    this.swiping = new Swipe(this);
  }

  /** Fetches what there is and builds the layers; keeps the view where the grid is the same. */
  async load(view) {
    const [data, backdrops] = await Promise.all([ask(`${this.base}/map`), ask(`${this.base}/backdrops`)]);
    this.backdrops = backdrops;
    const main = data.rasters.dem ?? data.rasters.source;
    const key = main && JSON.stringify([main.left, main.top, main.cell_x, main.rows, main.cols, data.crs?.epsg]);
    const same = key === this.key;
    this.data = data;
    this.key = key;
    this.threshold = data.threshold_cells ?? 1;
    if (!main) { this.map?.setTarget(null); this.map = null; return false; }
    this.main = main;
    if (!this.map || !same) this.begin(view);
    this.build();
    return true;
  }

  begin(view) {
    const { main, data } = this;
    const extent = [main.left, main.top - main.rows * main.cell_y, main.left + main.cols * main.cell_x, main.top];
    this.extent = extent;
    const degrees = data.crs?.degrees;
    this.projection = new ol.proj.Projection({
      code: `study-${this.study}-${Date.now()}`, extent, units: degrees ? 'degrees' : 'm', metersPerUnit: degrees ? undefined : (data.crs?.unit_m ?? 1),
    });
    const span = Math.max(extent[2] - extent[0], extent[3] - extent[1]);
    const margin = span * 0.6;
    if (!this.map) {
      this.map = new ol.Map({ target: this.target, layers: [], keyboardEventTarget: this.target });
      this.map.addControl(new ol.control.ScaleLine({ units: 'metric', minWidth: 90 }));
      this.map.on('moveend', () => this.onMove?.());
    }
    const fit = new ol.View({
      projection: this.projection, extent: [extent[0] - margin, extent[1] - margin, extent[2] + margin, extent[3] + margin],
      constrainOnlyCenter: true, minResolution: main.cell_x / 96, maxResolution: span / 200, smoothExtentConstraint: false,
    });
    this.map.setView(fit);
    if (view && view.every(Number.isFinite)) { fit.setCenter([view[0], view[1]]); fit.setResolution(view[2]); } else this.fit();
  }

  fit() { this.map?.getView().fit(this.extent, { padding: [18, 18, 18, 18] }); }

  grid(raster) {
    const resolutions = [];
    for (let level = raster.levels - 1; level >= 0; level--) resolutions.push(raster.cell_x * 2 ** level);
    // Cells of a geographic DEM are drawn as squares of one step each.
    const height = raster.rows * raster.cell_y;
    return new ol.tilegrid.TileGrid({
      origin: [raster.left, raster.top], resolutions, tileSize: 256,
      extent: [raster.left, raster.top - height, raster.left + raster.cols * raster.cell_x, raster.top],
    });
  }

  address(what, raster, z, x, y) { return `${this.base}/tiles/${what}/${raster.id}/${raster.levels - 1 - z}/${x}/${y}`; }

  tiles(what, raster, query, interpolate) {
    return new ol.source.TileImage({
      projection: this.projection, tileGrid: this.grid(raster), interpolate, transition: 0, wrapX: false,
      tileUrlFunction: ([z, x, y]) => this.address(what, raster, z, x, y) + query,
    });
  }

  picture(what, raster, query, interpolate) { return new ol.layer.Tile({ source: this.tiles(what, raster, query, interpolate) }); }

  build() {
    const { rasters } = this.data;
    this.swiping.end();
    for (const layer of this.map.getLayers().getArray().slice()) this.map.removeLayer(layer);
    this.layers = {};
    const what = rasters.dem ? 'dem' : 'source';
    this.views.take(this.data.style);
    this.layers.relief = this.picture(what, this.main, this.views.reliefQuery(), true);
    if (rasters.dem) this.views.build(this.layers);
    this.after = rasters.filled ? this.picture('filled', rasters.filled, this.views.reliefQuery(), true) : null;
    if (rasters.area) {
      this.stretch ??= this.data.log_percentiles.slice();
      this.flow = new Flow(this, rasters.area, { streams: WATER, area: AREA_RAMP });
      this.layers.area = this.flow.layer;
      this.layers.direction = this.picture('direction', rasters.direction, '', false);
      this.layers.direction.setOpacity(0.85);
      this.layers.sinks = this.picture('sinks', rasters.sinks, `?high=${this.data.deepest_m ?? 1}`, false);
      if (rasters.change) this.layers.change = this.picture('change', rasters.change, `?high=${this.data.change_m || 1}`, false);
      this.layers.streams = this.lines();
      this.layers.agreement = sideLayer();
      this.layers.way = new ol.layer.Tile({ visible: false, opacity: 0.8 });
      this.layers.catchments = this.catchments();
    }
    if (rasters.dem) {
      this.layers.features = featureLayer();
      this.layers.provisional = provisionalLayer();
      this.layers.barriers = barrierLayer(this);
    }
    Object.assign(this.layers, backdropLayers(this, this.backdrops));
    if (this.data.files?.length) this.layers.files = fileLayer(this.data.files, this.data.seams ?? []);
    this.layers.cells = closeUp(this);
    for (const [key, layer] of Object.entries(this.layers)) if (this.views.style[key]?.opacity !== undefined) layer.setOpacity?.(this.views.style[key].opacity);
    for (const key of this.order()) {
      this.map.addLayer(this.layers[key]);
      if (key === 'relief' && this.after) { this.after.setVisible(false); this.map.addLayer(this.after); }
    }
    this.show();
    this.redrawStreams();
    this.redrawSides();
    this.redrawWays();
    this.loadCatchments();
    this.loadBarriers();
  }

  /** The layers from the lowest up, as the analyst has put them. */
  order() {
    const usual = ['relief', 'slope', 'curvature', 'far', 'near', ...this.backdrops.map((b) => `backdrop-${b.id}`), 'contours', 'files', 'sinks', 'change', 'way', 'direction', 'area', 'streams', 'agreement', 'catchments', 'provisional', 'features', 'barriers', 'cells'];
    const place = (key) => this.views.style[key]?.place ?? usual.indexOf(key);
    return usual.filter((key) => this.layers[key]).sort((a, b) => place(a) - place(b) || usual.indexOf(a) - usual.indexOf(b));
  }

  /** Draws a layer above (1) or below (-1) the next that is shown. */
  reorder(key, way) {
    const order = this.order();
    const from = order.indexOf(key);
    let to = from + way;
    while (order[to] && !this.shown.has(order[to])) to += way;
    if (!order[to]) return false;
    order.splice(to, 0, ...order.splice(from, 1));
    order.forEach((k, at) => this.views.set(k, { place: at }));
    const layers = this.map.getLayers();
    order.forEach((k) => { layers.remove(this.layers[k]); layers.push(this.layers[k]); if (k === 'relief' && this.after) { layers.remove(this.after); layers.push(this.after); } });
    return true;
  }

  /** What can be drawn: key and name. */
  list() {
    const pictures = this.backdrops.map((b) => ({ key: `backdrop-${b.id}`, name: b.name }));
    return [LAYERS[0], ...pictures, ...LAYERS.slice(1)];
  }

  /** Fetches the features in view, where they are drawn; where they are not, once they are. */
  loadFeatures() {
    const drawn = this.shown.has('features') || this.shown.has('provisional');
    this.featuresOf = drawn ? this.layers.features : null;
    return drawn ? loadFeatures(this).catch((e) => this.onProblem?.(e.message)) : Promise.resolve();
  }

  loadBarriers() { return loadBarriers(this).catch((e) => this.onProblem?.(e.message)); }

  /** The ground before and after conditioning, on both sides of a handle. */
  swipe() { if (this.after) this.swiping.toggle(this.after); }

  setStretch(low, high) {
    this.stretch = [low, Math.max(high, low + 0.1)];
    if (this.layers.area) this.showFlow();
  }

  /** The threshold moves under the hand: cells at once, lines when it rests. */
  live(cells) {
    this.threshold = cells;
    this.resting = false;
    this.layers.agreement?.getSource().clear(true);
    this.showFlow();
  }

  rest(cells) {
    this.threshold = cells;
    this.asked = null;
    this.showFlow();
    this.redrawStreams();
    this.redrawSides();
    this.redrawWays();
  }

  showFlow() {
    const layer = this.layers.area;
    if (!layer) return;
    const streams = this.shown.has('streams');
    const lines = this.resting && this.complete;
    this.layers.streams.setVisible(streams && this.resting);
    layer.setVisible(this.shown.has('area') || streams);
    const [low, high] = this.stretch;
    this.flow.set({ threshold: this.threshold, streams: streams && !lines, area: this.shown.has('area'), low, high });
  }

  show() {
    for (const [key, layer] of Object.entries(this.layers)) if (key !== 'area' && key !== 'streams') { layer.setVisible(this.shown.has(key)); if (this.shown.has(key)) this.views.show(key).catch((e) => this.onProblem?.(e.message)); }
    this.views.contours().catch((e) => this.onProblem?.(e.message));
    if (this.featuresOf !== this.layers.features) this.loadFeatures();
    this.showFlow();
  }

  toggle(key, on) {
    if (on) this.shown.add(key); else this.shown.delete(key);
    this.show();
    if (key === 'streams' && on) this.redrawStreams();
    if (key === 'agreement' && on) this.redrawSides();
    if (key === 'way' && on) this.redrawWays();
  }

  lines() {
    const style = streamStyle(() => wanted(this.views.style.streams), this.data.cell_area_m2);
    return new ol.layer.Vector({ source: new ol.source.Vector(), style, updateWhileInteracting: true, updateWhileAnimating: true });
  }

  /** Fetches how the network compares with the mapped streams in view. */
  async redrawSides() {
    const layer = this.layers.agreement;
    if (!layer || !this.shown.has('agreement')) return;
    const cells = this.threshold;
    try {
      this.sides?.abort();
      this.sides = new AbortController();
      const count = await loadSides(this.map, layer, `${this.base}/agreement`, { cells }, { signal: this.sides.signal });
      this.target.dataset.sides = count;
    } catch (error) {
      if (error.name !== 'AbortError') this.onProblem?.(error.message);
    }
  }

  /** Gives the map of ways the threshold that holds now. */
  async redrawWays() {
    const layer = this.layers.way;
    if (!layer || !this.shown.has('way')) return;
    const cells = this.threshold;
    try {
      const { most_m: most } = await ask(`${this.base}/way?cells=${cells}`);
      if (cells !== this.threshold || layer !== this.layers.way) return;
      this.longest = most;
      layer.setSource(this.tiles('way', this.data.rasters.area, `?cells=${cells}&high=${most}`, false));
      this.onStyled?.();
    } catch (error) { this.onProblem?.(error.message); }
  }

  /** Fetches the lines in view. */
  async redrawStreams() {
    const layer = this.layers.streams;
    if (!layer || !this.shown.has('streams')) return;
    const view = this.map.getView();
    const size = this.map.getSize();
    if (!size) return;
    const [west, south, east, north] = view.calculateExtent(size);
    const pad = (east - west) * 0.25;
    const cells = this.threshold;
    const asked = { layer, cells, resolution: view.getResolution(), west: west - pad, south: south - pad, east: east + pad, north: north + pad };
    // What was fetched, or is on its way, reaches beyond the view.
    const had = this.asked;
    if (had && had.layer === layer && had.cells === cells && had.resolution === asked.resolution && had.whole !== false
      && west >= had.west && south >= had.south && east <= had.east && north <= had.north) return;
    this.asked = asked;
    this.fetching?.abort();
    this.fetching = new AbortController();
    const query = new URLSearchParams(Object.entries(asked).filter(([key]) => key !== 'layer'));
    try {
      const told = await ask(`${this.base}/streams?${query}`, { signal: this.fetching.signal });
      if (cells !== this.threshold || layer !== this.layers.streams) return;
      const source = layer.getSource();
      source.clear(true);
      source.addFeatures(told.reaches.map((r) => new ol.Feature({ geometry: new ol.geom.LineString(r.line), id: r.id, order: r.order, magnitude: r.magnitude, m2: r.m2 })));
      asked.whole = told.complete;
      this.complete = told.complete;
      this.resting = true;
      this.showFlow();
      this.target.dataset.reaches = told.reaches.length;
    } catch (error) {
      if (this.asked === asked) this.asked = null;
      if (error.name !== 'AbortError') this.onProblem?.(error.message);
    }
  }

  catchments() {
    const text = (label, y) => new ol.style.Text({
      text: label, offsetY: y, font: '600 13px "Source Sans 3"', fill: new ol.style.Fill({ color: '#22302E' }), stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3.5 }),
    });
    const style = (f) => {
      switch (f.get('kind')) {
        case 'catchment': return new ol.style.Style({
          fill: new ol.style.Fill({ color: `${BASINS[f.get('at') % BASINS.length]}66` }), stroke: new ol.style.Stroke({ color: '#22302E', width: 1.6, lineDash: f.get('edge') ? [7, 4] : undefined }), zIndex: 1,
        });
        case 'move': return new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#B4532A', width: 1.6, lineDash: [3, 3] }), zIndex: 3 });
        case 'given': return new ol.style.Style({ image: new ol.style.Circle({ radius: 4, stroke: new ol.style.Stroke({ color: '#B4532A', width: 1.6 }), fill: new ol.style.Fill({ color: '#FFFDF8' }) }), zIndex: 3 });
        default: return new ol.style.Style({
          image: new ol.style.RegularShape({ points: 4, radius: 8, fill: new ol.style.Fill({ color: '#B4532A' }), stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 1.6 }) }), text: text(f.get('label'), -17), zIndex: 4,
        });
      }
    };
    return new ol.layer.Vector({ source: new ol.source.Vector(), style, declutter: false });
  }

  async loadCatchments() {
    const layer = this.layers.catchments;
    if (!layer) return;
    const points = await ask(`${this.base}/catchments`);
    const source = layer.getSource();
    source.clear();
    // Larger ones lie below those that nest in them.
    points.sort((a, b) => (b.catchment?.area_km2 ?? 0) - (a.catchment?.area_km2 ?? 0));
    for (const p of points) {
      const add = (kind, geometry, more = {}) => source.addFeature(new ol.Feature({ kind, geometry, at: p.number - 1, ...more }));
      if (p.outline) add('catchment', new ol.geom.MultiPolygon(p.outline), { edge: p.catchment.edge_cells > 0 });
      add('given', new ol.geom.Point([p.x, p.y]));
      if (p.catchment) {
        add('move', new ol.geom.LineString([[p.x, p.y], [p.catchment.x, p.catchment.y]]));
        add('point', new ol.geom.Point([p.catchment.x, p.catchment.y]), { label: `${p.number} ${p.name}` });
      }
    }
    this.target.dataset.catchments = points.filter((p) => p.outline).length;
  }

  goTo(x, y, mark = true, cells = 1.5) {
    const view = this.map.getView();
    const close = Math.min(view.getResolution(), this.main.cell_x * cells);
    const still = matchMedia('(prefers-reduced-motion: reduce)').matches;
    if (still) { view.setCenter([x, y]); view.setResolution(close); } else view.animate({ center: [x, y], resolution: close, duration: 350 });
    if (mark) this.mark(x, y);
  }

  mark(x, y) {
    if (!this.marker) {
      const ring = document.createElement('div');
      ring.style.cssText = 'width:34px;height:34px;border:3px solid #B4532A;border-radius:50%;box-shadow:0 0 0 2px #FFFDF8;pointer-events:none';
      this.marker = new ol.Overlay({ element: ring, positioning: 'center-center', stopEvent: false });
    }
    this.map.addOverlay(this.marker);
    this.marker.setPosition([x, y]);
  }

  unmark() { this.marker?.setPosition(undefined); }
}

/** The outlines of the files that the DEM was put together from, and the lines along which they meet. */
function fileLayer(files, seams) {
  const seam = [new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 4.5 }), zIndex: 1 }), new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#7C4E8C', width: 2.2 }), zIndex: 2 })];
  const style = (f) => f.get('seam') ? seam : new ol.style.Style({
    stroke: new ol.style.Stroke({ color: '#7C4E8C', width: 1.8, lineDash: [10, 5] }),
    text: new ol.style.Text({ text: f.get('name'), placement: 'line', textBaseline: 'bottom', font: '600 12px "Source Sans 3"', fill: new ol.style.Fill({ color: '#4A2466' }), stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3 }) }),
  });
  const features = files.map((f) => new ol.Feature({ geometry: new ol.geom.LineString(f.ring), name: f.name }));
  features.push(...seams.map((line) => new ol.Feature({ geometry: new ol.geom.LineString(line), seam: true })));
  return new ol.layer.Vector({ source: new ol.source.Vector({ features }), style });
}

/** Draws the key of a layer. */
export function keyOf(key, map) {
  const box = document.createElement('div');
  box.className = 'key';
  const ramp = (colours, left, right) => {
    const canvas = document.createElement('canvas');
    canvas.width = 150; canvas.height = 9;
    const pen = canvas.getContext('2d');
    const gradient = pen.createLinearGradient(0, 0, 150, 0);
    colours.forEach((c, i) => gradient.addColorStop(i / (colours.length - 1), c));
    pen.fillStyle = gradient;
    pen.fillRect(0, 0, 150, 9);
    const ends = document.createElement('div');
    ends.className = 'ends';
    for (const t of [left, right]) { const s = document.createElement('span'); s.textContent = t; ends.append(s); }
    box.append(canvas, ends);
  };
  const d = map.data;
  if (key === 'relief' && d.stretch) ramp(['#B9C8A6', '#D3D7B0', '#E6DDB9', '#D9C3A0', '#C3AA9B', '#DCD5D2'], `${Math.round(map.views.of('relief').low ?? d.stretch[0])} m`, `${Math.round(map.views.of('relief').high ?? d.stretch[1])} m`);
  if (key === 'slope') ramp(SLOPE, ...map.views.ends(key));
  if (['curvature', 'near', 'far'].includes(key)) ramp(POSITION, ...map.views.ends(key));
  if (key === 'area') ramp(AREA_RAMP, area(10 ** map.stretch[0] * d.cell_area_m2), area(10 ** map.stretch[1] * d.cell_area_m2));
  if (key === 'sinks' && d.deepest_m) ramp(['#E3CFE6', '#B98BC4', '#84519B', '#4A2466'], 'shallow', `${d.deepest_m.toFixed(2)} m deep`);
  if (key === 'change' && d.change_m) ramp(['#8A3414', '#CF8450', '#F1DCC8', '#FFFDF8', '#DCE3F0', '#7F8FC4', '#2E3A7E'], `cut ${d.change_m.toFixed(1)} m`, `fill ${d.change_m.toFixed(1)} m`);
  if (key === 'features' && map.featuresComplete === false) box.append('The largest are shown; go closer to see all.');
  if (key === 'files') box.append('dashed: outlines; drawn through: seams');
  if (key === 'streams') { const { by, from } = wanted(map.views.style.streams); ramp(WATER, by === 'area' ? 'small area' : by === 'magnitude' ? 'magnitude 1' : `order ${from}`, by === 'area' ? 'large' : 'higher'); }
  if (key === 'agreement') { const p = document.createElement('p'); p.className = 'agreement-key'; for (const side of ['matched', 'extra', 'missed']) { const s = document.createElement('span'); s.className = side; s.textContent = side; p.append(s); } box.append(p); }
  if (key === 'way' && map.longest !== undefined) ramp(['#FBF3DC', '#E9C9A0', '#D1937A', '#A55A6A', '#5E2F57'], '0 m', `${Math.round(map.longest).toLocaleString('en').replaceAll(',', '\u202F')} m`);
  if (key === 'direction') {
    const canvas = document.createElement('canvas');
    canvas.width = 54; canvas.height = 54;
    const pen = canvas.getContext('2d');
    ['#D9A441', '#C9703F', '#A8465A', '#7C4E8C', '#4A66A0', '#3F8C9C', '#5B9B6B', '#A3AE52'].forEach((c, i) => {
      pen.fillStyle = c;
      pen.beginPath(); pen.moveTo(27, 27); pen.arc(27, 27, 26, (i - 0.5) * Math.PI / 4, (i + 0.5) * Math.PI / 4); pen.fill();
    });
    box.append(canvas, document.createTextNode('towards; dark: outlet'));
  }
  return box;
}

/** An area in m², ha or km², by its size. */
export function area(m2) {
  const digits = (v, n) => v.toLocaleString('en', { maximumSignificantDigits: n, minimumSignificantDigits: Math.min(n, 3) }).replaceAll(',', '\u202F');
  if (m2 < 1e4) return `${digits(m2, 3)} m²`;
  if (m2 < 1e6) return `${digits(m2 / 1e4, 3)} ha`;
  return `${digits(m2 / 1e6, 4)} km²`;
}
