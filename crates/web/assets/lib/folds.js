// What a person unfolded or folded stays so when its part of the page is fetched anew. Folds are told apart by id.

/** @type {Map<string, boolean>} */
const byHand = new Map();

/** @param {Node} part  what was put into the page */
function asLeft(part) {
  if (!(part instanceof Element)) return;
  const folds = [part, ...part.querySelectorAll('details[id]')];
  for (const fold of folds) {
    const open = byHand.get(fold.id);
    if (fold instanceof HTMLDetailsElement && open !== undefined) fold.open = open;
  }
}

export function keepFolds() {
  // A key makes a click of a summary, too; what it does to the fold follows the click.
  document.body.addEventListener('click', (e) => {
    const fold = e.target instanceof Element && e.target.closest('summary')?.parentElement;
    if (fold instanceof HTMLDetailsElement && fold.id && !e.defaultPrevented) byHand.set(fold.id, !fold.open);
  });
  // What was unfolded to fill it in has served once it is sent.
  document.body.addEventListener('htmx:afterRequest', (e) => {
    const { elt, successful, requestConfig } = /** @type {CustomEvent} */ (e).detail;
    const fold = successful && requestConfig?.verb !== 'get' && elt.closest('details.edit');
    if (fold) byHand.delete(fold.id);
  });
  new MutationObserver((changes) => {
    for (const { addedNodes } of changes) for (const node of addedNodes) asLeft(node);
  }).observe(document.body, { childList: true, subtree: true });
}
