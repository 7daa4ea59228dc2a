// How the ground is looked at: light, slope, curvature, topographic position, contours; and how each layer is drawn.
import { ask, query, send } from '../lib/common.js';
import { Latest } from '../lib/latest.js';
import { METRE } from '../lib/units.js';
import { rampQuery } from './ramps.js';
import { labelOf, strokeOf, styleOf } from './vector.js';

const ol = window.ol;
const COMPUTED = ['slope', 'curvature', 'near', 'far'];
/** What views are measured in that are not measured in metres. */
export const UNITS = { slope: '°', curvature: '/100 m' };

export class Views {
  constructor(map) {
    this.map = map;
    this.style = {};
    /** computed views that have been given their range */
    this.ready = new Set();
    /** ranges of computed views */
    this.ranges = {};
    this.lines = new Latest();
  }

  /** Takes up how the map was drawn, unless something was chosen that is not kept yet. */
  take(style) {
    if (!this.timer) this.style = style ?? {};
  }

  /** What was chosen for a layer before, with the usual for the rest. */
  of(key) {
    const cell = this.map.main?.cell_x * (this.map.data?.crs?.unit_m ?? 1) || 1;
    const usual =
      {
        relief: { azimuth: 315, altitude: 45 },
        near: { radius: Math.round(10 * cell) },
        far: { radius: Math.round(75 * cell) },
      }[key] ?? {};
    return { opacity: 1, ...usual, ...this.style[key] };
  }

  /** The layers are built anew: their ranges are to be asked for again. */
  begin() {
    this.take(this.map.data.style);
    this.ready = new Set();
  }

  /** The address of terrain tiles under the chosen light, colours and range. */
  reliefQuery() {
    const { azimuth, altitude } = this.of('relief');
    const { low, high } = this.rangeOf('relief') ?? { low: 0, high: 1 };
    const light = `azimuth=${azimuth}&altitude=${altitude}`;
    return `?low=${low}&high=${high}&${light}${rampQuery(this.map, 'relief')}`;
  }

  /** The range that a layer is drawn over: as typed, or as found. */
  rangeOf(key) {
    const { data } = this.map;
    const { low, high, outer } = this.of(key);
    let found = this.ranges[key];
    // That of the terrain is known before anything is asked.
    if (key === 'relief' && (outer === undefined || !found) && data.stretch)
      found = { low: data.stretch[0], high: data.stretch[1] };
    if (key === 'sinks') found = { low: 0, high: data.deepest_m ?? 1 };
    if (key === 'change') found = { low: 0, high: data.change_m || 1 };
    if (key === 'way') found = { low: 0, high: this.map.longest ?? 1 };
    return found && { low: low ?? found.low, high: high ?? found.high };
  }

  /** Draws the terrain over the percentiles that were chosen. */
  async reliefRange() {
    const { map } = this;
    const { outer } = this.of('relief');
    if (outer !== undefined && map.data.rasters.dem)
      this.ranges.relief = await ask(`${map.base}/range/relief?outer=${outer}`);
    const what = map.data.rasters.dem ? 'dem' : 'source';
    map.layers.relief?.setSource(map.tiles(what, map.main, this.reliefQuery(), true));
    map.onStyled?.();
  }

  /** Gives a computed view its range, when it is first looked at. */
  async show(key) {
    const layer = this.map.layers[key];
    if (!layer || this.ready.has(key) || !COMPUTED.includes(key)) return;
    this.ready.add(key);
    await this.source(key);
  }

  async source(key) {
    const { map } = this;
    const { radius, outer } = this.of(key);
    const asked = query({
      ...(radius ? { radius } : {}),
      ...(outer === undefined ? {} : { outer }),
    });
    this.ranges[key] = await ask(`${map.base}/range/${key}?${asked}`);
    const { low, high } = this.rangeOf(key);
    const drawn = `?low=${low}&high=${high}${radius ? `&radius=${radius}` : ''}${rampQuery(map, key)}`;
    map.layers[key]?.setSource(map.tiles(key, map.main, drawn, true));
    map.onStyled?.();
  }

  async contours() {
    const { map } = this;
    const layer = map.layers.contours;
    const size = map.map?.getSize();
    if (!layer || !size || !map.shown.has('contours')) return;
    const view = map.map.getView();
    const [west, south, east, north] = view.calculateExtent(size);
    const { interval } = this.of('contours');
    const seen = query({
      west,
      south,
      east,
      north,
      resolution: view.getResolution(),
      ...(interval ? { interval } : {}),
    });
    const told = await this.lines.ask(`${map.base}/contours?${seen}`);
    if (!told || layer !== map.layers.contours) return;
    this.interval = told.interval;
    const source = layer.getSource();
    source.clear(true);
    const heavy = (elevation) => Math.round(elevation / told.interval) % 5 === 0;
    source.addFeatures(
      told.lines.map(
        ({ line, elevation }) =>
          new ol.Feature({
            geometry: new ol.geom.LineString(line),
            elevation,
            heavy: heavy(elevation),
          }),
      ),
    );
    map.target.dataset.contours = told.lines.length;
    map.onStyled?.();
  }

  set(key, change) {
    this.style[key] = { ...this.style[key], ...change };
    for (const name of Object.keys(change)) if (change[name] === null) delete this.style[key][name];
    const { layers } = this.map;
    if ('opacity' in change) layers[key]?.setOpacity?.(change.opacity);
    // The map has moved what has another place.
    else if (!('place' in change)) this.map.spec(key)?.styled?.(this.map);
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      const sent = JSON.stringify(this.style);
      await send(`${this.map.base}/style`, { style: sent });
      if (sent === JSON.stringify(this.style)) this.timer = null;
    }, 600);
  }

  /** The ends of a view's ramp, in words. */
  ends(key) {
    const range = this.ranges[key] && this.rangeOf(key);
    if (!range) return ['', ''];
    const most = Math.max(Math.abs(range.low), Math.abs(range.high));
    const [size, unit] = UNITS[key] ? [1, UNITS[key]] : [METRE.size, METRE.symbol];
    const told = (v) =>
      `${Number((v / size).toPrecision(2))} ${unit}`.replace(' °', '°').replace('-', '\u2212');
    if (key === 'slope') return [told(range.low), told(range.high)];
    const [below, above] = key === 'curvature' ? ['hollow', 'convex'] : ['low', 'high'];
    return [`${below} ${told(-most)}`, `${above} ${told(most)}`];
  }
}

/** Every fifth contour is drawn heavier, with its elevation. */
export const contourStyle = (map) => (feature) => {
  const now = styleOf(map, 'contours');
  const heavy = feature.get('heavy');
  const line = strokeOf({ ...now, width: heavy ? now.width * 2.1 : now.width });
  const elevation = `${+(feature.get('elevation') / METRE.size).toFixed(METRE.size === 1 ? 3 : 1)}`;
  const text = labelOf(now, heavy && now.label ? elevation : '', {
    placement: 'line',
    fill: new ol.style.Fill({ color: now.color }),
  });
  return new ol.style.Style({ stroke: line, text, zIndex: heavy ? 2 : 1 });
};
