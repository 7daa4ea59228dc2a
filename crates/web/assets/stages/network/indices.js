// Indices of the land by its flow: computed where they are looked at, for the threshold that holds.
import { ask } from '../../lib/common.js';
import { height, length, told } from '../../lib/units.js';
import { coloursOf, rampQuery } from '../../map/ramps.js';

const ol = window.ol;

const plain = (v) => told(v, { maximumFractionDigits: 1 });

/** Key, name, place, and what the ends of its key say. */
const INDICES = [
  ['height_above_stream', 'Height above the stream', 46, (v) => height(v, 1)],
  ['wetness_index', 'Wetness index', 47, plain],
  ['specific_area', 'Specific catchment area', 48, length],
  ['stream_power_index', 'Stream power index', 49, length],
];

/** Gives a layer the threshold that holds now. */
async function load(map, key) {
  const layer = map.layers[key];
  const cells = map.threshold;
  const range = await ask(`${map.base}/land/${key}?cells=${cells}`);
  if (cells !== map.threshold || layer !== map.layers[key]) return;
  map.views.ranges[key] = range;
  const drawn = `?cells=${cells}${rampQuery(map, key)}`;
  layer.setSource(map.tiles(key, map.data.rasters.area, drawn, false));
  map.onStyled?.();
}

const spec = (key, name, place, legend) => ({
  key,
  name,
  place,
  opacity: 0.85,
  raster: {},
  build: (map) => (map.data.rasters.area ? new ol.layer.Tile({ visible: false }) : null),
  follows: ['study', 'threshold', 'shown'],
  load: (map) => load(map, key),
  styled: (map) => load(map, key).catch((error) => map.onProblem?.(error.message)),
  legend: (map, box) => legend(map, box, map.views.ranges[key]),
});

const ends = (key, say) => (map, legend, range) => {
  if (range) legend.ramp(coloursOf(map, key), say(range.low), say(range.high));
};

export const indexSpecs = [
  ...INDICES.map(([key, name, place, say]) => spec(key, name, place, ends(key, say))),
  spec('aspect', 'Aspect', 41, (map, legend) =>
    legend.ramp(coloursOf(map, 'aspect'), 'north', 'by east, south, west to north'),
  ),
];
