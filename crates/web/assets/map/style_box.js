// What can be chosen of a layer, folded away under its key: opacity, colours, range, line and label, drawing order.
import { METRE } from '../lib/units.js';
import { rampControls } from './ramps.js';
import { choose, vectorControls } from './vector.js';

/** How many metres one of those shown has, where the layer's values are metres. */
const sizeOf = (raster) => (raster?.unit ? 1 : METRE.size);

/** A field of the box; what is typed is a number or nothing. */
class Fields {
  constructor(map, key, box, size) {
    this.map = map;
    this.key = key;
    this.box = box;
    this.size = size;
  }

  /** A value as it is shown. Rounded for display: what was typed in feet is kept to the millimetre. */
  shown(value) {
    return value === undefined || value === null ? value : +(value / this.size).toFixed(3);
  }

  kept(value) {
    return this.size === 1 ? value : +(value * this.size).toFixed(3);
  }

  add(name, text, own, more) {
    const { map, key } = this;
    const slider = more.type === 'range';
    const value = slider ? own : this.shown(own);
    const label = document.createElement('label');
    const input = Object.assign(document.createElement('input'), {
      type: 'text',
      ...more,
    });
    input.dataset.style = `${key} ${name}`;
    if (!slider) input.inputMode = 'decimal';
    if (value !== undefined) input.value = value;
    input.addEventListener(slider ? 'input' : 'change', () => {
      const typed = input.value.trim() === '' ? null : Number(input.value.replace(',', '.'));
      if (typed !== null && !Number.isFinite(typed)) {
        input.value = value ?? '';
        return;
      }
      map.views.set(key, {
        [name]: typed === null || slider ? typed : this.kept(typed),
      });
    });
    label.append(text, input);
    this.box.append(label);
  }
}

const PERCENTILES = [
  ['', '2 to 98 %'],
  ['0', 'all values'],
  ['5', '5 to 95 %'],
  ['10', '10 to 90 %'],
];

/** The ends of the range: typed, or percentiles of the values. */
function range(map, key, raster, fields, now) {
  const { box } = fields;
  if (raster.percentiles) {
    const typed = now.low !== undefined || now.high !== undefined;
    choose(box, 'Range', PERCENTILES, typed ? '' : String(now.outer ?? ''), (outer) => {
      map.views.set(key, {
        outer: outer === '' ? null : Number(outer),
        low: null,
        high: null,
      });
      map.onStyled?.();
    });
  }
  const found = map.views.rangeOf(key);
  const told = (v) => (v === undefined || v === null ? '' : `${Number(fields.shown(v).toPrecision(3))}`);
  const unit = raster.unit ?? METRE.symbol;
  if (raster.range)
    fields.add('low', `From, ${unit}`, now.low, {
      placeholder: told(found?.low),
    });
  fields.add('high', raster.range ? `To, ${unit}` : `Darkest at, ${unit}`, now.high, {
    placeholder: told(found?.high),
  });
}

function orderButtons(map, key) {
  const row = Object.assign(document.createElement('p'), { className: 'acts' });
  for (const [text, way] of [
    ['Draw higher', 1],
    ['Draw lower', -1],
  ]) {
    const button = Object.assign(document.createElement('button'), {
      type: 'button',
      className: 'btn btn-sm quiet',
      textContent: text,
    });
    button.addEventListener('click', () => map.reorder(key, way));
    row.append(button);
  }
  return row;
}

/** The box of a layer; nothing where there is nothing to choose. */
export function styleBox(map, key) {
  const spec = map.spec(key);
  if (key === 'cells' || !map.layers[key]?.setOpacity) return null;
  const { views } = map;
  const box = Object.assign(document.createElement('details'), {
    className: 'style',
  });
  box.dataset.of = key;
  box.open = views.open === key;
  box.addEventListener('toggle', () => {
    if (box.open) views.open = key;
    else if (views.open === key) views.open = null;
  });
  const head = Object.assign(document.createElement('summary'), {
    textContent: 'Style',
  });
  head.setAttribute('aria-label', `Style of ${spec.name}`);
  box.append(head);
  const now = views.of(key);
  const fields = new Fields(map, key, box, sizeOf(spec.raster));
  const slider = (min, max, step) => ({
    type: 'range',
    min: String(min),
    max: String(max),
    step: String(step),
  });
  fields.add('opacity', 'Opacity', now.opacity, slider(0, 1, 0.05));
  if (key === 'relief') {
    fields.add('azimuth', 'Light from, °', now.azimuth, slider(0, 355, 5));
    fields.add('altitude', 'Light height, °', now.altitude, slider(10, 85, 5));
  }
  if (now.radius !== undefined) fields.add('radius', `Radius, ${METRE.symbol}`, now.radius, {});
  if (spec.raster) rampControls(map, box, key);
  spec.controls?.(map, box);
  if (spec.vector) vectorControls(map, box, spec.vector);
  if (key === 'contours') {
    const placeholder = views.interval ? `${fields.shown(views.interval)}` : 'fitting';
    fields.add('interval', `Interval, ${METRE.symbol}`, now.interval, {
      placeholder,
    });
  }
  if (spec.raster?.range || spec.raster?.most) range(map, key, spec.raster, fields, now);
  box.append(orderButtons(map, key));
  return box;
}
