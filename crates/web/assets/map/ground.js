// The ground as the map draws it: terrain, slope, curvature, topographic position, contours; and single cells.
import { query } from '../lib/common.js';
import { height } from '../lib/units.js';
import { closeUp } from './cells.js';
import { coloursOf } from './ramps.js';
import { UNITS, contourStyle } from './views.js';

const ol = window.ol;

/** A view computed from the prepared DEM, which gets its range when it is first looked at. */
const computed = (key, name, place) => ({
  key,
  name,
  place,
  raster: { range: true, percentiles: true, unit: UNITS[key] },
  build: (map) => (map.data.rasters.dem ? new ol.layer.Tile({ visible: false }) : null),
  follows: ['study', 'shown'],
  load: (map) => map.views.show(key),
  legend: (map, legend) => legend.ramp(coloursOf(map, key), ...map.views.ends(key)),
  styled: (map) => map.views.source(key).catch((error) => map.onProblem?.(error.message)),
});

const SHADE = {
  azimuth: 315,
  altitude: 45,
  exaggeration: 1.3,
  four_sides: false,
};
const shadeQuery = (map) => `?${query({ ...SHADE, ...shadeStyle(map) })}`;
const shadeStyle = (map) => {
  const { azimuth, altitude, exaggeration, four_sides } = map.views.style.shade ?? {};
  const chosen = Object.entries({
    azimuth,
    altitude,
    exaggeration,
    four_sides,
  });
  return Object.fromEntries(chosen.filter(([, v]) => v !== undefined).map(([k, v]) => [k, String(v)]));
};

/** Direction and height of the light, exaggeration, one side or four. */
function shadeControls(map, box) {
  const now = { ...SHADE, ...map.views.style.shade };
  const row = (name, text, more) => {
    const label = document.createElement('label');
    const input = Object.assign(document.createElement('input'), more);
    input.dataset.shade = name;
    const value = () => (input.type === 'checkbox' ? input.checked : Number(input.value));
    input.addEventListener('change', () => map.views.set('shade', { [name]: value() }));
    label.append(text, input);
    box.append(label);
  };
  row('azimuth', 'Light from, °', {
    type: 'range',
    min: '0',
    max: '360',
    step: '5',
    value: String(now.azimuth),
  });
  row('altitude', 'Height of light, °', {
    type: 'range',
    min: '5',
    max: '85',
    step: '5',
    value: String(now.altitude),
  });
  row('exaggeration', 'Exaggeration', {
    type: 'range',
    min: '0.5',
    max: '10',
    step: '0.5',
    value: String(now.exaggeration),
  });
  row('four_sides', 'From four sides', {
    type: 'checkbox',
    checked: now.four_sides,
  });
}

/** Layers that belong to the map itself, the ground first. */
export const GROUND = [
  {
    key: 'relief',
    name: 'Terrain',
    place: 0,
    build: (map) => {
      const what = map.data.rasters.dem ? 'dem' : 'source';
      return map.picture(what, map.main, map.views.reliefQuery(), true);
    },
    raster: { range: true, percentiles: true },
    legend: (map, legend) => {
      const range = map.views.rangeOf('relief');
      if (range) legend.ramp(coloursOf(map, 'relief'), height(range.low, 0), height(range.high, 0));
    },
    follows: ['study'],
    load: (map) => (map.views.style.relief?.outer === undefined ? null : map.views.reliefRange()),
    styled: (map) => map.views.reliefRange().catch((error) => map.onProblem?.(error.message)),
  },
  {
    // Under whatever else is drawn of the ground.
    key: 'shade',
    name: 'Hillshade',
    place: 5,
    build: (map) => (map.data.rasters.dem ? map.picture('shade', map.main, shadeQuery(map), true) : null),
    styled: (map) => map.layers.shade.setSource(map.tiles('shade', map.main, shadeQuery(map), true)),
    controls: shadeControls,
  },
  computed('slope', 'Slope', 10),
  computed('curvature', 'Curvature', 11),
  computed('near', 'Position, near', 13),
  computed('far', 'Position, far', 12),
  {
    key: 'contours',
    name: 'Contours',
    place: 30,
    vector: { key: 'contours', labels: [['elevation', 'elevation']] },
    build: (map) => {
      if (!map.data.rasters.dem) return null;
      const source = new ol.source.Vector();
      return new ol.layer.Vector({
        source,
        visible: false,
        declutter: true,
        style: contourStyle(map),
      });
    },
    follows: ['study', 'view', 'shown'],
    load: (map) => map.views.contours(),
    styled: (map) => {
      map.layers.contours.changed();
      return map.views.contours();
    },
  },
];

export const CELLS = {
  key: 'cells',
  name: 'Cell values',
  place: 90,
  build: closeUp,
};
