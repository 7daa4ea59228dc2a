// How a network compares with the mapped streams: matched, extra, missed.
import { ask, query } from '../../lib/common.js';
import { WATER } from './streams.js';

const ol = window.ol;
const EXTRA = '#C77B1B';
const MISSED = '#A3263B';

const line = (color, width, lineDash) =>
  new ol.style.Style({
    stroke: new ol.style.Stroke({ color, width, lineDash, lineCap: lineDash ? 'butt' : 'round' }),
  });
const casing = (width) => new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#FFFDF8', width }) });

/** Matched, extra and missed by colour and kind of line; a light edge keeps them apart from any ground. */
export function sideStyle(feature) {
  switch (feature.get('side')) {
    case 'extra':
      return [casing(4.5), line(EXTRA, 2.4, [9, 5])];
    case 'missed':
      return [casing(4.5), line(MISSED, 2.6, [2, 4])];
    default:
      return line(WATER[3], 1 + 0.6 * Math.max(0, (feature.get('order') || 2) - 1));
  }
}

export const sideLayer = () =>
  new ol.layer.Vector({ source: new ol.source.Vector(), style: sideStyle, visible: false });

/** Fetches what is in view into a layer of sides. */
export async function loadSides(map, layer, address, more = {}, options = {}) {
  const size = map.getSize();
  if (!size) return 0;
  const view = map.getView();
  const [west, south, east, north] = view.calculateExtent(size);
  const pad = (east - west) * 0.2;
  const view_ = query({
    west: west - pad,
    south: south - pad,
    east: east + pad,
    north: north + pad,
    resolution: view.getResolution(),
    ...more,
  });
  const told = await ask(`${address}?${view_}`, options);
  const source = layer.getSource();
  source.clear(true);
  const feature = (l) =>
    new ol.Feature({ geometry: new ol.geom.LineString(l.line), side: l.side, order: l.order });
  source.addFeatures(told.lines.map(feature));
  return told.lines.length;
}
