// Fields of a page: width and height are typed for a free size alone.

/** @param {HTMLElement} form */
export function freeSize(form) {
  const size = form.querySelector('[name=size]');
  const free = form.querySelector('.free-size');
  const across = form.querySelector('[name=across]');
  const show = () => {
    free.hidden = size.value !== 'free';
    across.disabled = size.value === 'free';
  };
  size.addEventListener('change', show);
  show();
}
