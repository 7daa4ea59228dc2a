// Colours and range of rasters: a ramp of the layer's own or an even one, either way round, between what is chosen.
import { choose } from './vector.js';

/**
 * What a raster can be given.
 * @typedef {object} Raster
 * @property {boolean} [range]  whether both ends of its range can be chosen
 * @property {boolean} [most]  whether its upper end alone can be chosen
 * @property {boolean} [percentiles]  whether the ends can be percentiles
 * @property {boolean} [steps]  whether values are metres, which are typed in the unit of the page
 * @property {string} [unit]  what values are measured in, where that is not metres
 */

/** The colours that a layer is drawn with, from low to high. */
export function coloursOf(map, key) {
  const { ramp, reversed } = map.views.style[key] ?? {};
  const { own, even } = map.data.ramps;
  const colours = even.find(({ name }) => name === ramp)?.colours ?? own[key];
  return reversed ? colours.slice().reverse() : colours;
}

/** What the address of a tile tells of its colours. */
export function rampQuery(map, key) {
  const { ramp, reversed } = map.views.style[key] ?? {};
  return (ramp ? `&ramp=${encodeURIComponent(ramp)}` : '') + (reversed ? '&reversed=true' : '');
}

/** Which ramp, and which way round. */
export function rampControls(map, box, key) {
  const { ramp, reversed } = map.views.style[key] ?? {};
  const choices = map.data.ramps.even.map(({ name }) => [name, name]);
  choose(box, 'Ramp', [['', 'usual'], ...choices], ramp ?? '', (name) =>
    map.views.set(key, { ramp: name || null }),
  );
  const label = document.createElement('label');
  const tick = Object.assign(document.createElement('input'), {
    type: 'checkbox',
    checked: Boolean(reversed),
  });
  tick.dataset.style = `${key} reversed`;
  tick.addEventListener('change', () => map.views.set(key, { reversed: tick.checked || null }));
  label.append('Reversed', tick);
  box.append(label);
}
