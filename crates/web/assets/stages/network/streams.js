// How streams are drawn: by order, magnitude or area.
import { area } from '../../lib/units.js';
import { choose, colour, labelOf, number, strokeOf, styleOf, vectorControls } from '../../map/vector.js';

const ol = window.ol;
export const WATER = ['#7FB7BC', '#4E969D', '#2B7A82', '#0F5C63', '#0A454B', '#062F34'];

/** How the analyst wants streams: by what they are drawn, from which order up, and how lines and labels look. */
export function wanted(map) {
  const now = { by: 'order', from: 1, least: true, ...styleOf(map, 'streams') };
  // Labels were on or off before there was a choice of columns.
  if (now.labels && map.views.style.streams.label === undefined) now.label = 'order';
  return now;
}

/** Colour and width of an order. */
export function orderStyle(map, order, now = wanted(map)) {
  const usual = map.data.orders[Math.min(order, map.data.orders.length) - 1];
  return { ...usual, ...now.orders?.[order] };
}

/** Rank of a stream, from 1, by what is chosen: it makes width and tone. */
function rank(feature, by, cellM2) {
  if (by === 'magnitude') return 1 + Math.log2(feature.get('magnitude')) / 1.6;
  return 1 + Math.max(0, Math.log10(feature.get('m2') / (cellM2 * 100)) * 1.2);
}

const LABELS = {
  order: (feature) => feature.get('order'),
  magnitude: (feature) => feature.get('magnitude'),
  area: (feature) => area(feature.get('m2')),
  id: (feature) => feature.get('id'),
};

/** What marks a reach whose area is a least value: dots of paper along its middle. */
function heart(width, rank) {
  const thin = Math.max(0.7, width * 0.4);
  return new ol.style.Style({
    stroke: new ol.style.Stroke({
      color: '#FFFDF8',
      width: thin,
      lineDash: [thin, 5 * thin + 3],
      lineCap: 'butt',
    }),
    zIndex: rank,
  });
}

/** The style of streams. */
export function streamStyle(map) {
  const lines = new Map();
  let known = '';
  return (feature) => {
    const now = wanted(map);
    const order = feature.get('order');
    if (order < now.from) return undefined;
    const as = JSON.stringify(now);
    if (as !== known) {
      known = as;
      lines.clear();
    }
    // Between two ranks a step of a quarter cannot be seen.
    const r = now.by === 'order' ? order : Math.round(rank(feature, now.by, map.data.cell_area_m2) * 4) / 4;
    if (!lines.has(r)) {
      const by = {
        color: WATER[Math.min(Math.round(r), WATER.length - 1)],
        width: 0.9 + 0.75 * (r - 1),
      };
      const line = strokeOf({
        ...now,
        ...(now.by === 'order' ? orderStyle(map, order, now) : by),
      });
      if (now.dash === 'solid') line.setLineCap('round');
      line.setLineJoin('round');
      lines.set(r, line);
    }
    const text = labelOf(now, LABELS[now.label]?.(feature));
    const drawn = new ol.style.Style({ stroke: lines.get(r), zIndex: r, text });
    return now.least && feature.get('least') ? [drawn, heart(lines.get(r).getWidth(), r)] : drawn;
  };
}

/** What can be chosen of streams, for the list of what is drawn. */
export function streamControls(map, box) {
  const now = wanted(map);
  const set = (change) => map.views.set('streams', change);
  const ways = [
    ['order', 'Strahler order'],
    ['magnitude', 'Shreve magnitude'],
    ['area', 'area, continuous'],
  ];
  const highest = Math.max(map.data.highest_order ?? 1, 1);
  const orders = Array.from({ length: highest }, (_, i) => i + 1);
  choose(box, 'Drawn by', ways, now.by, (by) => {
    set({ by });
    map.onStyled?.();
  });
  const from = orders.map((order) => [String(order), String(order)]);
  const marks = [
    ['yes', 'a dotted heart'],
    ['no', 'nothing'],
  ];
  choose(box, 'Marks a least area', marks, now.least ? 'yes' : 'no', (mark) => {
    set({ least: mark === 'yes' });
    map.layers.streams?.changed();
    map.onStyled?.();
  });
  choose(box, 'Orders from', from, String(now.from), (order) => set({ from: Number(order) }));
  vectorControls(map, box, {
    key: 'streams',
    plain: true,
    labels: [
      ['order', 'Strahler order'],
      ['magnitude', 'Shreve magnitude'],
      ['area', 'contributing area'],
      ['id', 'number of the reach'],
    ],
  });
  if (now.by !== 'order') return;
  for (const order of orders) {
    const own = orderStyle(map, order);
    const change = (name) => (value) => {
      const all = wanted(map).orders ?? {};
      set({ orders: { ...all, [order]: { ...all[order], [name]: value } } });
    };
    const row = document.createElement('fieldset');
    row.append(Object.assign(document.createElement('legend'), { textContent: `Order ${order}` }));
    const [hue, thick] = [`Order ${order}, colour`, `Order ${order}, width, px`];
    colour(row, '', own.color, change('color')).setAttribute('aria-label', hue);
    const width = { least: 0.2, most: 20, step: 0.05 };
    number(row, '', own.width, width, change('width')).setAttribute('aria-label', thick);
    row.querySelectorAll('input').forEach((field, i) => (field.dataset.style = `streams ${[hue, thick][i]}`));
    box.append(row);
  }
  if (!now.orders) return;
  const back = Object.assign(document.createElement('button'), {
    type: 'button',
    className: 'btn btn-sm quiet',
    textContent: 'All orders as usual',
  });
  back.addEventListener('click', () => {
    set({ orders: null });
    map.onStyled?.();
  });
  box.append(back);
}
