// How streams are drawn: by order, magnitude or area.

const ol = window.ol;
export const WATER = ['#7FB7BC', '#4E969D', '#2B7A82', '#0F5C63', '#0A454B', '#062F34'];

/** How the analyst wants streams: by what they are drawn, from which order up, with labels or not. */
export function wanted(style) {
  return { by: 'order', from: 1, labels: 0, ...style };
}

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
      const color = WATER[Math.min(Math.round(r), WATER.length - 1)];
      const label = () =>
        new ol.style.Text({
          text,
          font: '600 12px "Source Sans 3"',
          fill: new ol.style.Fill({ color: '#22302E' }),
          stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3 }),
        });
      known.set(
        key,
        new ol.style.Style({
          stroke: new ol.style.Stroke({
            color,
            width: 0.9 + 0.75 * (r - 1),
            lineCap: 'round',
            lineJoin: 'round',
          }),
          zIndex: r,
          text: text ? label() : undefined,
        }),
      );
    }
    return known.get(key);
  };
}

/** What can be chosen of streams, for the list of what is drawn. */
export function streamControls(box, style, set) {
  const now = wanted(style);
  const row = (label, input) => {
    const l = document.createElement('label');
    l.append(label, input);
    box.append(l);
  };
  const by = document.createElement('select');
  const ways = [
    ['order', 'Strahler order'],
    ['magnitude', 'Shreve magnitude'],
    ['area', 'area, continuous'],
  ];
  for (const [value, name] of ways) by.add(new Option(name, value, false, now.by === value));
  by.addEventListener('change', () => set({ by: by.value }));
  row('Drawn by', by);
  const from = document.createElement('select');
  for (let order = 1; order <= 6; order++)
    from.add(new Option(String(order), String(order), false, now.from === order));
  from.addEventListener('change', () => set({ from: Number(from.value) }));
  row('Orders from', from);
  const labels = Object.assign(document.createElement('input'), {
    type: 'checkbox',
    checked: Boolean(now.labels),
  });
  labels.addEventListener('change', () => set({ labels: labels.checked ? 1 : 0 }));
  row('Labels', labels);
}
