// A drop of water followed downhill from a place on the map, with its profile.
import { notice } from '../lib/common.js';
import { Latest } from '../lib/latest.js';

const ol = window.ol;
const asked = new Latest();

/** Asks for a place, draws the way from there along the flow, and shows its profile beside the map. */
export function followDrop(page) {
  const { base, map, enter } = page;
  if (!map.data?.rasters.area) {
    notice('Water is followed along the flow, which is not routed yet.', true);
    return;
  }
  const place = async ([x, y]) => {
    try {
      const html = await asked.text(`${base}/way-down?x=${x}&y=${y}`);
      if (html === undefined) return;
      const box = document.getElementById('measured');
      box.innerHTML = html;
      const shown = document.createElement('div');
      shown.className = 'measured followed';
      const close = Object.assign(document.createElement('button'), {
        className: 'close',
        type: 'button',
        textContent: '×',
      });
      close.setAttribute('aria-label', 'Close the profile');
      close.dataset.closeMeasured = '';
      shown.append(close, ...box.childNodes);
      box.replaceChildren(shown);
      const way = JSON.parse(box.querySelector('[data-places-of-chart]').dataset.placesOfChart);
      const line = new ol.geom.LineString(way);
      map.point(line);
      // A place of the profile is shown on the map, and the whole way again once the profile is left.
      shown.addEventListener('chart-row', ({ detail }) =>
        map.point(detail === null ? line : new ol.geom.Point(way[detail])),
      );
      map.target.dataset.followed = way.length;
    } catch (error) {
      notice(error.message, true);
    }
  };
  enter({ place }, 'Click where the water is to be followed from. Esc leaves.');
}
