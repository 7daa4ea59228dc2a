// The page of a batch: its runs anew while they are worked on, and held against another.
import { hearCharts } from '../lib/chart.js';
import { hearErrors, query } from '../lib/common.js';
import { listenToServer } from '../lib/events.js';
import { keepFolds } from '../lib/folds.js';

hearErrors();
listenToServer();
hearCharts();
keepFolds();

const place = document.getElementById('runs');
const EVERY = 1000;

const looked = () => {
  const form = document.getElementById('look');
  const fields = { against: form?.elements.against?.value ?? '' };
  const figure = form?.elements.figure?.value;
  return figure ? { ...fields, figure } : fields;
};

async function again(fields = looked()) {
  const scrolled = place.querySelector('.run-rows')?.scrollLeft ?? 0;
  const answer = await fetch(`/batches/${place.dataset.batch}/runs?${query(fields)}`);
  if (!answer.ok) return;
  place.innerHTML = await answer.text();
  window.htmx.process(place);
  const rows = place.querySelector('.run-rows');
  if (rows) rows.scrollLeft = scrolled;
}

// Not while somebody is at one of its fields or lists.
const busy = () => place.contains(document.activeElement) && document.activeElement.matches('select');
setInterval(() => {
  const active = place.querySelector('.batch-bar')?.dataset.active === 'true';
  if (active && !busy() && !document.hidden) again();
}, EVERY);

place.addEventListener('click', (e) => {
  const button = e.target.closest('[data-against]');
  if (button) again({ ...looked(), against: button.dataset.against });
});
place.addEventListener('change', (e) => {
  if (e.target.id === 'figure') again();
});
