// Pictures behind the map: shown, added, placed by points.
import { ask, notice, token } from '../lib/common.js';
import { height } from '../lib/units.js';

const ol = window.ol;

/** The pictures that have a place, as layers of the map. */
export function backdropSpecs(backdrops) {
  return backdrops
    .filter((b) => b.extent)
    .map((b, at) => ({
      key: `backdrop-${b.id}`,
      name: b.name,
      place: 20 + at / (backdrops.length + 1),
      picture: true,
      build: (map) =>
        new ol.layer.Image({
          visible: false,
          source: new ol.source.ImageStatic({
            url: `${map.base}/backdrops/${b.id}/laid.png?v=${b.version}`,
            imageExtent: b.extent,
            projection: map.projection,
            interpolate: true,
          }),
        }),
    }));
}

/** The maps of servers, as layers of the map: fetched through this server, which lays them onto the study's grid. */
export function serverSpecs({ maps, finer, levels }) {
  return maps.map(({ name, attribution }, at) => ({
    key: `server-${at}`,
    name,
    place: 19 + at / (maps.length + 1),
    picture: true,
    attribution,
    build: (map) => {
      if (!map.data.crs) return null;
      const layer = new ol.layer.Tile({
        visible: false,
        source: serverTiles(map, at, finer, levels),
      });
      return layer;
    },
    legend: (_map, legend) => legend.add(attribution),
  }));
}

function serverTiles(map, at, finer, levels) {
  const { left, top, cell_x: cell, cell_y: cellY, rows, cols } = map.main;
  const resolutions = Array.from({ length: levels }, (_, i) => (cell * 2 ** (levels - 1 - i)) / finer);
  const source = new ol.source.TileImage({
    projection: map.projection,
    tileGrid: new ol.tilegrid.TileGrid({
      origin: [left, top],
      resolutions,
      tileSize: 256,
      extent: [left, top - rows * cellY, left + cols * cell, top],
    }),
    wrapX: false,
    tileUrlFunction: ([z, x, y]) => `${map.base}/maps/${at}/${levels - 1 - z}/${x}/${y}`,
  });
  // What the server says is told once, until it answers again.
  let told = false;
  source.on('tileloadend', () => {
    told = false;
  });
  source.on('tileloaderror', async ({ tile }) => {
    if (told) return;
    told = true;
    const answer = await fetch(tile.src_).catch(() => null);
    if (answer && !answer.ok) map.onProblem?.(await answer.text());
  });
  return source;
}

/** The picture beside the map, on which points are placed. */
const PLACER = `
  <header><h2></h2><button type="button" class="btn btn-sm quiet" data-close>Close</button></header>
  <div class="scan" tabindex="0" aria-label="The picture"></div>
  <p class="hint" role="status"></p>
  <form class="inline typed" hidden><label for="tie-place">or type its easting and northing</label>
  <input id="tie-place" class="form-control" autocomplete="off" placeholder="335000 4762000">
  <button class="btn btn-sm quiet">Take</button></form>
  <table class="list"><thead><tr>
  <th scope="col">Point</th><th scope="col">E</th>
  <th scope="col">N</th><th scope="col">Residual</th><th></th></tr></thead>
  <tbody></tbody></table>
  <p class="told" role="status"></p>
  <p class="acts">
  <button type="button" class="btn btn-primary" data-keep disabled>Keep this place</button></p>`;

/** The part of the Terrain desk that is about pictures. */
export class Backdrops {
  /** `page` gives base, map, desk and ask for a click on the map: `page.onClick(text, then)`. */
  constructor(page) {
    this.page = page;
  }

  prepare() {
    const { desk } = this.page;
    desk.querySelector('#add-backdrop')?.addEventListener('submit', (e) => {
      e.preventDefault();
      this.add(e.target);
    });
    for (const button of desk.querySelectorAll('[data-place-picture]'))
      button.addEventListener('click', () =>
        this.open(Number(button.dataset.placePicture)).catch((e) => notice(e.message, true)),
      );
    for (const button of desk.querySelectorAll('[data-show-picture]'))
      button.addEventListener('click', () => this.show(Number(button.dataset.showPicture)));
  }

  show(id) {
    const { map } = this.page;
    const layer = map.layers[`backdrop-${id}`];
    if (!layer) return;
    map.toggle(`backdrop-${id}`, true);
    this.page.onShown();
    map.map.getView().fit(layer.getSource().getImageExtent(), {
      padding: [30, 30, 30, 30],
      duration: 250,
    });
  }

