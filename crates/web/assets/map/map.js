// The map: layers on the study's own grid, in its own CRS. What is drawn is registered by who owns it.
import { ask } from '../lib/common.js';
import { METRE } from '../lib/units.js';
import { FORMULA, derivedSpecs } from '../derived/layers.js';
import { STAGES } from '../stages/registry.js';
import { backdropSpecs, serverSpecs } from './backdrops.js';
import { featureSpec } from './features.js';
import { CELLS, GROUND } from './ground.js';
import { Legend } from './legend.js';
import { Swipe } from './swipe.js';
import { Views } from './views.js';
import { Zooming } from './zooming.js';

const ol = window.ol;
/** Opacity of the ground where another subject is the loudest. */
const QUIET = 0.62;
/** @type {import('../stages/registry.js').LayerSpec[]} */
const REGISTERED = [...GROUND, ...STAGES.flatMap((stage) => stage.layers), FORMULA, featureSpec, CELLS];

export class StudyMap {
  constructor(target, study) {
    this.base = `/studies/${study}`;
    this.study = study;
    this.target = target;
    this.shown = new Set(['relief']);
    this.layers = {};
    this.specs = REGISTERED;
    this.threshold = 1;
    this.frames = 0;
    this.cellsOf = 'elevation';
    this.views = new Views(this);
    this.swiping = new Swipe(this);
    /** the canvas of contributing area */
    this.flow = null;
    /** whether all reaches in view have come, so that lines take the place of pixels */
    this.complete = false;
    /** where it stands whom the maps that are drawn are owed to */
    this.owed = Object.assign(document.createElement('p'), { className: 'owed' });
    /** opens and closes the view in three dimensions */
    this.perspective = null;
    /**
     * called when the map was moved, when something is pointed at elsewhere, when a layer is drawn otherwise,
     * and when something went wrong
     */
    this.onMove = null;
    this.onPointed = null;
    this.onStyled = null;
    this.onProblem = null;
  }

  /** Fetches what there is and builds the layers; keeps the view where the grid is the same. */
  async load(view) {
    const [data, backdrops, servers] = await Promise.all(
      ['map', 'backdrops', 'maps'].map((what) => ask(`${this.base}/${what}`)),
    );
    this.pictures = [...serverSpecs(servers), ...backdropSpecs(backdrops)];
    const main = data.rasters.dem ?? data.rasters.source;
    const key =
      main && JSON.stringify([main.left, main.top, main.cell_x, main.rows, main.cols, data.crs?.epsg]);
    const same = key === this.key;
    this.data = data;
    this.key = key;
    this.threshold = data.threshold_cells ?? 1;
    if (!main) {
      this.map?.setTarget(null);
      this.map = null;
      return false;
    }
    this.main = main;
    if (!this.map || !same) this.begin(view);
    this.build();
    return true;
  }

  begin(view) {
    const { main, data } = this;
    const extent = [
      main.left,
      main.top - main.rows * main.cell_y,
      main.left + main.cols * main.cell_x,
      main.top,
    ];
    this.extent = extent;
    const degrees = data.crs?.degrees;
    this.projection = new ol.proj.Projection({
      code: `study-${this.study}-${Date.now()}`,
      extent,
      units: degrees ? 'degrees' : 'm',
      metersPerUnit: degrees ? undefined : (data.crs?.unit_m ?? 1),
    });
    const span = Math.max(extent[2] - extent[0], extent[3] - extent[1]);
    const margin = span * 0.6;
    if (!this.map) {
      this.map = new ol.Map({
        target: this.target,
        layers: [],
        keyboardEventTarget: this.target,
        controls: [],
        // The wheel zooms without a click before.
        interactions: ol.interaction.defaults.defaults({ onFocusOnly: false }),
      });
      this.zooming = new Zooming(this);
      this.map.addControl(
        new ol.control.ScaleLine({
          units: METRE.size === 1 ? 'metric' : 'imperial',
          minWidth: 90,
        }),
      );
      this.map.on('moveend', () => {
        this.zooming.rests();
        this.onMove?.();
      });
    }
    const fit = new ol.View({
      projection: this.projection,
      extent: [extent[0] - margin, extent[1] - margin, extent[2] + margin, extent[3] + margin],
      constrainOnlyCenter: true,
      minResolution: main.cell_x / 96,
      maxResolution: span / 200,
      smoothExtentConstraint: false,
    });
    this.zooming.forget();
    this.map.setView(fit);
    if (view?.every(Number.isFinite)) {
      fit.setCenter([view[0], view[1]]);
      fit.setResolution(view[2]);
    } else this.fit();
  }

