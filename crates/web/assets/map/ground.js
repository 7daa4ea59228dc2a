// The ground as the map draws it: terrain, slope, curvature, topographic position, contours; and single cells.
import { height } from '../lib/units.js';
import { closeUp } from './cells.js';
import { POSITION, SLOPE, contourStyle } from './views.js';

const ol = window.ol;
const RELIEF = ['#B9C8A6', '#D3D7B0', '#E6DDB9', '#D9C3A0', '#C3AA9B', '#DCD5D2'];

/** A view computed from the prepared DEM, which gets its range when it is first looked at. */
const computed = (key, name, place, colours) => ({
  key,
  name,
  place,
  build: (map) => (map.data.rasters.dem ? new ol.layer.Tile({ visible: false }) : null),
  follows: ['study', 'shown'],
  load: (map) => map.views.show(key),
  legend: (map, legend) => legend.ramp(colours, ...map.views.ends(key)),
  styled: (map) => map.views.source(key),
});

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
    legend: (map, legend) => {
      const { stretch } = map.data;
      if (!stretch) return;
      const { low, high } = map.views.of('relief');
      legend.ramp(RELIEF, height(low ?? stretch[0], 0), height(high ?? stretch[1], 0));
    },
    styled: (map) => {
      const what = map.data.rasters.dem ? 'dem' : 'source';
      map.layers.relief.setSource(map.tiles(what, map.main, map.views.reliefQuery(), true));
    },
  },
  computed('slope', 'Slope', 10, SLOPE),
  computed('curvature', 'Curvature', 11, POSITION),
  computed('near', 'Position, near', 13, POSITION),
  computed('far', 'Position, far', 12, POSITION),
  {
    key: 'contours',
    name: 'Contours',
    place: 30,
    build: (map) => {
      if (!map.data.rasters.dem) return null;
      const source = new ol.source.Vector();
      return new ol.layer.Vector({ source, visible: false, declutter: true, style: contourStyle });
    },
    follows: ['study', 'view', 'shown'],
    load: (map) => map.views.contours(),
    styled: (map) => map.views.contours(),
  },
];

export const CELLS = { key: 'cells', name: 'Cell values', place: 90, build: closeUp };
