// The report: seen as it stands, its sections chosen, written to files.
import { hearErrors, notice, send } from '../lib/common.js';
import { hear, listenToServer } from '../lib/events.js';
import { Latest } from '../lib/latest.js';
import { fetchFile } from './files.js';

hearErrors();
listenToServer();
const page = document.getElementById('report-page');
const { study } = page.dataset;
const base = `/studies/${study}`;
const place = document.getElementById('report');
const asked = new Latest();

/** Puts the report together anew, and stays where the reader is. */
async function load() {
  if (!place) return;
  place.setAttribute('aria-busy', 'true');
  try {
    const html = await asked.text(`${base}/report/told`);
    if (html === undefined) return;
    const { scrollTop } = place.parentElement;
    place.innerHTML = html;
    place.parentElement.scrollTop = scrollTop;
    page.dataset.told = String(Number(page.dataset.told ?? 0) + 1);
  } catch (error) {
    notice(error.message, true);
  }
  place.removeAttribute('aria-busy');
}

for (const event of ['report-changed', 'study-changed']) document.body.addEventListener(event, load);
hear(({ study: of, state }) => {
  if (of === Number(study) && ['done', 'missed'].includes(state)) load();
});
document.addEventListener('click', (event) => {
  if (!(event.target instanceof HTMLElement)) return;
  const button = event.target.closest('[data-report]');
  if (button) fetchFile(button, `${base}/report/file/${button.dataset.report}`);
  if (event.target.closest('#undo-report')) send(`${base}/undo`);
});
document.addEventListener('keydown', (event) => {
  const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, select');
  if (typing || !(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'z') return;
  event.preventDefault();
  send(`${base}/undo`);
});
load();