  /** Shows the whole study, or this extent. */
  fit(extent = this.extent) {
    this.map?.getView().fit(extent, {
      padding: [18, 18, 18, 18],
      maxZoom: this.map.getView().getMaxZoom(),
    });
  }

  /** Where the features of a layer lie; nothing for a raster, which lies all over the study. */
  extentOf(key) {
    const source = this.layers[key]?.getSource?.();
    const extent = source?.getFeatures?.().length ? source.getExtent() : null;
    return extent?.every(Number.isFinite) ? extent : null;
  }

  grid(raster) {
    const resolutions = [];
    for (let level = raster.levels - 1; level >= 0; level--) resolutions.push(raster.cell_x * 2 ** level);
    // Cells of a geographic DEM are drawn as squares of one step each.
    const height = raster.rows * raster.cell_y;
    return new ol.tilegrid.TileGrid({
      origin: [raster.left, raster.top],
      resolutions,
      tileSize: 256,
      extent: [raster.left, raster.top - height, raster.left + raster.cols * raster.cell_x, raster.top],
    });
  }

  address(what, raster, z, x, y) {
    return `${this.base}/tiles/${what}/${raster.id}/${raster.levels - 1 - z}/${x}/${y}`;
  }

  tiles(what, raster, query, interpolate) {
    return new ol.source.TileImage({
      projection: this.projection,
      tileGrid: this.grid(raster),
      interpolate,
      transition: 0,
      wrapX: false,
      tileUrlFunction: ([z, x, y]) => this.address(what, raster, z, x, y) + query,
    });
  }

  picture(what, raster, query, interpolate) {
    return new ol.layer.Tile({
      source: this.tiles(what, raster, query, interpolate),
    });
  }

  /** What is registered of a layer. */
  spec(key) {
    return this.specs.find((spec) => spec.key === key);
  }

  build() {
    const { rasters } = this.data;
    this.swiping.end();
    for (const layer of this.map.getLayers().getArray().slice()) this.map.removeLayer(layer);
    this.specs = [...REGISTERED, ...derivedSpecs(this.data.derived), ...this.pictures];
    this.views.begin();
    this.after = rasters.filled
      ? this.picture('filled', rasters.filled, this.views.reliefQuery(), true)
      : null;
    this.layers = {};
    for (const { key, build, opacity } of this.specs) {
      const layer = build(this);
      if (!layer) continue;
      this.layers[key] = layer;
      const chosen = this.views.style[key]?.opacity ?? opacity;
      if (chosen !== undefined) layer.setOpacity?.(chosen);
    }
    for (const key of this.order()) {
      this.map.addLayer(this.layers[key]);
      if (key === 'relief' && this.after) {
        this.after.setVisible(false);
        this.map.addLayer(this.after);
      }
    }
    // All of it is fetched below.
    this.drawn = new Set(this.shown);
    this.setQuiet(this.quiet);
    this.show();
    this.refresh('study');
  }

  /** Fetches anew what follows `why` and is drawn, or wanted all the same. */
  refresh(why) {
    if (!this.map) return Promise.resolve();
    /** @param {import('../stages/registry.js').LayerSpec} spec */
    const follows = ({ key, follows: all, wanted }) =>
      this.layers[key] && all?.includes(why) && (wanted ? wanted(this) : this.shown.has(key));
    const load = async (spec) => {
      try {
        await spec.load(this);
      } catch (error) {
        this.onProblem?.(error.message);
      }
    };
    return Promise.all(this.specs.filter(follows).map(load));
  }

  /** The layers from the lowest up, as the analyst has put them. */
  order() {
    const there = this.specs.filter(({ key }) => this.layers[key]).sort((a, b) => a.place - b.place);
    const usual = there.map(({ key }) => key);
    const place = (key) => this.views.style[key]?.place ?? usual.indexOf(key);
    return usual.slice().sort((a, b) => place(a) - place(b) || usual.indexOf(a) - usual.indexOf(b));
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
    const top = (layer) => {
      layers.remove(layer);
      layers.push(layer);
    };
    order.forEach((k) => {
      top(this.layers[k]);
      if (k === 'relief' && this.after) top(this.after);
    });
    return true;
  }

  /** What can be drawn: key and name, the ground and the pictures on it first. */
  list() {
    const [relief, ...rest] = this.specs.filter((spec) => !spec.picture);
    return [relief, ...this.specs.filter((spec) => spec.picture), ...rest];
  }

