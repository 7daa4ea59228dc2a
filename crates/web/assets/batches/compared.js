// The networks of two runs on one map: what both have, and what only one has, each shown or not.
import { ask, hearErrors } from '../lib/common.js';

hearErrors();
const ol = window.ol;
const place = document.getElementById('networks');
// Told apart by width and dashes too.
const STYLES = {
  both: { color: '#7C8A88', width: 2 },
  first: { color: '#B4552D', width: 3 },
  second: { color: '#1C6C7A', width: 3, lineDash: [8, 5] },
};
const data = await ask(place.dataset.lines);
const projection = new ol.proj.Projection({
  code: 'run',
  extent: data.extent,
  units: 'm',
  metersPerUnit: data.unit_m,
});
const layers = Object.entries(STYLES).map(([kind, stroke]) => {
  const features = data[kind].map((line) => new ol.Feature({ geometry: new ol.geom.LineString(line) }));
  const layer = new ol.layer.Vector({
    source: new ol.source.Vector({ features }),
    style: new ol.style.Style({ stroke: new ol.style.Stroke(stroke) }),
  });
  layer.set('kind', kind);
  return layer;
});
const map = new ol.Map({
  target: place.querySelector('.frame'),
  layers,
  view: new ol.View({ projection, showFullExtent: true }),
  controls: [new ol.control.ScaleLine(), new ol.control.Zoom()],
});
map.getView().fit(data.extent, { padding: [20, 20, 20, 20] });

place.addEventListener('change', (e) => {
  const { kind } = e.target.dataset;
  layers.find((layer) => layer.get('kind') === kind)?.setVisible(e.target.checked);
});
