// Rasters from formulas on the map: those that are kept, and the one that is being typed.
import { ask } from '../lib/common.js';
import { told } from '../lib/units.js';
import { coloursOf, rampQuery } from '../map/ramps.js';

const ol = window.ol;

const colours = (map, key) => {
  const { ramp, reversed } = map.views.style[key] ?? {};
  if (ramp) return coloursOf(map, key);
  const own = map.data.ramps.own.derived;
  return reversed ? own.slice().reverse() : own;
};

const say = (v, unit) => `${told(v, { maximumSignificantDigits: 3 })} ${unit}`.replace('-', '\u2212').trim();

const main = (map) => map.data.rasters.dem;

/** Draws a raster that is kept as it is now. */
async function load(map, key, name) {
  const layer = map.layers[key];
  const range = await ask(`${map.base}/formulas/range?name=${encodeURIComponent(name)}`);
  if (layer !== map.layers[key]) return;
  map.views.ranges[key] = range;
  const { low, high } = map.views.rangeOf(key);
  const drawn = `?low=${low}&high=${high}&name=${encodeURIComponent(name)}${rampQuery(map, key)}`;
  layer.setSource(map.tiles('derived', main(map), drawn, false));
  map.onStyled?.();
}

/** The rasters that are kept, as layers of the map. */
export function derivedSpecs(derived) {
  return derived.map(({ name, unit }, at) => {
    const key = `derived-${name}`;
    return {
      key,
      name,
      place: 49.1 + at / (derived.length + 2),
      raster: { range: true, unit: unit || 'no unit' },
      build: (map) => (main(map) ? new ol.layer.Tile({ visible: false }) : null),
      follows: ['study', 'threshold', 'shown'],
      load: (map) => load(map, key, name),
      styled: (map) => load(map, key, name).catch((error) => map.onProblem?.(error.message)),
      legend: (map, legend) => {
        const range = map.views.ranges[key];
        if (range) legend.ramp(colours(map, key), say(range.low, unit), say(range.high, unit));
      },
    };
  });
}

/** The raster that is being typed. */
export const FORMULA = {
  key: 'formula',
  name: 'Formula',
  place: 49.9,
  quiet: true,
  build: (map) => (main(map) ? new ol.layer.Tile({ visible: false }) : null),
};

/** The colours between which a raster that is typed is drawn, as a strip. */
export function drawRamp(map, canvas) {
  const context = canvas.getContext('2d');
  const ramp = context.createLinearGradient(0, 0, canvas.width, 0);
  const stops = map.data.ramps.own.derived;
  stops.forEach((colour, at) => ramp.addColorStop(at / (stops.length - 1), colour));
  context.fillStyle = ramp;
  context.fillRect(0, 0, canvas.width, canvas.height);
}

export const ends = ({ low, high, sign }) => [say(low, sign), say(high, sign)];

/** Shows what is being typed; nothing where there is nothing to show. */
export function showFormula(map, look) {
  const layer = map.layers.formula;
  if (!layer) return;
  layer.setVisible(Boolean(look));
  if (!look) return;
  const drawn = `?low=${look.low}&high=${look.high}&of=${look.of}`;
  layer.setSource(map.tiles('derived', main(map), drawn, false));
}
