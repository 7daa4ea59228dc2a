// A catchment over another that somebody else drew, or that another study has.
import { notice, query } from '../../lib/common.js';
import { Latest } from '../../lib/latest.js';
import { fillPart } from '../../lib/part.js';
import { Swipe } from '../../map/swipe.js';
import { stroke } from '../../map/vector.js';

const ol = window.ol;
const [CLAY, BLUE, INK] = ['#B4532A', '#2F6DA8', '#22302E'];
const fill = (color) => new ol.style.Fill({ color });

/** Areas in one colour. */
export const areaLayer = (color) =>
  new ol.layer.Vector({
    source: new ol.source.Vector(),
    style: new ol.style.Style({ fill: fill(`${color}66`), stroke: stroke(color, 2) }),
  });

/** Fetches one area into such a layer. */
export async function loadArea(layer, address, asked = new Latest()) {
  const told = await asked.ask(address);
  if (!told) return 0;
  const source = layer.getSource();
  source.clear(true);
  source.addFeature(new ol.Feature(new ol.geom.MultiPolygon(told.outline)));
  return told.outline.length;
}

/** Land that only one of a catchment and a published boundary holds. */
export const publishedSpec = {
  key: 'published',
  name: 'Differences to a boundary',
  place: 61,
  build: (map) => {
    if (!map.data.rasters.area) return null;
    const style = (f) =>
      new ol.style.Style({
        fill: fill(f.get('ours') ? '#B4532A99' : '#2F6DA899'),
        stroke: stroke(f.get('ours') ? CLAY : '#2F6DA8', 1.2),
      });
    return new ol.layer.Vector({ source: new ol.source.Vector(), style });
  },
};

/** The catchment that the same place has in another study. */
export const elsewhereSpec = {
  key: 'elsewhere',
  name: 'Catchment in another study',
  place: 62,
  build: (map) => {
    if (!map.data.rasters.area) return null;
    const style = new ol.style.Style({ fill: fill(`${BLUE}33`), stroke: stroke(BLUE, 2.4, [8, 5]) });
    return new ol.layer.Vector({ source: new ol.source.Vector(), style });
  },
};

/** The section of published boundaries. */
export class Published {
  constructor(page) {
    this.page = page;
    this.compared = new Latest();
    this.drawn = new Latest();
    this.other = new Latest();
    page.desk.addEventListener(
      'section-shown',
      (e) => {
        if (e.target.dataset?.section === 'published') this.compare();
        else this.swiping?.end();
      },
      true,
    );
    page.desk.addEventListener('change', (e) => {
      if (e.target.closest('#published-form')) this.compare();
    });
  }

  /** The desk has been fetched anew: what was chosen is chosen still. */
  prepare() {
    const form = this.pair && document.getElementById('published-form');
    if (!form) return;
    for (const [name, value] of Object.entries(this.pair)) {
      const field = form.querySelector(`[name=${name}]`);
      if (field instanceof HTMLSelectElement && [...field.options].some((o) => o.value === value))
        field.value = value;
    }
  }

  /** The comparison with a boundary. */
  async compare() {
    const form = document.getElementById('published-form');
    if (!(form instanceof HTMLFormElement)) return;
    const { page } = this;
    this.swiping?.end();
    const given = new FormData(form);
    this.pair = { point: String(given.get('point')), boundary: String(given.get('boundary')) };
    const asked = query(this.pair);
    const link = document.getElementById('boundary-side-by-side');
    if (link instanceof HTMLAnchorElement) link.href = `${page.base}/published/side-by-side?${asked}`;
    if (!page.map.shown.has('published'))
      page.see(['relief', 'streams', 'features', 'catchments', 'published', 'cells']);
    page.map.layers.catchments?.changed();
    if (!(await fillPart('published', this.compared, `${page.base}/published/told?${asked}`, 'Comparing…')))
      return;
    const pieces = await this.drawn.ask(`${page.base}/published?${asked}`);
    const source = page.map.layers.published?.getSource();
    if (!pieces || !source) return;
    source.clear(true);
    source.addFeatures(
      pieces.map(
        ({ number, ours, outline }) =>
          new ol.Feature({ number, ours, geometry: new ol.geom.MultiPolygon(outline) }),
      ),
    );
    page.map.target.dataset.differences = pieces.length;
  }

  click(target) {
    if (!target.closest('[data-swipe-boundary]')) return false;
    this.swipe();
    return true;
  }

  /** The catchment left of a handle, the boundary right of it; again ends that. */
  async swipe() {
    if (this.swiping) {
      this.swiping.end();
      return;
    }
    const { map, base } = this.page;
    const [left, right] = [areaLayer(CLAY), areaLayer(INK)];
    const address = (side) => `${base}/published/side?${query({ ...this.pair, side })}`;
    try {
      await Promise.all([loadArea(left, address('catchment')), loadArea(right, address('boundary'))]);
    } catch (error) {
      notice(error.message, true);
      return;
    }
    for (const layer of [left, right]) {
      layer.setZIndex(70);
      map.map.addLayer(layer);
    }
    const hidden = ['published', 'catchments', 'features']
      .map((key) => map.layers[key])
      .filter((layer) => layer?.getVisible());
    for (const layer of hidden) layer.setVisible(false);
    const swipe = new Swipe({ map: map.map, target: map.target, names: ['catchment', 'boundary'] });
    swipe.toggle(right);
    const kept = swipe.keep(left);
    swipe.ended = () => {
      kept.end();
      for (const layer of [left, right]) map.map.removeLayer(layer);
      for (const layer of hidden) layer.setVisible(true);
      this.swiping = null;
    };
    this.swiping = swipe;
  }

  /** Draws the catchment that a pour point's place has in another study; nothing without one. */
  async drawElsewhere(point, study) {
    const { page } = this;
    if (!study) {
      page.map.layers.elsewhere?.getSource().clear();
      return;
    }
    if (!page.map.shown.has('elsewhere')) page.see(['relief', 'streams', 'catchments', 'elsewhere', 'cells']);
    const layer = page.map.layers.elsewhere;
    if (!layer) return;
    try {
      const address = `${page.base}/pour-points/${point}/elsewhere?${query({ study })}`;
      page.map.target.dataset.elsewhere = await loadArea(layer, address, this.other);
    } catch {
      // The part of the desk that compares tells why.
      layer.getSource().clear();
    }
  }
}
