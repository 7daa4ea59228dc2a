// The list of a study's sheets: a page of a free size, sheets deleted, an atlas that is being written.
import { hearErrors, notice } from '../lib/common.js';
import { hear, listenToServer } from '../lib/events.js';
import { freeSize } from './page_fields.js';

hearErrors();
listenToServer();
const study = Number(document.querySelector('.sheet-list').dataset.study);
const form = document.getElementById('new-sheet');
if (form) freeSize(form);
document.body.addEventListener('sheets-changed', () => location.reload());

const log = document.getElementById('sheet-log');
hear(({ study: of, state, message, job }) => {
  if (of !== study || !log) return;
  if (state === 'running' || state === 'queued') log.textContent = `${job ?? 'Working'}: ${message ?? '…'}`;
  if (state === 'failed') notice(message ?? 'The work failed.', true);
  if (state === 'done') location.reload();
});
document.body.addEventListener('study-changed', () => {
  log.textContent = 'Writing the atlas…';
});
