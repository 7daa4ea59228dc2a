// Layers of the study as they were given or drawn.
import { query } from '../lib/common.js';
import { Latest } from '../lib/latest.js';

const ol = window.ol;

/** How features of a role are drawn on the map, and what is asked for when one is drawn by hand. */
export const ROLES = {
  mapped_streams: { color: '#2F6DA8', width: 1.4, shape: 'LineString', what: 'the stream' },
  breach_lines: {
    color: '#0F5C63',
    width: 2.6,
    shape: 'LineString',
    what: 'the breach line from upstream to downstream',
  },
  walls: { color: '#7A3B2E', width: 3, shape: 'LineString', what: 'the wall' },
  culverts: { color: '#22302E', width: 1.5, shape: 'Point', what: 'where the culvert or bridge is' },
  lakes: { color: '#2F6DA8', width: 1.4, fill: '#2F6DA833', shape: 'Polygon', what: 'the shore of the lake' },
  closed_basins: {
    color: '#5B7F3B',
    width: 1.6,
    fill: '#5B7F3B33',
    shape: 'Point',
    what: 'in the sink that is real',
  },
  boundaries: { color: '#22302E', width: 1.5, dash: [8, 4, 2, 4], shape: 'Polygon', what: 'the boundary' },
  rebuild_areas: {
    color: '#7C4E8C',
    width: 1.8,
    dash: [6, 4],
    fill: '#7C4E8C22',
    shape: 'Polygon',
    what: 'the area to rebuild',
  },
  elevation_points: {
    color: '#7A5A36',
    width: 1.5,
    shape: 'Point',
    what: 'where the elevation is known',
    height: true,
  },
  contour_lines: {
    color: '#7A5A36',
    width: 1.1,
    shape: 'LineString',
    what: 'the contour line',
    height: true,
  },
  dams: { color: '#5A4A3A', width: 3.2, shape: 'LineString', what: 'the dam' },
  sites: { color: '#A3263B', width: 1.5, shape: 'Point', what: 'where the site is' },
};

function featureLayer() {
  const styles = {};
  const style = (feature) => {
    const role = feature.get('role');
    const r = ROLES[role] ?? ROLES.sites;
    styles[role] ??= new ol.style.Style({
      stroke: new ol.style.Stroke({ color: r.color, width: r.width, lineDash: r.dash }),
      fill: r.fill ? new ol.style.Fill({ color: r.fill }) : undefined,
      image: new ol.style.RegularShape({
        points: role === 'culverts' ? 4 : 3,
        radius: 6,
        stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 1.3 }),
        fill: new ol.style.Fill({ color: r.color }),
      }),
    });
    return styles[role];
  };
  return new ol.layer.Vector({ source: new ol.source.Vector(), style, updateWhileInteracting: true });
}

function featureOf(f) {
  const [[kind, at]] = Object.entries(f.shape);
  const shapes = {
    point: () => new ol.geom.Point(at),
    line: () => new ol.geom.LineString(at),
    polygons: () => new ol.geom.MultiPolygon(at),
  };
  return new ol.Feature({ geometry: shapes[kind](), role: f.role, name: f.name, layer: f.layer, id: f.id });
}

/** A feature's shape as the server keeps it. */
export function shapeOf(feature) {
  const geometry = feature.getGeometry();
  const kind = { Point: 'point', LineString: 'line', MultiPolygon: 'polygons' }[geometry.getType()];
  return { [kind]: geometry.getCoordinates() };
}

const last = new Latest();

/** Fetches the features in view: those given, and the network that is only provisional. */
export async function loadFeatures(map) {
  const source = map.layers.features?.getSource();
  const size = map.map?.getSize();
  if (!source || !size) return;
  const [west, south, east, north] = map.map.getView().calculateExtent(size);
  const pad = (east - west) * 0.25;
  const view = { west: west - pad, south: south - pad, east: east + pad, north: north + pad };
  const told = await last.ask(`${map.base}/layers?${query(view)}`);
  if (!told || source !== map.layers.features?.getSource()) return;
  const computed = (f) => f.role === 'provisional';
  source.clear(true);
  source.addFeatures(told.features.filter((f) => !computed(f)).map(featureOf));
  const provisional = map.layers.provisional?.getSource();
  provisional?.clear(true);
  provisional?.addFeatures(told.features.filter(computed).map(featureOf));
  map.target.dataset.features = source.getFeatures().length;
  map.target.dataset.provisional = provisional?.getFeatures().length ?? 0;
  map.featuresComplete = told.complete;
}

/** Whether anything is drawn that comes with the features. */
const drawn = (map) => map.shown.has('features') || map.shown.has('provisional');

export const featureSpec = {
  key: 'features',
  name: 'Layers',
  place: 71,
  build: (map) => (map.data.rasters.dem ? featureLayer() : null),
  follows: ['view', 'study', 'shown'],
  wanted: drawn,
  load: loadFeatures,
  legend: (map, legend) => {
    if (map.featuresComplete === false) legend.add('The largest are shown; go closer to see all.');
  },
};
