// The page of batches: what varies, with an example of its values.
import { hearErrors } from '../lib/common.js';
import { listenToServer } from '../lib/events.js';

hearErrors();
listenToServer();
document.body.addEventListener('token-changed', () => location.reload());

for (const select of document.querySelectorAll('[data-vary]')) {
  const row = select.closest('.vary');
  const own = row.querySelector('[name^=own_]');
  const values = row.querySelector('[name^=values_]');
  const follow = () => {
    own.hidden = select.value !== 'own';
    values.disabled = !select.value;
    values.placeholder = select.selectedOptions[0]?.dataset.example ?? '';
  };
  select.addEventListener('change', follow);
  follow();
}

// A study and a recipe’s file: one of the two is run.
const study = document.getElementById('batch-study');
const recipe = document.getElementById('batch-recipe');
recipe.addEventListener('change', () => {
  if (recipe.files.length) study.value = '';
});
study.addEventListener('change', () => {
  if (study.value) recipe.value = '';
});
