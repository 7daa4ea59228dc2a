// The start page: dropping a DEM, and its upload with progress.
import { hearErrors, notice, token } from '../lib/common.js';
import { listenToServer } from '../lib/events.js';

hearErrors();
listenToServer();
document.body.addEventListener('study-changed', () => location.reload());
document.addEventListener('keydown', (e) => {
  if (e.key === '?' && !e.target.closest('input, textarea, select'))
    window.htmx.ajax('GET', '/help/start', '#help');
});

document.addEventListener('alpine:init', () =>
  window.Alpine.data('upload', () => ({
    over: false,
    sending: false,
    waiting: false,
    share: 0,
    told: '',
    name: '',
    description: '',
    chosen: 'Choose or drop a file',
    files: [],
    request: null,
    init() {
      for (const kind of ['dragover', 'dragleave', 'drop']) {
        document.addEventListener(kind, (e) => {
          e.preventDefault();
          this.over = kind === 'dragover';
          if (kind === 'drop') {
            this.take(e.dataTransfer.files);
            this.send();
          }
        });
      }
    },
    pick(e) {
      this.take(e.target.files);
    },
    take(list) {
      if (!list.length) return;
      this.files = [...list];
      const dem = this.dem();
      this.chosen = this.files.map((f) => f.name).join(', ');
      if (dem && !this.name) this.name = dem.name.replace(/\.[^.]*$/, '');
      this.told = '';
    },
    dem() {
      return this.files.find((f) => !/\.prj$/i.test(f.name));
    },
    send() {
      const dem = this.dem();
      if (!dem) {
        notice('Choose a DEM first: a GeoTIFF or an ASCII grid.', true);
        return;
      }
      const limit = Number(this.$root.dataset.limit);
      if (dem.size > limit) {
        notice(
          `${dem.name} is larger than ${this.$root.dataset.limitText}, the most this server accepts. ` +
            'Crop it, or raise the limit.',
          true,
        );
        return;
      }
      const form = new FormData();
      form.append('name', this.name);
      form.append('description', this.description);
      for (const file of this.files) form.append(/\.prj$/i.test(file.name) ? 'prj' : 'dem', file);
      const request = new XMLHttpRequest();
      this.request = request;
      this.sending = this.waiting = true;
      this.share = 0;
      request.upload.addEventListener('progress', (e) => {
        this.share = e.loaded / e.total;
        this.told = e.loaded < e.total ? `${Math.round(this.share * 100)} % sent` : 'Looking at the file…';
      });
      const ended = (text) => {
        this.sending = this.waiting = false;
        this.told = '';
        if (text) notice(text, true);
      };
      request.addEventListener('load', () => {
        if (request.status === 200) {
          this.told = 'Opening…';
          const to = new URL(JSON.parse(request.responseText).location, location.href);
          const recipe = document.querySelector('.with-recipe')?.dataset.recipe;
          // Looked at once the DEM is read.
          if (recipe) sessionStorage.setItem(`recipe ${to.pathname}`, recipe);
          location.href = to.href;
          return;
        }
        ended(request.responseText || 'The server could not take the file.');
      });
      request.addEventListener('error', () =>
        ended('The connection was cut during the upload; nothing was kept. Try again.'),
      );
      request.addEventListener('abort', () => ended(''));
      request.open('POST', '/studies');
      request.setRequestHeader('X-Bothros-Token', token());
      request.send(form);
    },
    stop() {
      this.request?.abort();
    },
  })),
);
