// Fields that only some choices need: shown with them, and filled in before the choice is sent.

export function hearChoices(desk) {
  const chosen = (e) => {
    const select = e.target.closest?.('select[data-shows]');
    if (!select) return;
    let empty = null;
    for (const part of select.form.querySelectorAll('[data-with]')) {
      part.hidden = !part.dataset.with.split(' ').includes(select.value);
      if (!part.hidden) empty ??= [...part.querySelectorAll('input')].find((input) => !input.value.trim());
    }
    if (!empty) return;
    e.stopPropagation();
    empty.focus();
  };
  // On its way down: what sends the form hears of it on its way up.
  desk.addEventListener('change', chosen, true);
}
