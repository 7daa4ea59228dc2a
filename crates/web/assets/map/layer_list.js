// The list of the study's layers on a desk: files that are added.
import { notice, token } from '../lib/common.js';
import { loadFeatures } from './features.js';

export class LayerList {
  constructor(page) {
    this.page = page;
    document.body.addEventListener('layers-changed', () => {
      page.refreshParts();
      page.fetchDesk();
      loadFeatures(page.map).catch((e) => notice(e.message, true));
    });
  }

  /** The desk has been fetched anew. */
  prepare() {
    const form = this.page.desk.querySelector('#add-layer');
    form?.addEventListener('submit', (e) => {
      e.preventDefault();
      this.add(form);
    });
  }

  /** The file does not tell its CRS: those that fit are offered, and any other can be typed. */
  askForCrs(form, { text, fit }) {
    const told = form.querySelector('#layer-crs-ask');
    told.textContent = text;
    told.hidden = false;
    const field = form.querySelector('#layer-crs');
    const choose = ({ crs, label }) => {
      const item = document.createElement('li');
      const button = Object.assign(document.createElement('button'), { type: 'button', textContent: label });
      button.className = 'btn btn-sm quiet';
      button.dataset.layerCrs = crs;
      button.addEventListener('click', () => {
        field.value = crs;
        this.add(form);
      });
      item.append(button);
      return item;
    };
    form.querySelector('#layer-crs-choices').replaceChildren(...fit.map(choose));
    field.focus();
  }

  async add(form) {
    const button = form.querySelector('button');
    button.disabled = true;
    try {
      const answer = await fetch(`${this.page.base}/layers`, {
        method: 'POST',
        headers: { 'X-Bothros-Token': token() },
        body: new FormData(form),
      });
      if (answer.status === 409 && answer.headers.get('Content-Type')?.includes('json')) {
        this.askForCrs(form, await answer.json());
        return;
      }
      if (!answer.ok) {
        notice(await answer.text(), true);
        return;
      }
      notice(decodeURIComponent(answer.headers.get('X-Told') ?? 'Added.'));
      this.page.see(['features']);
      document.body.dispatchEvent(new Event(answer.headers.get('HX-Trigger') ?? 'layers-changed'));
    } catch {
      notice('The upload was broken off; nothing was kept. Try again.', true);
    } finally {
      button.disabled = false;
    }
  }
}
