// What is known of the place under the pointer.
import { ask, notice } from '../lib/common.js';
import { area, height, told } from '../lib/units.js';

const WAYS = { 1: 'E', 2: 'SE', 4: 'S', 8: 'SW', 16: 'W', 32: 'NW', 64: 'N', 128: 'NE', 0: 'outlet' };
const significant = (v) => told(v, { maximumSignificantDigits: 5 });

/**
 * Degrees with their letter.
 * @param {number} v
 * @param {string} letters  for positive and negative values
 */
const degrees = (v, letters) => `${Math.abs(v).toFixed(5)}° ${letters[v < 0 ? 1 : 0]}`;

function elevation(c) {
  if (c.elevation_m == null) return c.row == null ? [] : ['no elevation'];
  const z = height(c.elevation_m);
  return [c.fill_m > 0 ? `${z}, filled to ${height(c.elevation_m + c.fill_m)}` : z];
}

function flow(c) {
  if (c.area_m2 == null) return [];
  const drained = area(c.area_m2);
  // Land upstream touches the edge of the DEM: water from beyond may be missing.
  // While a large study is being read, nobody knows yet.
  const least = c.least || c.waiting ? 'at least ' : '';
  const way = WAYS[c.direction];
  return [
    c.method ? `${least}${drained} by ${c.method}, carried down along D8` : `drains ${least}${drained}`,
    way === 'outlet' ? way : `to ${way}`,
  ];
}

export class ReadOut {
  constructor(box, map, base) {
    this.box = box;
    this.map = map;
    this.base = base;
  }

  /** The pointer is at a place. One question at a time; the last place is always asked for. */
  async at(place) {
    this.place = place;
    if (this.reading) return;
    this.reading = true;
    for (let asked = null; asked !== this.place; ) {
      asked = this.place;
      try {
        const told = await ask(`${this.base}/cell?x=${asked[0]}&y=${asked[1]}`);
        this.tell(asked, told);
        // Asked again where the pointer stays, until all is known.
        if (told.waiting) asked = null;
      } catch {
        /* the pointer has moved on; the next reading tells */
      }
    }
    this.reading = false;
  }

  tell([x, y], c) {
    this.under = c;
    const { crs } = this.map.data;
    const epsg = crs?.epsg ? ` (EPSG:${crs.epsg})` : '';
    const parts = crs?.degrees ? [] : [`E ${x.toFixed(1)} N ${y.toFixed(1)}${epsg}`];
    if (c.lat != null) parts.push(`${degrees(c.lat, 'NS')} ${degrees(c.lon, 'EW')}`);
    parts.push(...elevation(c), ...flow(c));
    if (c.weighted != null) {
      parts.push(`${significant(c.weighted)} (${c.weighted_of ?? 'weights'}, itself counted)`);
    }
    if (c.waiting) parts.push('streams are being read …');
    if (c.order != null) parts.push(`order ${c.order}`);
    if (c.stream_probability != null) parts.push(`stream in ${Math.round(100 * c.stream_probability)} %`);
    const span = (text) => Object.assign(document.createElement('span'), { textContent: text });
    this.box.replaceChildren(...parts.map(span));
  }

  /** Copies the coordinates under the pointer. */
  copy() {
    const c = this.under;
    if (c?.x == null) return;
    const plain = this.map.data.crs?.degrees;
    const text = plain ? `${c.lat}, ${c.lon}` : `${c.x.toFixed(2)}, ${c.y.toFixed(2)}`;
    const refused = () => notice('The browser does not allow copying here.', true);
    navigator.clipboard?.writeText(text).then(() => notice(`Copied ${text}`), refused);
  }
}
