// The network: how its streams are drawn, and how it compares with the mapped ones.
import { ask } from '../../lib/common.js';

const ol = window.ol;
export const WATER = ['#7FB7BC', '#4E969D', '#2B7A82', '#0F5C63', '#0A454B', '#062F34'];
const EXTRA = '#C77B1B';
const MISSED = '#A3263B';

/** How the analyst wants streams: by what they are drawn, from which order up, with labels or not. */
export function wanted(style) { return { by: 'order', from: 1, labels: 0, ...style }; }

/** Rank of a stream, from 1, by what is chosen: it makes width and tone. */
function rank(feature, by, cellM2) {
  if (by === 'magnitude') return 1 + Math.log2(feature.get('magnitude')) / 1.6;
  if (by === 'area') return 1 + Math.max(0, Math.log10(feature.get('m2') / (cellM2 * 100)) * 1.2);
  return feature.get('order');
}

/** The style of streams; `of` tells what is wanted now. */
export function streamStyle(of, cellM2) {
  const known = new Map();
  return (feature) => {
    const { by, from, labels } = of();
    const order = feature.get('order');
    if (order < from) return undefined;
    // Between two ranks a step of a quarter cannot be seen.
    const r = Math.round(rank(feature, by, cellM2) * 4) / 4;
    const text = labels ? String(by === 'magnitude' ? feature.get('magnitude') : order) : '';
    const key = `${r} ${text}`;
    if (!known.has(key)) {
      known.set(key, new ol.style.Style({
        stroke: new ol.style.Stroke({ color: WATER[Math.min(Math.round(r), WATER.length - 1)], width: 0.9 + 0.75 * (r - 1), lineCap: 'round', lineJoin: 'round' }), zIndex: r,
        text: text ? new ol.style.Text({ text, font: '600 12px "Source Sans 3"', fill: new ol.style.Fill({ color: '#22302E' }), stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3 }) }) : undefined,
      }));
    }
    return known.get(key);
  };
}

const line = (color, width, lineDash) => new ol.style.Style({ stroke: new ol.style.Stroke({ color, width, lineDash, lineCap: lineDash ? 'butt' : 'round' }) });
const casing = (width) => new ol.style.Style({ stroke: new ol.style.Stroke({ color: '#FFFDF8', width }) });

/** Matched, extra and missed by colour and kind of line; a light edge keeps them apart from any ground. */
export function sideStyle(feature) {
  switch (feature.get('side')) {
    case 'extra': return [casing(4.5), line(EXTRA, 2.4, [9, 5])];
    case 'missed': return [casing(4.5), line(MISSED, 2.6, [2, 4])];
    default: return line(WATER[3], 1 + 0.6 * Math.max(0, (feature.get('order') || 2) - 1));
  }
}

export const sideLayer = () => new ol.layer.Vector({ source: new ol.source.Vector(), style: sideStyle, visible: false });

/** Fetches what is in view into a layer of sides. */
export async function loadSides(map, layer, address, more = {}, options = {}) {
  const size = map.getSize();
  if (!size) return 0;
  const view = map.getView();
  const [west, south, east, north] = view.calculateExtent(size);
  const pad = (east - west) * 0.2;
  const query = new URLSearchParams({ west: west - pad, south: south - pad, east: east + pad, north: north + pad, resolution: view.getResolution(), ...more });
  const told = await ask(`${address}?${query}`, options);
  const source = layer.getSource();
  source.clear(true);
  source.addFeatures(told.lines.map((l) => new ol.Feature({ geometry: new ol.geom.LineString(l.line), side: l.side, order: l.order })));
  return told.lines.length;
}

/** What can be chosen of streams, for the list of what is drawn. */
export function streamControls(box, style, set) {
  const now = wanted(style);
  const row = (label, input) => { const l = document.createElement('label'); l.append(label, input); box.append(l); };
  const by = document.createElement('select');
  for (const [value, name] of [['order', 'Strahler order'], ['magnitude', 'Shreve magnitude'], ['area', 'area, continuous']]) by.add(new Option(name, value, false, now.by === value));
  by.addEventListener('change', () => set({ by: by.value }));
  row('Drawn by', by);
  const from = document.createElement('select');
  for (let order = 1; order <= 6; order++) from.add(new Option(order, order, false, now.from === order));
  from.addEventListener('change', () => set({ from: Number(from.value) }));
  row('Orders from', from);
  const labels = Object.assign(document.createElement('input'), { type: 'checkbox', checked: Boolean(now.labels) });
  labels.addEventListener('change', () => set({ labels: labels.checked ? 1 : 0 }));
  row('Labels', labels);
}
