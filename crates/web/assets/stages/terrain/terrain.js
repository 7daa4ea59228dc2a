// The Terrain stage: files sent, preparation planned, how the ground is drawn.
import { notice, send, token } from '../../lib/common.js';

const ol = window.ol;

export class Terrain {
  /** `page` gives base, map and desk. */
  constructor(page) { this.page = page; }

  /** The desk has been fetched anew. */
  prepare() {
    const { desk } = this.page;
    this.prepareSending();
    const form = desk.querySelector('#prepare');
    if (!form) { this.outline(); return; }
    const changed = () => { clearTimeout(this.timer); this.timer = setTimeout(() => this.plan(form), 200); };
    form.addEventListener('input', (e) => { if (e.target.name !== 'q') changed(); });
    form.addEventListener('change', (e) => { if (e.target.name !== 'q') changed(); });
    this.extent();
  }

  prepareSending() {
    for (const form of this.page.desk.querySelectorAll('form[data-send]')) form.addEventListener('submit', (e) => { e.preventDefault(); this.send(form); });
  }

  /** What the map shows now, for clipping to it. */
  extent() {
    const field = this.page.desk.querySelector('[data-extent]');
    const size = this.page.map.map?.getSize();
    if (field && size) field.value = this.page.map.map.getView().calculateExtent(size).join(',');
  }

  /** Sends files, with progress in the button. */
  send(form) {
    const button = form.querySelector('button');
    const said = button.textContent;
    const data = new FormData();
    for (const input of form.querySelectorAll('input[type=text], input:not([type])')) data.append(input.name, input.value);
    for (const input of form.querySelectorAll('input[type=file]')) for (const file of input.files) data.append(/\.prj$/i.test(file.name) ? 'prj' : 'dem', file);
    const request = new XMLHttpRequest();
    button.disabled = true;
    request.upload.addEventListener('progress', (e) => { button.textContent = e.loaded < e.total ? `${Math.round(100 * e.loaded / e.total)} %` : 'Looking…'; });
    const ended = (text) => { button.disabled = false; button.textContent = said; if (text) notice(text, true); };
    request.addEventListener('load', () => {
      ended(request.status < 300 ? '' : request.responseText || 'The server could not take the file.');
      if (request.status < 300) document.body.dispatchEvent(new Event('study-changed'));
    });
    request.addEventListener('error', () => ended('The connection was cut during the upload; nothing was kept. Try again.'));
    request.open('POST', form.dataset.send);
    request.setRequestHeader('X-Bothros-Token', token());
    request.send(data);
  }

  /** Tells and draws where the DEM would lie. */
  async plan(form) {
    this.extent();
    const answer = await fetch(form.dataset.plan, { method: 'POST', headers: { 'X-Bothros-Token': token() }, body: new URLSearchParams(new FormData(form)) });
    const place = form.querySelector('#plan');
    if (!answer.ok) { place.textContent = await answer.text(); place.classList.add('wrong'); this.outline(); return; }
    const { told, outline } = await answer.json();
    place.textContent = told;
    place.classList.remove('wrong');
    this.outline(outline);
  }

  outline(rings) {
    const { map } = this.page.map;
    if (!map) return;
    if (!this.layer) {
      const stroke = (color, width, lineDash) => new ol.style.Style({ stroke: new ol.style.Stroke({ color, width, lineDash }) });
      this.layer = new ol.layer.Vector({ source: new ol.source.Vector(), style: [stroke('#FFFDF8', 5), stroke('#B4532A', 2.2, [9, 5])] });
    }
    map.removeLayer(this.layer);
    const source = this.layer.getSource();
    source.clear();
    if (!rings) return;
    source.addFeatures(rings.map((ring) => new ol.Feature(new ol.geom.LineString(ring))));
    map.addLayer(this.layer);
  }
}
