// Files of a sheet: fetched as it is written, a picture given for a logo.
import { notice, query, token } from '../lib/common.js';

/**
 * Fetches a file that takes a while to be written, and saves it; says what went wrong where it could not be written.
 * @param {any} button
 * @param {string} address
 */
export async function fetchFile(button, address) {
  const said = button.textContent;
  button.disabled = true;
  button.textContent = 'Writing…';
  try {
    const answer = await fetch(address);
    if (!answer.ok) {
      notice(await answer.text(), true);
      return;
    }
    const name = /filename="([^"]+)"/.exec(answer.headers.get('Content-Disposition') ?? '')?.[1];
    const link = document.createElement('a');
    link.href = URL.createObjectURL(await answer.blob());
    link.download = name ?? 'file';
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
    document.querySelector('.sheet-page').dataset.written = link.download;
  } catch {
    notice('The connection was cut while the file was written. Try again.', true);
  } finally {
    button.disabled = false;
    button.textContent = said;
  }
}

/** Fetches the sheet as a file. */
export function download(form, base) {
  const { format, dpi } = Object.fromEntries(new FormData(form));
  return fetchFile(document.getElementById('download-sheet'), `${base}/file/${format}?${query({ dpi })}`);
}

/** Sends the picture of a logo. */
export async function give(form, given) {
  const answer = await fetch(form.dataset.picture, {
    method: 'POST',
    headers: { 'X-Bothros-Token': token() },
    body: new FormData(form),
  });
  if (answer.ok) given();
  else notice(await answer.text(), true);
}
