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
  if (event.troubles) {
    tellTroubles(event.troubles);
    return;
  }
  for (const hearer of hearers) hearer(event);
}

const MISSED = { study: 0, state: 'missed' };

function keepConnection() {
  const pass = (event) => {
    heard(event);
    channel?.postMessage(event);
  };
  const source = new EventSource('/events');
  source.addEventListener('message', (m) => pass(JSON.parse(m.data)));
  // Before it was open, and while it was cut, something may have happened: pages look for themselves.
  source.addEventListener('open', () => {
    pass({ troubles: [] });
    pass(MISSED);
  });
  source.addEventListener('error', () => {
    pass({
      troubles: [
        'The server does not answer at the moment. What is shown may be out of date; nothing is lost.',
      ],
    });
    // A server that answers with an error ends the stream for good; a new one is tried.
    if (source.readyState === EventSource.CLOSED) setTimeout(keepConnection, 3000);
  });
}

/** Calls `hearer` with every event of the server. */
export function hear(hearer) {
  hearers.add(hearer);
}

export function listenToServer() {
  channel?.addEventListener('message', (m) => heard(m.data));
  if (!channel || !navigator.locks) {
    keepConnection();
    return;
  }
  let keeps = false;
  navigator.locks.request('bothros-events', () => {
    keeps = true;
    keepConnection();
    return new Promise(() => {});
  });
  // A tab that does not keep the connection asks once how things stand, and looks for what it missed.
  setTimeout(() => {
    if (keeps) return;
    heard(MISSED);
    ask('/health')
      .then((h) => tellTroubles(h.troubles))
      .catch(() => {});
  }, 200);
}
