// Layers of the study as they were given or drawn.
import { query } from '../lib/common.js';
import { Latest } from '../lib/latest.js';
import { height } from '../lib/units.js';
import { choose, fillOf, labelOf, stroke, strokeOf, styleOf, vectorControls } from './vector.js';

const ol = window.ol;

/** What is asked for when a feature of a role is drawn by hand. */
export const ROLES = {
  mapped_streams: { shape: 'LineString', what: 'the stream' },
  breach_lines: {
    shape: 'LineString',
    what: 'the breach line from upstream to downstream',
  },
  walls: { shape: 'LineString', what: 'the wall' },
  culverts: { shape: 'Point', what: 'where the culvert or bridge is' },
  lakes: { shape: 'Polygon', what: 'the shore of the lake' },
  closed_basins: { shape: 'Point', what: 'in the sink that is real' },
  boundaries: { shape: 'Polygon', what: 'the boundary' },
  rebuild_areas: { shape: 'Polygon', what: 'the area to rebuild' },
  elevation_points: {
    shape: 'Point',
    what: 'where the elevation is known',
    height: true,
  },
  contour_lines: {
    shape: 'LineString',
    what: 'the contour line',
    height: true,
  },
  dams: { shape: 'LineString', what: 'the dam' },
  sites: { shape: 'Polygon', what: 'the rim of the site or reservoir' },
};

/** The name of a role's styles. */
const styleKey = (role) => `input-${role}`;

function featureLayer(map) {
  const style = (feature) => {
    const role = feature.get('role');
    const now = styleOf(map, styleKey(role));
    const mark = new ol.style.RegularShape({
      points: role === 'culverts' ? 4 : 3,
      radius: 4.5 + now.width,
      stroke: stroke(now.fill === 'none' ? now.color : '#FFFDF8', 1.3),
      fill: fillOf(now),
    });
    const shape = feature.getGeometry().getType();
    return new ol.style.Style({
      stroke: strokeOf(now),
      fill: fillOf(now),
      image: mark,
      text: labelOf(now, labelText(feature, now.label), {
        placement: shape === 'LineString' ? 'line' : 'point',
        offsetY: shape === 'Point' ? -14 : 0,
        overflow: shape !== 'LineString',
      }),
    });
  };
  return new ol.layer.Vector({
    source: new ol.source.Vector(),
    style,
    updateWhileInteracting: true,
  });
}

/** What a feature's label says. */
function labelText(feature, column) {
  if (column === 'elevation') {
    const elevation = feature.get('elevation');
    return elevation === null || elevation === undefined ? '' : height(elevation);
  }
  return column ? feature.get(column) : '';
}

/** The styles of the roles that the study has layers of, one at a time. */
function featureControls(map, box) {
  const roles = map.data.roles ?? [];
  if (!roles.length) return;
  const known = roles.map(([role]) => role);
  if (!known.includes(map.styledRole)) [map.styledRole] = known;
  const part = document.createElement('div');
  const show = () => {
    part.replaceChildren();
    part.dataset.of = styleKey(map.styledRole);
    const { height: heights, shape } = ROLES[map.styledRole] ?? {};
    vectorControls(map, part, {
      key: styleKey(map.styledRole),
      fills: shape !== 'LineString',
      labels: [['name', 'name'], ...(heights ? [['elevation', 'elevation']] : [])],
    });
  };
  choose(box, 'Layers of', roles, map.styledRole, (role) => {
    map.styledRole = role;
    show();
  });
  show();
  box.append(part);
}

function featureOf(f) {
  const [[kind, at]] = Object.entries(f.shape);
  const shapes = {
    point: () => new ol.geom.Point(at),
    line: () => new ol.geom.LineString(at),
    polygons: () => new ol.geom.MultiPolygon(at),
  };
  const { role, name, layer, id, elevation } = f;
  return new ol.Feature({
    geometry: shapes[kind](),
    role,
    name,
    layer,
    id,
    elevation,
  });
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
  const view = {
    west: west - pad,
    south: south - pad,
    east: east + pad,
    north: north + pad,
  };
  const told = await last.ask(`${map.base}/layers?${query(view)}`);
  if (!told || source !== map.layers.features?.getSource()) return;
  const before = String(map.data.roles);
  map.data.roles = told.roles;
  const computed = (f) => f.role === 'provisional';
  source.clear(true);
  source.addFeatures(told.features.filter((f) => !computed(f)).map(featureOf));
  const provisional = map.layers.provisional?.getSource();
  provisional?.clear(true);
  provisional?.addFeatures(told.features.filter(computed).map(featureOf));
  map.target.dataset.features = source.getFeatures().length;
  map.target.dataset.provisional = provisional?.getFeatures().length ?? 0;
  map.featuresComplete = told.complete;
  // Their styles can be chosen once it is known which there are.
  if (before !== String(told.roles)) map.onStyled?.();
}

/** Whether anything is drawn that comes with the features. */
const drawn = (map) => map.shown.has('features') || map.shown.has('provisional');

export const featureSpec = {
  key: 'features',
  name: 'Layers',
  place: 71,
  build: (map) => (map.data.rasters.dem ? featureLayer(map) : null),
  controls: featureControls,
  styled: (map) => map.layers.features?.changed(),
  follows: ['view', 'study', 'shown'],
  wanted: drawn,
  load: loadFeatures,
  legend: (map, legend) => {
    if (map.featuresComplete === false) legend.add('The largest are shown; go closer to see all.');
  },
};
