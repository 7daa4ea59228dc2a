// What Network draws on the map: contributing area, streams, their comparison with mapped ones, overland flow.
import { ask } from '../../lib/common.js';
import { area, height } from '../../lib/units.js';
import { coloursOf, rampQuery } from '../../map/ramps.js';
import { Flow } from './flow.js';
import { indexSpecs } from './indices.js';
import { loadSides, sideLayer } from './sides.js';
import { WATER, orderStyle, streamControls, streamStyle, wanted } from './streams.js';

const ol = window.ol;

const routed = (build) => (map) => (map.data.rasters.area ? build(map) : null);

/** The canvas of contributing area, on which streams are pixels while the threshold moves. */
function flowLayer(map) {
  map.stretch ??= map.data.log_percentiles.slice();
  map.flow = new Flow(map, map.data.rasters.area, {
    streams: WATER,
    area: coloursOf(map, 'area'),
  });
  return map.flow.layer;
}

function streamLayer(map) {
  const style = streamStyle(map);
  const source = new ol.source.Vector();
  return new ol.layer.Vector({
    source,
    style,
    updateWhileInteracting: true,
    updateWhileAnimating: true,
  });
}

/** Whether what was fetched, or is on its way, reaches beyond the view. */
function reaches(had, wanted_, [west, south, east, north]) {
  return (
    had &&
    had.layer === wanted_.layer &&
    had.cells === wanted_.cells &&
    had.resolution === wanted_.resolution &&
    had.whole !== false &&
    west >= had.west &&
    south >= had.south &&
    east <= had.east &&
    north <= had.north
  );
}

/** Fetches the reaches in view; they take the place of pixels once they are there. */
async function loadStreams(map) {
  const layer = map.layers.streams;
  const size = map.map.getSize();
  if (!size) return;
  const view = map.map.getView();
  const extent = view.calculateExtent(size);
  const [west, south, east, north] = extent;
  const pad = (east - west) * 0.25;
  const cells = map.threshold;
  const asked = {
    layer,
    cells,
    resolution: view.getResolution(),
    west: west - pad,
    south: south - pad,
    east: east + pad,
    north: north + pad,
  };
  if (reaches(map.asked, asked, extent)) return;
  map.asked = asked;
  map.fetching?.abort();
  map.fetching = new AbortController();
  const query = new URLSearchParams(Object.entries(asked).filter(([key]) => key !== 'layer'));
  try {
    const told = await ask(`${map.base}/streams?${query}`, {
      signal: map.fetching.signal,
    });
    if (cells !== map.threshold || layer !== map.layers.streams) return;
    const feature = (r) =>
      new ol.Feature({
        geometry: new ol.geom.LineString(r.line),
        id: r.id,
        order: r.order,
        magnitude: r.magnitude,
        m2: r.m2,
        least: r.least,
      });
    const source = layer.getSource();
    source.clear(true);
    source.addFeatures(told.reaches.map(feature));
    asked.whole = told.complete;
    map.complete = told.complete;
    map.resting = true;
    map.showFlow();
    map.target.dataset.reaches = told.reaches.length;
  } catch (error) {
    if (map.asked === asked) map.asked = null;
    if (error.name !== 'AbortError') throw error;
  }
}

/** Fetches how the network compares with the mapped streams in view. */
async function loadAgreement(map) {
  const layer = map.layers.agreement;
  map.sides?.abort();
  map.sides = new AbortController();
  const options = { signal: map.sides.signal };
  try {
    const address = `${map.base}/agreement`;
    map.target.dataset.sides = await loadSides(map.map, layer, address, { cells: map.threshold }, options);
  } catch (error) {
    if (error.name !== 'AbortError') throw error;
  }
}

/** Gives the map of overland flow the threshold that holds now. */
async function loadWays(map) {
  const layer = map.layers.way;
  const cells = map.threshold;
  const { most_m: most } = await ask(`${map.base}/way?cells=${cells}`);
  if (cells !== map.threshold || layer !== map.layers.way) return;
  map.longest = most;
  const { high } = map.views.rangeOf('way');
  const drawn = `?cells=${cells}&high=${high}${rampQuery(map, 'way')}`;
  layer.setSource(map.tiles('way', map.data.rasters.area, drawn, false));
  map.onStyled?.();
}

