// Parts of the desk that the server fills.
import { notice } from './common.js';

/** Fills a part of the desk with what the server tells; answers whether it did. */
export async function fillPart(id, latest, address, working) {
  const place = document.getElementById(id);
  if (!place) return false;
  if (!place.childElementCount) place.innerHTML = `<p class="working" role="status">${working}</p>`;
  try {
    const html = await latest.text(address);
    if (html === undefined || !place.isConnected) return false;
    place.innerHTML = html;
    window.htmx.process(place);
    return true;
  } catch (error) {
    place.replaceChildren();
    notice(error.message, true);
    return false;
  }
}
