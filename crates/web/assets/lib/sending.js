// Files on their way to the server, with progress in the button.
import { notice, token } from './common.js';

const CUT = 'The connection was cut during the upload; nothing was kept. Try again.';

/** The fields of a form, its files under the names that the server reads them by. */
function fields(form) {
  const data = new FormData();
  for (const input of form.querySelectorAll('input[type=text], input:not([type]), select'))
    data.append(input.name, input.value);
  for (const input of form.querySelectorAll('input[type=file]')) {
    for (const file of input.files) data.append(/\.prj$/i.test(file.name) ? 'prj' : 'dem', file);
  }
  return data;
}

/** Sends the files of a form. */
function sendFiles(form) {
  const button = form.querySelector('button');
  const said = button.textContent;
  const request = new XMLHttpRequest();
  button.disabled = true;
  request.upload.addEventListener('progress', (e) => {
    button.textContent = e.loaded < e.total ? `${Math.round((100 * e.loaded) / e.total)} %` : 'Looking…';
  });
  const ended = (text) => {
    button.disabled = false;
    button.textContent = said;
    if (text) notice(text, true);
  };
  request.addEventListener('load', () => {
    ended(request.status < 300 ? '' : request.responseText || 'The server could not take the file.');
    if (request.status < 300) document.body.dispatchEvent(new Event('study-changed'));
  });
  request.addEventListener('error', () => ended(CUT));
  request.open('POST', form.dataset.send);
  request.setRequestHeader('X-Bothros-Token', token());
  request.send(fields(form));
}

/** Takes over the forms inside an element that send files. */
export function takeSending(element) {
  for (const form of element.querySelectorAll('form[data-send]')) {
    form.addEventListener('submit', (e) => {
      e.preventDefault();
      sendFiles(form);
    });
  }
}
