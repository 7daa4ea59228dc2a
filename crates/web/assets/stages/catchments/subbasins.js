// Sub-basins: drawn so that no two neighbours share a colour, chosen by a click, merged, split and named.
import { notice, query, send } from '../../lib/common.js';
import { Latest } from '../../lib/latest.js';
import { area } from '../../lib/units.js';
import { fillOf, labelOf, strokeOf, styleOf } from '../../map/vector.js';

const ol = window.ol;
const CLAY = '#B4532A';

const style = (map) => (f) => {
  const now = styleOf(map, 'subbasins');
  const chosen = f.get('id') === map.chosenSubbasin;
  return new ol.style.Style({
    fill: fillOf(now, map.data.basin_colours[f.get('colour')]),
    stroke: strokeOf(chosen ? { ...now, color: CLAY, width: now.width + 2.2, dash: 'solid' } : now),
    text: labelOf(now, now.label && f.get(`label-${now.label}`)),
    zIndex: chosen ? 1 : 0,
  });
};

const last = new Latest();

async function load(map) {
  const layer = map.layers.subbasins;
  const size = map.map?.getSize();
  if (!layer || !size) return;
  const view = map.map.getView();
  const [west, south, east, north] = view.calculateExtent(size);
  const cells = view.getResolution() / map.main.cell_x;
  const told = await last.ask(`${map.base}/subbasins?${query({ west, south, east, north, cells })}`);
  if (!told || layer !== map.layers.subbasins) return;
  const source = layer.getSource();
  source.clear(true);
  source.addFeatures(
    told.map(
      (s) =>
        new ol.Feature({
          geometry: new ol.geom.MultiPolygon(s.outline),
          id: s.id,
          colour: s.colour,
          'label-number': String(s.id),
          'label-name': s.name ?? '',
          'label-area': area(s.area),
        }),
    ),
  );
  map.target.dataset.subbasins = told.length;
}

export const subbasinSpec = {
  key: 'subbasins',
  name: 'Sub-basins',
  vector: {
    key: 'subbasins',
    fills: true,
    labels: [
      ['number', 'number'],
      ['name', 'name'],
      ['area', 'area'],
    ],
  },
  styled: (map) => map.layers.subbasins?.changed(),
  place: 59,
  build: (map) => {
    if (!map.data.rasters.area) return null;
    return new ol.layer.Vector({ source: new ol.source.Vector(), style: style(map), declutter: true });
  },
  follows: ['study', 'points', 'subbasins', 'threshold', 'view', 'shown'],
  load,
};

/** The section of the desk. */
export class Subbasins {
  constructor(page) {
    this.page = page;
    this.asked = new Latest();
    this.shown = new Latest();
    document.body.addEventListener('subbasins-changed', () => {
      page.refreshParts();
      page.fetchDesk();
      page.map.refresh('subbasins');
    });
    page.desk.addEventListener(
      'section-shown',
      (e) => e.target.dataset?.section === 'subbasins' && this.open(),
      true,
    );
  }

  /** Whether the section is open. */
  get here() {
    return this.page.stage === 'catchments' && this.page.sections.key === 'subbasins';
  }

  async open() {
    const { page } = this;
    if (!page.map.shown.has('subbasins')) page.see(['relief', 'subbasins', 'streams', 'cells']);
    page.map.layers.catchments?.changed();
    const place = document.getElementById('subbasins');
    if (!place) return;
    if (!place.childElementCount) place.innerHTML = '<p class="working" role="status">Dividing…</p>';
    try {
      const html = await this.asked.text(`${page.base}/subbasins/told`);
      if (html === undefined || !place.isConnected) return;
      place.innerHTML = html;
      window.htmx.process(place);
    } catch (error) {
      place.replaceChildren();
      notice(error.message, true);
    }
    // The one that was looked at may have another number now.
    if (this.outlet) this.show({ x: this.outlet[0], y: this.outlet[1] }, false);
  }

  /** Shows one, by its number or a place in it. */
  async show(which, go = false) {
    const { page } = this;
    const place = document.getElementById('subbasin');
    if (!place) return;
    let html;
    try {
      html = await this.shown.text(`${page.base}/subbasins/one?${query(which)}`);
    } catch (error) {
      notice(error.message, true);
      return;
    }
    if (html === undefined || !place.isConnected) return;
    place.innerHTML = html;
    window.htmx.process(place);
    const card = place.querySelector('[data-subbasin]');
    if (!(card instanceof HTMLElement)) return;
    this.outlet = [Number(card.dataset.x), Number(card.dataset.y)];
    page.map.chosenSubbasin = Number(card.dataset.subbasin);
    page.map.layers.subbasins?.changed();
    page.map.target.dataset.chosen = card.dataset.subbasin;
    if (go) page.map.goTo(...this.outlet, true, 8);
  }

  click(target) {
    const other = target.closest('[data-show-subbasin]');
    if (other) {
      this.show({ id: other.dataset.showSubbasin }, true);
      return true;
    }
    if (!target.closest('[data-split-subbasin]')) return false;
    const { page } = this;
    const place = ([x, y]) => send(`${page.base}/subbasins/split`, { x, y });
    page.enter({ place }, 'Click where a sub-basin is to end; it snaps as pour points do. Esc leaves.');
    return true;
  }

  pick([x, y]) {
    if (!this.here) return false;
    this.show({ x, y });
    return true;
  }

  /** The outline of a row, where it is drawn. */
  shapeOf(key) {
    const all = this.page.map.layers.subbasins?.getSource().getFeatures() ?? [];
    return all.find((f) => String(f.get('id')) === key)?.getGeometry() ?? null;
  }
}
