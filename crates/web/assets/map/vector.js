// How vector layers are drawn: colour, width, fill, dash and labels, as the analyst chose or as usual.
const ol = window.ol;

const DASHES = {
  solid: undefined,
  dashed: [8, 5],
  dotted: [1.5, 4],
  dashdot: [8, 4, 2, 4],
};
/** Opacity of a fill, as two digits after a colour. */
const FILLS = { none: null, tint: '4D', full: 'FF' };
const PAPER = '#FFFDF8';
const INK = '#22302E';

/**
 * What a layer can be given besides colour, width and dash.
 * @typedef {object} Vector
 * @property {string} key  its name among the styles
 * @property {boolean} [fills]  whether it has areas or marks that can be filled
 * @property {string[][]} [labels]  columns that labels can come from: name, name for people
 * @property {boolean} [plain]  colour and width are chosen elsewhere
 */

/** How a layer is drawn now. */
export function styleOf(map, key) {
  return { ...map.data.vector?.[key], ...map.views.style[key] };
}

export const stroke = (color, width, lineDash) => new ol.style.Stroke({ color, width, lineDash });

/** The line of a style. */
export const strokeOf = (now) =>
  new ol.style.Stroke({
    color: now.color,
    width: now.width,
    lineDash: DASHES[now.dash],
    lineCap: now.dash === 'dotted' ? 'round' : 'butt',
  });

/** The fill of a style, in its own colour or another; nothing for an outline alone. */
export function fillOf(now, color = now.color) {
  const opacity = FILLS[now.fill];
  return opacity ? new ol.style.Fill({ color: color + opacity }) : undefined;
}

/** A label; nothing where there is no text. */
export function labelOf(now, text, more = {}) {
  if (text === undefined || text === null || text === '') return undefined;
  return new ol.style.Text({
    text: String(text),
    font: `600 ${now.size}px "Source Sans 3"`,
    fill: new ol.style.Fill({ color: INK }),
    stroke: new ol.style.Stroke({ color: PAPER, width: 3.5 }),
    ...more,
  });
}

/** A row of the box: a name and a field. */
function row(box, text, field) {
  const label = document.createElement('label');
  field.dataset.style = `${box.dataset.of ?? ''} ${text}`.trim();
  label.append(text, field);
  box.append(label);
  return field;
}

/**
 * @param {HTMLElement} box
 * @param {string} text
 * @param {string[][]} choices  value, name for people
 * @param {string} now
 * @param {(value: string) => void} set
 */
export function choose(box, text, choices, now, set) {
  const field = document.createElement('select');
  for (const [value, name] of choices) field.add(new Option(name, value, false, value === now));
  field.addEventListener('change', () => set(field.value));
  return row(box, text, field);
}

export function colour(box, text, now, set) {
  const field = Object.assign(document.createElement('input'), {
    type: 'color',
    value: now.toLowerCase(),
  });
  field.addEventListener('change', () => set(field.value.toUpperCase()));
  return row(box, text, field);
}

export function number(box, text, now, { least, most, step }, set) {
  const field = Object.assign(document.createElement('input'), {
    type: 'number',
    min: String(least),
    max: String(most),
    step: String(step),
    value: String(now),
  });
  field.addEventListener('change', () => {
    const typed = Number(field.value);
    const value = Math.min(Math.max(typed, least), most);
    // Nothing typed: as it was.
    if (field.value === '' || !Number.isFinite(typed)) field.value = String(now);
    else {
      field.value = String(value);
      set(value);
    }
  });
  return row(box, text, field);
}

/**
 * What can be chosen of a vector layer.
 * @param map
 * @param {HTMLElement} box
 * @param {Vector} vector
 */
export function vectorControls(map, box, { key, fills, labels, plain }) {
  const now = styleOf(map, key);
  const set = (name) => (value) => map.views.set(key, { [name]: value });
  if (!plain) {
    colour(box, 'Colour', now.color, set('color'));
    number(box, 'Width, px', now.width, { least: 0.2, most: 20, step: 0.1 }, set('width'));
  }
  const dashes = [
    ['solid', 'solid'],
    ['dashed', 'dashed'],
    ['dotted', 'dotted'],
    ['dashdot', 'dash and dot'],
  ];
  choose(box, 'Line', dashes, now.dash, set('dash'));
  if (fills) {
    const choices = [
      ['none', 'outline alone'],
      ['tint', 'see-through'],
      ['full', 'opaque'],
    ];
    choose(box, 'Fill', choices, now.fill, set('fill'));
  }
  if (labels) {
    choose(box, 'Label', [['', 'none'], ...labels], now.label, set('label'));
    number(box, 'Label size, px', now.size, { least: 6, most: 48, step: 1 }, set('size'));
  }
}
