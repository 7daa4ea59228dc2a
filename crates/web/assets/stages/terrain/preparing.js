// Files sent, and the preparation of the DEM planned.
import { token } from '../../lib/common.js';

const ol = window.ol;

export class Preparing {
  /** `page` gives base, map and desk. */
  constructor(page) {
    this.page = page;
  }

  /** The desk has been fetched anew. */
  prepare() {
    const { desk } = this.page;
    const form = desk.querySelector('#prepare');
    if (!form) {
      this.outline();
      return;
    }
    const changed = () => {
      clearTimeout(this.timer);
      this.timer = setTimeout(() => this.plan(form), 200);
    };
    form.addEventListener('input', (e) => {
      if (e.target.name !== 'q') changed();
    });
    form.addEventListener('change', (e) => {
      if (e.target.name !== 'q') changed();
    });
    this.extent();
  }

  /** What the map shows now, for clipping to it. */
  extent() {
    const field = this.page.desk.querySelector('[data-extent]');
    const size = this.page.map.map?.getSize();
    if (field && size) field.value = this.page.map.map.getView().calculateExtent(size).join(',');
  }

  /** Tells and draws where the DEM would lie. */
  async plan(form) {
    this.extent();
    const answer = await fetch(form.dataset.plan, {
      method: 'POST',
      headers: { 'X-Bothros-Token': token() },
      body: new URLSearchParams([...new FormData(form)].map(([name, value]) => [name, String(value)])),
    });
    const place = form.querySelector('#plan');
    if (!answer.ok) {
      place.textContent = await answer.text();
      place.classList.add('wrong');
      this.outline();
      return;
    }
    const { told, outline } = await answer.json();
    place.textContent = told;
    place.classList.remove('wrong');
    this.outline(outline);
  }

  outline(rings) {
    const { map } = this.page.map;
    if (!map) return;
    if (!this.layer) {
      const stroke = (color, width, lineDash) =>
        new ol.style.Style({ stroke: new ol.style.Stroke({ color, width, lineDash }) });
      this.layer = new ol.layer.Vector({
        source: new ol.source.Vector(),
        style: [stroke('#FFFDF8', 5), stroke('#B4532A', 2.2, [9, 5])],
      });
    }
    map.removeLayer(this.layer);
    const source = this.layer.getSource();
    source.clear();
    if (!rings) return;
    source.addFeatures(rings.map((ring) => new ol.Feature(new ol.geom.LineString(ring))));
    map.addLayer(this.layer);
  }
}
