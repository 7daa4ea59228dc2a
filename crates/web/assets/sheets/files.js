// Files of a sheet: fetched as it is written, a picture given for a logo.
import { notice, query, token } from '../lib/common.js';

/** Fetches the sheet as a file, and says what went wrong where it could not be written. */
export async function download(form, base) {
  const { format, dpi } = Object.fromEntries(new FormData(form));
  const button = document.getElementById('download-sheet');
  button.disabled = true;
  button.textContent = 'Writing…';
  try {
    const answer = await fetch(`${base}/file/${format}?${query({ dpi })}`);
    if (!answer.ok) {
      notice(await answer.text(), true);
      return;
    }
    const name = /filename="([^"]+)"/.exec(answer.headers.get('Content-Disposition') ?? '')?.[1];
    const link = document.createElement('a');
    link.href = URL.createObjectURL(await answer.blob());
    link.download = name ?? `sheet.${format}`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
    document.getElementById('sheet').dataset.written = link.download;
  } catch {
    notice('The connection was cut while the sheet was written. Try again.', true);
  } finally {
    button.disabled = false;
    button.textContent = 'Download';
  }
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