/** The ends of the ramp of contributing area, on a logarithmic scale; at first 2 % and 98 % of the cells. */
function stretchControls(map, box) {
  const top = Math.log10(Math.max(10, map.data.largest_cells ?? 10));
  const ends = ['Lightest at', 'Darkest at'].map((text, at) => {
    const label = Object.assign(document.createElement('label'), {
      className: 'stretch',
    });
    const input = Object.assign(document.createElement('input'), {
      type: 'range',
      min: '0',
      step: '0.05',
    });
    input.max = String(top);
    input.value = String(map.stretch[at]);
    input.dataset.stretch = at ? 'high' : 'low';
    const told = document.createElement('span');
    const tell = () => {
      told.textContent = area(10 ** Number(input.value) * map.data.cell_area_m2);
    };
    input.addEventListener('input', () => {
      tell();
      map.setStretch(Number(ends[0].value), Number(ends[1].value));
    });
    input.addEventListener('change', () => map.onStyled?.());
    tell();
    label.append(text, input, told);
    box.append(label);
    return input;
  });
}

function streamLegend(map, legend) {
  const { by, from } = wanted(map);
  if (by !== 'order') {
    legend.ramp(WATER, by === 'area' ? 'small area' : 'magnitude 1', by === 'area' ? 'large' : 'higher');
    return;
  }
  const highest = Math.max(map.data.highest_order ?? 1, from);
  for (let order = from; order <= highest; order++) {
    const { color, width } = orderStyle(map, order);
    legend.line(color, width, `Order ${order}`);
  }
  if (wanted(map).least) {
    const title = 'Land upstream touches the edge of the DEM: the contributing area is a least value';
    const textContent = 'dotted: area at least';
    legend.add(Object.assign(document.createElement('p'), { className: 'line-key', textContent, title }));
  }
}

function sidesLegend(_map, legend) {
  const box = Object.assign(document.createElement('p'), {
    className: 'agreement-key',
  });
  for (const side of ['matched', 'extra', 'missed']) {
    box.append(
      Object.assign(document.createElement('span'), {
        className: side,
        textContent: side,
      }),
    );
  }
  legend.add(box);
}

export const layers = [
  {
    key: 'area',
    name: 'Accumulation',
    place: 44,
    // What the canvas shows is told by what is drawn of area and streams.
    shows: (map) => map.showFlow(),
    build: routed(flowLayer),
    legend: (map, legend) => {
      const [low, high] = map.stretch.map((log) => area(10 ** log * map.data.cell_area_m2));
      legend.ramp(coloursOf(map, 'area'), low, high);
    },
    raster: {},
    styled: (map) => {
      map.flow.recolour(coloursOf(map, 'area'));
      map.onStyled?.();
    },
    controls: stretchControls,
  },
  ...indexSpecs,
  {
    key: 'way',
    name: 'Overland flow length',
    place: 42,
    build: routed(() => new ol.layer.Tile({ visible: false, opacity: 0.8 })),
    follows: ['study', 'threshold', 'shown'],
    load: loadWays,
    legend: (map, legend) => {
      if (map.longest === undefined) return;
      legend.ramp(coloursOf(map, 'way'), height(0, 0), height(map.views.rangeOf('way').high, 0));
    },
    raster: { most: true },
    styled: (map) => loadWays(map).catch((error) => map.onProblem?.(error.message)),
  },
  {
    key: 'streams',
    name: 'Network',
    place: 50,
    shows: (map) => map.showFlow(),
    build: routed(streamLayer),
    follows: ['study', 'view', 'threshold', 'shown'],
    load: loadStreams,
    legend: streamLegend,
    controls: streamControls,
    styled: (map) => {
      map.layers.streams?.changed();
      map.onStyled?.();
    },
  },
  {
    key: 'agreement',
    name: 'Matched, extra, missed',
    place: 51,
    build: routed(() => sideLayer()),
    follows: ['study', 'view', 'threshold', 'shown'],
    load: loadAgreement,
    legend: sidesLegend,
  },
];
