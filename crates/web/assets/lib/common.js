// What every page needs: one line of notice, requests with the visitor's token.

const box = () => document.getElementById('notice');
let hiding = 0;

/** Shows a sentence; a wrong one stays until it is closed. */
export function notice(text, wrong = false) {
  const b = box();
  b.textContent = text;
  b.classList.toggle('wrong', wrong);
  const close = document.createElement('button');
  close.textContent = 'Close';
  close.addEventListener('click', () => {
    b.hidden = true;
  });
  b.append(close);
  b.hidden = false;
  clearTimeout(hiding);
  if (!wrong)
    hiding = setTimeout(() => {
      b.hidden = true;
    }, 5000);
}

export const token = () => document.querySelector('meta[name=token]').content;

/** Fields as the query of an address. */
export const query = (fields) =>
  new URLSearchParams(Object.entries(fields).map(([name, value]) => [name, String(value)]));

/** Asks for JSON; throws with the server's sentence. */
export async function ask(address, options = {}) {
  const answer = await fetch(address, options);
  if (!answer.ok) throw new Error((await answer.text()) || `The server answered ${answer.status}.`);
  return answer.json();
}

/** Sends a form; tells what went wrong and answers whether it went well. */
export async function send(address, fields = {}) {
  try {
    const answer = await fetch(address, {
      method: 'POST',
      headers: { 'X-Bothros-Token': token() },
      body: new URLSearchParams(fields),
    });
    if (!answer.ok) {
      notice(await answer.text(), true);
      return false;
    }
    box().hidden = true;
    const told = answer.headers.get('HX-Trigger');
    if (told) {
      const events = told.startsWith('{') ? JSON.parse(told) : { [told]: true };
      for (const [name, value] of Object.entries(events))
        document.body.dispatchEvent(new CustomEvent(name, { detail: { value } }));
    }
    return true;
  } catch {
    notice('The server does not answer. Nothing was changed; try again.', true);
    return false;
  }
}

export function hearErrors() {
  document.body.addEventListener('htmx:responseError', (e) =>
    notice(e.detail.xhr.responseText || 'The server could not do this.', true),
  );
  document.body.addEventListener('htmx:sendError', () =>
    notice('The server does not answer. Nothing was changed; try again.', true),
  );
  document.body.addEventListener('htmx:afterRequest', (e) => {
    if (e.detail.successful && e.detail.requestConfig.verb === 'post') box().hidden = true;
  });
  document.addEventListener('click', (e) => {
    if (e.target.closest('[data-close-help]')) document.getElementById('help').replaceChildren();
  });
  document.addEventListener('keydown', (e) => {
    if (e.key === 'Escape') document.getElementById('help')?.replaceChildren();
  });
}