  /** The ground before and after conditioning, on both sides of a handle. */
  swipe() {
    if (this.after) this.swiping.toggle(this.after);
  }

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
    this.refresh('threshold');
  }

  showFlow() {
    const layer = this.layers.area;
    if (!layer) return;
    const streams = this.shown.has('streams');
    const lines = this.resting && this.complete;
    this.layers.streams.setVisible(streams && this.resting);
    layer.setVisible(this.shown.has('area') || streams);
    const [low, high] = this.stretch;
    const area = this.shown.has('area');
    this.flow.set({
      threshold: this.threshold,
      streams: streams && !lines,
      area,
      low,
      high,
    });
  }

  /** Shows what is drawn, and fetches what came to it. */
  show() {
    const before = this.drawn ?? new Set();
    this.drawn = new Set(this.shown);
    for (const { key, shows } of this.specs) {
      if (this.layers[key] && !shows) this.layers[key].setVisible(this.shown.has(key));
    }
    this.showFlow();
    this.attribute();
    if ([...this.shown].some((key) => !before.has(key))) this.refresh('shown');
  }

  /** Whom the maps that are drawn are owed to. */
  attribute() {
    this.owed ??= Object.assign(document.createElement('p'), {
      className: 'owed',
    });
    const drawn = this.specs.filter(({ key, attribution }) => attribution && this.shown.has(key));
    this.owed.textContent = [...new Set(drawn.map(({ attribution }) => attribution))].join(' · ');
    this.owed.hidden = !drawn.length;
    if (!this.owed.isConnected) this.target.append(this.owed);
  }

  /** Draws these layers and no others. */
  drawOnly(keys) {
    this.shown = new Set(keys);
    if (this.map) this.show();
  }

  /** After Terrain the ground is quiet, so that what the stage is about is the loudest. */
  setQuiet(quiet) {
    this.quiet = quiet;
    const chosen = this.views.style.relief?.opacity;
    this.layers.relief?.setOpacity(chosen ?? (quiet ? QUIET : 1));
  }

  toggle(key, on) {
    if (on) this.shown.add(key);
    else this.shown.delete(key);
    this.show();
  }

  goTo(x, y, mark = true, cells = 1.5) {
    const view = this.map.getView();
    const close = Math.min(view.getResolution(), this.main.cell_x * cells);
    const still = matchMedia('(prefers-reduced-motion: reduce)').matches;
    if (still) {
      view.setCenter([x, y]);
      view.setResolution(close);
    } else view.animate({ center: [x, y], resolution: close, duration: 350 });
    if (mark) this.mark(x, y);
  }

  mark(x, y) {
    if (!this.marker) {
      const ring = document.createElement('div');
      ring.className = 'marker';
      this.marker = new ol.Overlay({
        element: ring,
        positioning: 'center-center',
        stopEvent: false,
      });
    }
    this.map.addOverlay(this.marker);
    this.marker.setPosition([x, y]);
  }

  unmark() {
    this.marker?.setPosition(undefined);
  }

  /** Shows where something is that is pointed at elsewhere; nothing takes it away. */
  point(geometry) {
    if (!this.map) return;
    if (!this.pointing) {
      const line = (color, width) => new ol.style.Stroke({ color, width });
      const ring = (color, width) => new ol.style.Circle({ radius: 11, stroke: line(color, width) });
      const style = [
        new ol.style.Style({
          stroke: line('#FFFDF8', 8),
          image: ring('#FFFDF8', 6),
        }),
        new ol.style.Style({
          stroke: line('#B4532A', 4),
          image: ring('#B4532A', 3),
        }),
      ];
      this.pointing = new ol.layer.Vector({
        source: new ol.source.Vector(),
        style,
        zIndex: 1000,
      });
      this.pointing.setMap(this.map);
    }
    const source = this.pointing.getSource();
    source.clear();
    if (geometry) source.addFeature(new ol.Feature({ geometry }));
    this.target.dataset.pointed = geometry ? geometry.getType() : '';
    this.onPointed?.(geometry);
  }

  /** Where the corners of a shape lie on the screen, in pixels of the map. */
  pixels(geometry) {
    const flat = geometry.getFlatCoordinates();
    const stride = geometry.getStride();
    return Array.from({ length: flat.length / stride }, (_, i) =>
      this.map.getPixelFromCoordinate([flat[i * stride], flat[i * stride + 1]]),
    ).filter(Boolean);
  }
}

/** The key of a layer. */
export function keyOf(key, map) {
  const legend = new Legend();
  map.spec(key)?.legend?.(map, legend);
  return legend.box;
}
