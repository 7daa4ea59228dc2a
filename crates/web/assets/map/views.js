// How the ground is looked at: light, slope, curvature, topographic position, contours; and how each layer is drawn.
import { ask, query, send } from '../lib/common.js';
import { Latest } from '../lib/latest.js';
import { METRE } from '../lib/units.js';

const ol = window.ol;
export const SLOPE = ['#FAF5E6', '#E9CF9B', '#CF9257', '#96512F', '#4B2218'];
export const POSITION = ['#0E4A57', '#3C8790', '#9CC7C5', '#F6F1E4', '#E0B98C', '#B1743F', '#6B3A17'];
const COMPUTED = ['slope', 'curvature', 'near', 'far'];
const UNITS = {
  slope: '°',
  curvature: '/100 m',
  near: METRE.symbol,
  far: METRE.symbol,
  relief: METRE.symbol,
};
/** How many of the unit that the server knows one of those shown has. */
const size = (key) => (['near', 'far', 'relief', 'contours'].includes(key) ? METRE.size : 1);

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

  /** The address of terrain tiles under the chosen light and range. */
  reliefQuery() {
    const { azimuth, altitude, low, high } = this.of('relief');
    const [p2, p98] = this.map.data.stretch ?? [0, 1];
    return `?low=${low ?? p2}&high=${high ?? p98}&azimuth=${azimuth}&altitude=${altitude}`;
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
    const { radius, low, high } = this.of(key);
    const asked = radius ? `?radius=${radius}` : '';
    this.ranges[key] = await ask(`${map.base}/range/${key}${asked}`);
    const range = { low: low ?? this.ranges[key].low, high: high ?? this.ranges[key].high };
    this.shownRange = { ...this.shownRange, [key]: range };
    const query = `?low=${range.low}&high=${range.high}${radius ? `&radius=${radius}` : ''}`;
    map.layers[key]?.setSource(map.tiles(key, map.main, query, true));
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
          new ol.Feature({ geometry: new ol.geom.LineString(line), elevation, heavy: heavy(elevation) }),
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

  /** What can be chosen for a layer, folded away under its key. */
  controls(key) {
    if (key === 'cells') return null;
    const known = key === 'contours' || key === 'relief' || COMPUTED.includes(key);
    if (!known && !this.map.layers[key]?.setOpacity) return null;
    const box = document.createElement('details');
    box.className = 'style';
    box.open = this.open === key;
    box.addEventListener('toggle', () => {
      if (box.open) this.open = key;
      else if (this.open === key) this.open = null;
    });
    const head = document.createElement('summary');
    head.textContent = 'Style';
    head.setAttribute('aria-label', `Style of ${key}`);
    box.append(head);
    const now = this.of(key);
    // Rounded for display: what was typed in feet is kept to the millimetre.
    const shown = (v) => (v === undefined || v === null ? v : +(v / size(key)).toFixed(3));
    const kept = (v) => (size(key) === 1 ? v : +(v * size(key)).toFixed(3));
    const add = (name, label, type, own, more = {}) => {
      const value = type === 'range' ? own : shown(own);
      const row = document.createElement('label');
      row.append(label);
      const input = Object.assign(document.createElement('input'), { type, ...more });
      if (value !== undefined) input.value = value;
      input.addEventListener(type === 'range' ? 'input' : 'change', () => {
        const v = input.value.trim() === '' ? null : Number(input.value.replace(',', '.'));
        if (v !== null && !Number.isFinite(v)) {
          input.value = value ?? '';
          return;
        }
        this.set(key, { [name]: v === null || type === 'range' ? v : kept(v) });
      });
      row.append(input);
      box.append(row);
    };
    add('opacity', 'Opacity', 'range', now.opacity, { min: 0, max: 1, step: 0.05 });
    if (key === 'relief') {
      add('azimuth', 'Light from, °', 'range', now.azimuth, { min: 0, max: 355, step: 5 });
      add('altitude', 'Light height, °', 'range', now.altitude, { min: 10, max: 85, step: 5 });
    }
    if (key === 'near' || key === 'far')
      add('radius', `Radius, ${METRE.symbol}`, 'text', now.radius, { inputMode: 'decimal' });
    this.map.spec(key)?.controls?.(this.map, box);
    if (key === 'contours') {
      const placeholder = this.interval ? `${shown(this.interval)}` : 'fitting';
      add('interval', `Interval, ${METRE.symbol}`, 'text', now.interval, {
        inputMode: 'decimal',
        placeholder,
      });
    }
    if (key === 'relief' || COMPUTED.includes(key)) {
      const [low, high] = this.map.data.stretch ?? [];
      const range = key === 'relief' ? { low, high } : (this.ranges?.[key] ?? {});
      const told = (v) => (v === undefined ? '' : `${Number(shown(v).toPrecision(3))}`);
      add('low', `From, ${UNITS[key]}`, 'text', now.low, {
        inputMode: 'decimal',
        placeholder: told(range.low),
      });
      add('high', `To, ${UNITS[key]}`, 'text', now.high, {
        inputMode: 'decimal',
        placeholder: told(range.high),
      });
    }
    const order = document.createElement('p');
    order.className = 'acts';
    for (const [label, way] of [
      ['Draw higher', 1],
      ['Draw lower', -1],
    ]) {
      const button = Object.assign(document.createElement('button'), {
        type: 'button',
        className: 'btn btn-sm quiet',
        textContent: label,
      });
      button.addEventListener('click', () => this.map.reorder(key, way));
      order.append(button);
    }
    box.append(order);
    return box;
  }

  /** The ends of a view's ramp, in words. */
  ends(key) {
    const range = this.shownRange?.[key];
    if (!range) return ['', ''];
    const most = Math.max(Math.abs(range.low), Math.abs(range.high));
    const told = (v) =>
      `${Number((v / size(key)).toPrecision(2))} ${UNITS[key]}`.replace(' °', '°').replace('-', '\u2212');
    if (key === 'slope') return [told(range.low), told(range.high)];
    const [below, above] = key === 'curvature' ? ['hollow', 'convex'] : ['low', 'high'];
    return [`${below} ${told(-most)}`, `${above} ${told(most)}`];
  }
}

const LINE = '#7A5A36';
export function contourStyle(feature) {
  const heavy = feature.get('heavy');
  const stroke = new ol.style.Stroke({ color: LINE, width: heavy ? 1.5 : 0.7 });
  const text = heavy
    ? new ol.style.Text({
        text: `${+(feature.get('elevation') / METRE.size).toFixed(METRE.size === 1 ? 3 : 1)}`,
        placement: 'line',
        font: '600 11px "Source Sans 3"',
        fill: new ol.style.Fill({ color: LINE }),
        stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3 }),
      })
    : undefined;
  return new ol.style.Style({ stroke, text, zIndex: heavy ? 2 : 1 });
}
