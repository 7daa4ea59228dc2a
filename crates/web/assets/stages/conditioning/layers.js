// What Conditioning draws on the map: sinks, cut and fill, flow direction, the provisional network, crossings.
import { Latest } from '../../lib/latest.js';
import { height } from '../../lib/units.js';
import { coloursOf, rampQuery } from '../../map/ramps.js';
import { stroke, strokeOf, styleOf } from '../../map/vector.js';

const ol = window.ol;
const WAYS = ['#D9A441', '#C9703F', '#A8465A', '#7C4E8C', '#4A66A0', '#3F8C9C', '#5B9B6B', '#A3AE52'];
const DECIDED = {
  breach: '#0F5C63',
  fill: '#5D6B68',
  keep: '#5B7F3B',
  open: '#B4532A',
};

/** The streams before anything is decided. */
function provisionalLayer(map) {
  const style = () => {
    const now = styleOf(map, 'provisional');
    const lines = [stroke('#FFFDF8', now.width + 1.9), strokeOf(now)];
    return lines.map((line) => new ol.style.Style({ stroke: line }));
  };
  return new ol.layer.Vector({
    source: new ol.source.Vector(),
    style,
    updateWhileInteracting: true,
  });
}

/** Proposed breach lines: thick where chosen, coloured and dashed by what was decided. */
function barrierLayer(map) {
  const style = (feature, resolution) => {
    const chosen = feature.get('id') === map.chosenBarrier;
    const decision = feature.get('decision');
    const color = DECIDED[decision ?? 'open'];
    if (feature.getGeometry().getType() === 'Point') {
      // From near by the line itself is seen.
      if (resolution < map.main.cell_x) return null;
      const image = new ol.style.Circle({
        radius: chosen ? 9 : 6,
        stroke: stroke(color, 2.4),
        fill: new ol.style.Fill({ color: '#FFFDF8CC' }),
      });
      return new ol.style.Style({ image, zIndex: 4 });
    }
    const line = (...how) => new ol.style.Style({ stroke: stroke(...how), zIndex: chosen ? 6 : 5 });
    const dash = decision === 'breach' ? undefined : [6, 4];
    return [line('#FFFDF8', chosen ? 7 : 5), line(color, chosen ? 4.4 : 2.8, dash)];
  };
  return new ol.layer.Vector({
    source: new ol.source.Vector(),
    style,
    updateWhileAnimating: true,
  });
}

const last = new Latest();

export async function loadBarriers(map) {
  const source = map.layers.barriers?.getSource();
  if (!source) return;
  const all = await last.ask(`${map.base}/barriers`);
  if (!all) return;
  source.clear();
  map.crossings = all;
  for (const b of all) {
    const about = { id: b.id, decision: b.decision };
    source.addFeature(new ol.Feature({ geometry: new ol.geom.LineString(b.line), ...about }));
    source.addFeature(new ol.Feature({ geometry: new ol.geom.Point(b.crest), ...about }));
  }
  map.target.dataset.barriers = all.length;
}

function directionLegend(map, legend) {
  const canvas = Object.assign(document.createElement('canvas'), {
    width: 54,
    height: 54,
  });
  const pen = canvas.getContext('2d');
  WAYS.forEach((colour, i) => {
    pen.fillStyle = colour;
    pen.beginPath();
    pen.moveTo(27, 27);
    pen.arc(27, 27, 26, ((i - 0.5) * Math.PI) / 4, ((i + 0.5) * Math.PI) / 4);
    pen.fill();
  });
  const [codes, outlet] = map.data.direction_codes;
  const told = Object.assign(document.createElement('span'), {
    className: 'codes',
  });
  told.textContent = `Code and direction: ${codes.join(', ')}. Dark: outlet, code ${outlet}.`;
  legend.add(canvas, told);
}

/**
 * A raster that is there once flow is routed.
 * @param {string} what
 * @param {string} raster
 * @param {(map: any) => string} [query]
 */
const routed =
  (what, raster, query = () => '') =>
  (map) => {
    const { rasters } = map.data;
    return rasters.area && rasters[raster] ? map.picture(what, rasters[raster], query(map), false) : null;
  };

/** What the address of a layer's tiles tells of colours and range. */
const drawnAs = (key) => (map) => `?high=${map.views.rangeOf(key).high}${rampQuery(map, key)}`;

function redrawn(map, key) {
  map.layers[key].setSource(map.tiles(key, map.data.rasters[key], drawnAs(key)(map), false));
  map.onStyled?.();
}

export const layers = [
  {
    key: 'sinks',
    name: 'Sinks',
    place: 40,
    raster: { most: true },
    build: routed('sinks', 'sinks', drawnAs('sinks')),
    styled: (map) => redrawn(map, 'sinks'),
    legend: (map, legend) => {
      const { high } = map.views.rangeOf('sinks');
      if (map.data.deepest_m) legend.ramp(coloursOf(map, 'sinks'), 'shallow', `${height(high)} deep`);
    },
  },
  {
    key: 'change',
    name: 'Cut and fill',
    place: 41,
    raster: { most: true },
    build: routed('change', 'change', drawnAs('change')),
    styled: (map) => redrawn(map, 'change'),
    legend: (map, legend) => {
      const { high } = map.views.rangeOf('change');
      const colours = coloursOf(map, 'change');
      if (map.data.change_m) legend.ramp(colours, `cut ${height(high, 1)}`, `fill ${height(high, 1)}`);
    },
  },
  {
    key: 'direction',
    name: 'Flow direction',
    place: 43,
    opacity: 0.85,
    build: routed('direction', 'direction'),
    legend: directionLegend,
  },
  {
    // It comes with the features, which fetch both.
    key: 'provisional',
    name: 'Provisional network',
    place: 70,
    vector: { key: 'provisional' },
    build: (map) => (map.data.rasters.dem ? provisionalLayer(map) : null),
    styled: (map) => map.layers.provisional?.changed(),
  },
  {
    key: 'barriers',
    name: 'Crossings',
    place: 72,
    build: (map) => (map.data.rasters.dem ? barrierLayer(map) : null),
    follows: ['study'],
    wanted: () => true,
    load: loadBarriers,
  },
];