  async add(form) {
    const button = form.querySelector('button');
    const said = button.textContent;
    button.disabled = true;
    button.textContent = 'Reading…';
    const answer = await fetch(`${this.page.base}/backdrops`, {
      method: 'POST',
      headers: { 'X-Bothros-Token': token() },
      body: new FormData(form),
    }).catch(() => null);
    button.disabled = false;
    button.textContent = said;
    if (!answer?.ok) {
      notice(answer ? await answer.text() : 'The connection was cut; nothing was kept. Try again.', true);
      return;
    }
    form.reset();
    notice(decodeURIComponent(answer.headers.get('X-Told') ?? 'Added.'));
    document.body.dispatchEvent(new Event('study-changed'));
  }

  /** Opens the scan beside the map, to be placed point by point. */
  async open(id) {
    this.close();
    const { base } = this.page;
    const backdrop = (await ask(`${base}/backdrops`)).find((b) => b.id === id);
    if (!backdrop) return;
    this.points = (backdrop.points ?? []).map((p) => ({ ...p }));
    this.id = id;
    const box = document.createElement('section');
    box.className = 'placer';
    box.setAttribute('aria-label', `Place ${backdrop.name}`);
    box.innerHTML = PLACER;
    box.querySelector('h2').textContent = `Place ${backdrop.name}`;
    const side = document.querySelector('.map-side');
    side.append(box);
    // The picture takes one half, the map the other.
    side.classList.add('half');
    this.page.map.map.updateSize();
    this.page.map.fit();
    this.box = box;
    const extent = [0, -backdrop.height, backdrop.width, 0];
    const projection = new ol.proj.Projection({
      code: `picture-${id}`,
      units: 'pixels',
      extent,
    });
    const marks = new ol.layer.Vector({
      source: new ol.source.Vector(),
      style: (f) => mark(f.get('label'), f.get('waiting')),
    });
    this.marks = marks;
    this.scan = new ol.Map({
      target: box.querySelector('.scan'),
      keyboardEventTarget: box.querySelector('.scan'),
      layers: [
        new ol.layer.Image({
          source: new ol.source.ImageStatic({
            url: `${base}/backdrops/${id}/picture.png`,
            imageExtent: extent,
            projection,
          }),
        }),
        marks,
      ],
      view: new ol.View({
        projection,
        center: [backdrop.width / 2, -backdrop.height / 2],
        resolution: 1,
        maxResolution: 20,
        minResolution: 0.05,
      }),
    });
    this.scan.getView().fit(extent);
    this.scan.on('singleclick', (e) => this.onScan(e.coordinate));
    this.ground = new ol.layer.Vector({
      source: new ol.source.Vector(),
      style: (f) => mark(f.get('label')),
      zIndex: 1000,
    });
    this.page.map.map.addLayer(this.ground);
    box.querySelector('[data-close]').addEventListener('click', () => this.close());
    box.querySelector('[data-keep]').addEventListener('click', () => this.keep());
    box.querySelector('.typed').addEventListener('submit', (e) => {
      e.preventDefault();
      this.typed(e.target.querySelector('input'));
    });
    box.addEventListener('keydown', (e) => {
      if (e.key === 'Escape') {
        e.stopPropagation();
        if (this.waiting) {
          this.waiting = null;
          this.page.leave();
          this.draw();
        } else this.close();
      }
    });
    this.say(
      'Click a place in the picture that you can find on the map: ' +
        'a crossing of streams, a corner, a cross of its grid.',
    );
    await this.fit();
  }

  say(text) {
    this.box.querySelector('.hint').textContent = text;
  }

  onScan([x, y]) {
    this.waiting = [x, -y];
    this.box.querySelector('.typed').hidden = false;
    this.say(
      'Now click the same place on the map beside it, or type its coordinates. Esc takes the point back.',
    );
    this.page.onClick('Click the same place on the map. Esc takes the point back.', (at) => this.take(at));
    this.draw();
  }

  typed(input) {
    const numbers = input.value
      .trim()
      .split(/[\s;,]+/)
      .map((t) => Number(t.replace(/[^\d.eE+-]/g, '')));
    if (numbers.length !== 2 || !numbers.every(Number.isFinite)) {
      notice('Type easting and northing, two numbers in the CRS of the study.', true);
      return;
    }
    input.value = '';
    this.page.leave();
    this.take(numbers);
  }

  async take(ground) {
    if (!this.waiting) return;
    this.points.push({ picture: this.waiting, ground });
    this.waiting = null;
    this.box.querySelector('.typed').hidden = true;
    await this.fit();
    this.say(
      this.points.length < 3
        ? `${3 - this.points.length} more at least; spread them over the picture.`
        : 'More points show how good these are.',
    );
  }

