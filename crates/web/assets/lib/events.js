// What happens on the server, heard once for all tabs of a browser: one of them keeps the connection and passes on
// what it hears, so that no tab waits for a free connection.
import { ask } from './common.js';

const channel = 'BroadcastChannel' in window ? new BroadcastChannel('bothros-events') : null;
const hearers = new Set();
const box = document.getElementById('trouble');

function tellTroubles(all) {
  if (!box) return;
  box.hidden = all.length === 0;
  box.textContent = all.join(' ');
}

function heard(event) {
  if (event.troubles) { tellTroubles(event.troubles); return; }
  for (const hearer of hearers) hearer(event);
}

const MISSED = { study: 0, state: 'missed' };

function keepConnection(first) {
  const pass = (event) => { heard(event); channel?.postMessage(event); };
  let lost = !first;
  const source = new EventSource('/events');
  source.addEventListener('message', (m) => pass(JSON.parse(m.data)));
  source.addEventListener('open', () => { pass({ troubles: [] }); if (lost) { lost = false; pass(MISSED); } });
  source.addEventListener('error', () => {
    lost = true;
    pass({ troubles: ['The server does not answer at the moment. What is shown may be out of date; nothing is lost.'] });
    // A server that answers with an error ends the stream for good; a new one is tried.
    if (source.readyState === EventSource.CLOSED) setTimeout(() => keepConnection(false), 3000);
  });
}

/** Calls `hearer` with every event of the server. */
export function hear(hearer) { hearers.add(hearer); }

export function listenToServer() {
  channel?.addEventListener('message', (m) => heard(m.data));
  if (!channel || !navigator.locks) { keepConnection(true); return; }
  let first = true;
  navigator.locks.query().then(({ held }) => { if (held.some((l) => l.name === 'bothros-events')) first = false; }).catch(() => {}).finally(() => {
    navigator.locks.request('bothros-events', () => { keepConnection(first); return new Promise(() => {}); });
    // A tab that does not keep the connection asks once how things stand.
    if (!first) ask('/health').then((h) => tellTroubles(h.troubles)).catch(() => {});
  });
}
