// The page of kept recipes.
import { hearErrors } from '../lib/common.js';
import { listenToServer } from '../lib/events.js';

hearErrors();
listenToServer();
document.body.addEventListener('recipes-changed', () => location.reload());
document.addEventListener('keydown', (e) => {
  if (e.key === '?' && !e.target.closest('input, textarea, select'))
    window.htmx.ajax('GET', '/help/recipes', '#help');
});

// A file gives the name, until another is typed.
const file = document.getElementById('kept-file');
const name = document.getElementById('kept-name');
file.addEventListener('change', () => {
  if (file.files.length && !name.value) name.value = file.files[0].name.replace(/\.[^.]*$/, '');
});