  async fit() {
    this.placed = null;
    const told = this.box.querySelector('.told');
    told.classList.remove('wrong');
    if (this.points.length < 3)
      told.textContent = 'Three points that do not lie on one line place a picture.';
    else {
      const answer = await fetch(`${this.page.base}/backdrops/${this.id}/place`, {
        method: 'POST',
        headers: {
          'X-Bothros-Token': token(),
          'Content-Type': 'application/json',
        },
        body: JSON.stringify({ points: this.points }),
      }).catch(() => null);
      if (!this.box) return;
      if (answer?.ok) {
        this.placed = await answer.json();
        const [, a, b, , d, e] = this.placed.geo_transform;
        const turn = (Math.atan2(d, a) * 180) / Math.PI;
        const worth =
          this.points.length === 3
            ? 'Three points always fit; a fourth shows what they are worth.'
            : `Root mean square of the residuals ${height(this.placed.rms, 1)}.`;
        const pixel = `${height(Math.hypot(a, d))} × ${height(Math.hypot(b, e))}`;
        told.textContent = `${worth} A pixel is ${pixel}; turned by ${turn.toFixed(2)}°.`;
      } else {
        told.textContent = answer ? await answer.text() : 'The server does not answer; try again.';
        told.classList.add('wrong');
      }
    }
    this.box.querySelector('[data-keep]').disabled = !this.placed;
    this.draw();
  }

  draw() {
    const body = this.box.querySelector('tbody');
    const worst = this.placed && this.points.length > 3 ? Math.max(...this.placed.residuals) : null;
    body.replaceChildren(
      ...this.points.map((p, i) => {
        const row = document.createElement('tr');
        const residual = this.placed && this.points.length > 3 ? height(this.placed.residuals[i], 1) : '';
        for (const text of [`${i + 1}`, p.ground[0].toFixed(1), p.ground[1].toFixed(1), residual]) {
          const cell = document.createElement('td');
          cell.textContent = text;
          row.append(cell);
        }
        if (worst && this.placed.residuals[i] === worst && worst > 0) row.classList.add('worst');
        const cell = document.createElement('td');
        const gone = Object.assign(document.createElement('button'), {
          type: 'button',
          className: 'btn btn-sm quiet',
          textContent: 'Remove',
        });
        gone.setAttribute('aria-label', `Remove point ${i + 1}`);
        gone.addEventListener('click', () => {
          this.points.splice(i, 1);
          this.fit();
        });
        cell.append(gone);
        row.append(cell);
        return row;
      }),
    );
    const onScan = this.points.map(
      (p, i) =>
        new ol.Feature({
          geometry: new ol.geom.Point([p.picture[0], -p.picture[1]]),
          label: `${i + 1}`,
        }),
    );
    if (this.waiting)
      onScan.push(
        new ol.Feature({
          geometry: new ol.geom.Point([this.waiting[0], -this.waiting[1]]),
          label: '?',
          waiting: true,
        }),
      );
    this.marks.getSource().clear();
    this.marks.getSource().addFeatures(onScan);
    this.ground.getSource().clear();
    this.ground.getSource().addFeatures(
      this.points.map(
        (p, i) =>
          new ol.Feature({
            geometry: new ol.geom.Point(p.ground),
            label: `${i + 1}`,
          }),
      ),
    );
  }

  async keep() {
    const { id, page } = this;
    const answer = await fetch(`${page.base}/backdrops/${id}/place`, {
      method: 'POST',
      headers: {
        'X-Bothros-Token': token(),
        'Content-Type': 'application/json',
      },
      body: JSON.stringify({ points: this.points, keep: true }),
    }).catch(() => null);
    if (!answer?.ok) {
      notice(answer ? await answer.text() : 'The server does not answer; try again.', true);
      return;
    }
    this.close();
    page.map.shown.add(`backdrop-${id}`);
    page.onShown();
    document.body.dispatchEvent(new Event('study-changed'));
    notice('Placed. Its opacity is under “Drawn”.');
  }

  close() {
    if (!this.box) return;
    if (this.waiting) this.page.leave();
    this.waiting = null;
    this.scan?.setTarget(null);
    this.page.map.map?.removeLayer(this.ground);
    this.box.remove();
    this.box = null;
    document.querySelector('.map-side').classList.remove('half');
    this.page.map.map?.updateSize();
  }
}

function mark(label, waiting = false) {
  const colour = waiting ? '#A3263B' : '#B4532A';
  return new ol.style.Style({
    image: new ol.style.RegularShape({
      points: 4,
      radius: 11,
      radius2: 0,
      stroke: new ol.style.Stroke({ color: colour, width: 2.4 }),
    }),
    text: new ol.style.Text({
      text: label,
      offsetX: 11,
      offsetY: -11,
      font: '650 13px "Source Sans 3"',
      fill: new ol.style.Fill({ color: colour }),
      stroke: new ol.style.Stroke({ color: '#FFFDF8', width: 3.5 }),
    }),
  });
}
