// The ground in three dimensions, with what the map draws laid over it.
import { notice, query } from '../lib/common.js';
import { height, length } from '../lib/units.js';

/** Vertices along a side at most. */
const SIDE = 240;
/** Of so many rows and columns one is drawn while it is turned: a processor draws a million triangles a second. */
const COARSE = 5;
/** Pixels for each of the page's, along a side, while it is turned. */
const MOVING = 0.5;
const MARK = 0xb4532a;

/** A picture of what the map draws now, and the extent that it shows. */
function snapshot(map) {
  const size = map.map.getSize();
  const canvas = document.createElement('canvas');
  [canvas.width, canvas.height] = size.map((n) => Math.round(n * devicePixelRatio));
  const pen = canvas.getContext('2d');
  pen.fillStyle = '#ECE5D8';
  pen.fillRect(0, 0, canvas.width, canvas.height);
  for (const layer of map.target.querySelectorAll('.ol-layers canvas')) {
    if (!layer.width) continue;
    const opacity = layer.parentNode.style.opacity || layer.style.opacity;
    pen.globalAlpha = opacity === '' ? 1 : Number(opacity);
    const matrix = layer.style.transform
      .match(/^matrix\(([^(]*)\)$/)?.[1]
      .split(',')
      .map(Number);
    const ratio = canvas.width / size[0];
    if (matrix) pen.setTransform(...matrix.map((n) => n * ratio));
    else pen.setTransform(canvas.width / layer.width, 0, 0, canvas.height / layer.height, 0, 0);
    pen.drawImage(layer, 0, 0);
  }
  return { canvas, extent: map.map.getView().calculateExtent(size) };
}

/** The ground of an extent: its cells, and where they lie. */
async function ground(map, [west, south, east, north]) {
  const answer = await fetch(`${map.base}/surface?${query({ west, south, east, north, size: SIDE })}`);
  if (!answer.ok) throw new Error(await answer.text());
  const told = (name) => Number(answer.headers.get(`x-${name}`));
  const [rows, cols, left, top] = ['rows', 'cols', 'left', 'top'].map(told);
  return {
    rows,
    cols,
    left,
    top,
    cellX: told('cell-x'),
    cellY: told('cell-y'),
    z: new Float32Array(await answer.arrayBuffer()),
  };
}

export class Perspective {
  /** @param {any} map @param {HTMLElement} box */
  constructor(map, box) {
    this.map = map;
    this.box = box;
    this.exaggeration = 2;
    this.light = { azimuth: 315, altitude: 45 };
    this.picked = [];
  }

  /** Shows what the map shows. */
  async open() {
    const begun = performance.now();
    const { map, box } = this;
    box.hidden = false;
    box.dataset.ready = 'no';
    try {
      const [three, controls] = await Promise.all([
        import('/assets/vendor/three.module.min.js'),
        import('/assets/vendor/three-orbit-controls.js'),
      ]);
      this.three = three;
      await new Promise((done) => {
        map.map.once('rendercomplete', done);
        map.map.render();
      });
      const { canvas, extent } = snapshot(map);
      this.ground = await ground(map, extent);
      this.build(controls.OrbitControls, canvas, extent);
      box.dataset.ready = 'yes';
      box.dataset.took = String(Math.round(performance.now() - begun));
      this.canvas.focus();
    } catch (error) {
      this.close();
      notice(`The view in three dimensions cannot be shown: ${error.message}`, true);
    }
  }

  build(OrbitControls, picture, extent) {
    const THREE = this.three;
    this.canvas = this.box.querySelector('canvas');
    const renderer = new THREE.WebGLRenderer({ canvas: this.canvas });
    this.renderer = renderer;
    renderer.setClearColor(0xece5d8);
    const scene = new THREE.Scene();
    this.scene = scene;
    const { geometry, least, most } = this.surface(extent);
    const texture = new THREE.CanvasTexture(picture);
    texture.colorSpace = THREE.SRGBColorSpace;
    texture.generateMipmaps = false;
    texture.minFilter = THREE.LinearFilter;
    const material = new THREE.MeshLambertMaterial({ map: texture, side: THREE.DoubleSide });
    this.mesh = new THREE.Mesh(geometry, material);
    scene.add(this.mesh);
    this.middle = (least + most) / 2;
    scene.add(new THREE.AmbientLight(0xffffff, 1.6));
    this.sun = new THREE.DirectionalLight(0xffffff, 1.9);
    scene.add(this.sun);
    this.marks = new THREE.Group();
    scene.add(this.marks);
    const span = Math.max(extent[2] - extent[0], extent[3] - extent[1]);
    this.span = span;
    this.camera = new THREE.PerspectiveCamera(42, 1, span / 500, span * 6);
    this.controls = new OrbitControls(this.camera, this.canvas);
    this.controls.maxPolarAngle = Math.PI * 0.495;
    this.controls.listenToKeyEvents(this.canvas);
    this.controls.addEventListener('change', () => this.turns());
    this.home();
    this.observer = new ResizeObserver(() => this.fit());
    this.observer.observe(this.canvas.parentElement);
    this.exaggerate(this.exaggeration);
    this.shine(this.light);
    this.resolve(1);
  }

  /** The mesh: x eastwards, y up, z southwards, around the middle of the extent. */
  surface([west, south, east, north]) {
    const THREE = this.three;
    const { rows, cols, left, top, cellX, cellY, z } = this.ground;
    const [cx, cy] = [(west + east) / 2, (south + north) / 2];
    this.centre = [cx, cy];
    const position = new Float32Array(rows * cols * 3);
    const uv = new Float32Array(rows * cols * 2);
    let [least, most] = [Infinity, -Infinity];
    for (const value of z) {
      if (value < least) least = value;
      if (value > most) most = value;
    }
    if (least > most) throw new Error('no cell here has an elevation');
    for (let row = 0, i = 0; row < rows; row++) {
      const y = top - (row + 0.5) * cellY;
      for (let col = 0; col < cols; col++, i++) {
        const x = left + (col + 0.5) * cellX;
        position.set([x - cx, Number.isNaN(z[i]) ? least : z[i], cy - y], 3 * i);
        uv.set([(x - west) / (east - west), (y - south) / (north - south)], 2 * i);
      }
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(position, 3));
    geometry.setAttribute('uv', new THREE.BufferAttribute(uv, 2));
    const solid = (...all) => all.every((i) => !Number.isNaN(z[i]));
    const indexed = (step) => {
      const index = [];
      for (let row = 0; row + 1 < rows; row += step) {
        const below = Math.min(row + step, rows - 1) * cols;
        for (let col = 0; col + 1 < cols; col += step) {
          const right = Math.min(col + step, cols - 1);
          const [a, b, c, d] = [row * cols + col, row * cols + right, below + col, below + right];
          if (solid(a, c, b)) index.push(a, c, b);
          if (solid(b, c, d)) index.push(b, c, d);
        }
      }
      return new THREE.BufferAttribute(new Uint32Array(index), 1);
    };
    this.indexes = { fine: indexed(1), coarse: indexed(COARSE) };
    geometry.setIndex(this.indexes.fine);
    geometry.computeVertexNormals();
    return { geometry, least, most };
  }

  /** Where the view begins: from the south, looking down. */
  home() {
    const away = this.span * 0.95;
    this.camera.position.set(0, away * 0.62, away * 0.82);
    this.controls.target.set(0, 0, 0);
    this.controls.update();
  }

  fit() {
    const { clientWidth, clientHeight } = this.canvas.parentElement;
    if (!clientWidth || !clientHeight) return;
    this.renderer.setSize(clientWidth, clientHeight, false);
    this.camera.aspect = clientWidth / clientHeight;
    this.camera.updateProjectionMatrix();
    this.draw();
  }

  /** While it is turned it is drawn with fewer pixels and triangles: without a graphics card each of them costs. */
  turns() {
    this.resolve(MOVING);
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.resolve(1), 250);
    this.draw();
  }

  resolve(ratio) {
    if (!this.renderer || this.ratio === ratio) return;
    this.ratio = ratio;
    this.mesh.geometry.setIndex(ratio < 1 ? this.indexes.coarse : this.indexes.fine);
    this.renderer.setPixelRatio(ratio);
    this.fit();
  }

  /** Draws in the next frame, once however often it is asked for. */
  draw() {
    if (this.waiting || !this.renderer) return;
    this.waiting = true;
    requestAnimationFrame(() => {
      this.waiting = false;
      if (!this.renderer) return;
      const begun = performance.now();
      this.renderer.render(this.scene, this.camera);
      this.box.dataset.frame = (performance.now() - begun).toFixed(1);
    });
  }

  exaggerate(times) {
    this.exaggeration = times;
    const metres = times / (this.map.data.crs?.unit_m ?? 1);
    for (const object of [this.mesh, this.marks]) {
      object.scale.set(1, metres, 1);
      object.position.y = -this.middle * metres;
    }
    this.box.querySelector('[data-of=exaggeration]').textContent = `${times} ×`;
    this.draw();
  }

  shine({ azimuth, altitude }) {
    this.light = { azimuth, altitude };
    const [a, h] = [(azimuth * Math.PI) / 180, (altitude * Math.PI) / 180];
    this.sun.position.set(Math.sin(a) * Math.cos(h), Math.sin(h), -Math.cos(a) * Math.cos(h));
    this.draw();
  }

  /** A click tells of the place; a second one measures from the first. */
  pick(event) {
    const THREE = this.three;
    const { left, top, width, height: tall } = this.canvas.getBoundingClientRect();
    const at = new THREE.Vector2(
      ((event.clientX - left) / width) * 2 - 1,
      1 - ((event.clientY - top) / tall) * 2,
    );
    const ray = new THREE.Raycaster();
    ray.setFromCamera(at, this.camera);
    const hit = ray.intersectObject(this.mesh)[0];
    if (!hit) return;
    const local = this.mesh.worldToLocal(hit.point.clone());
    if (this.picked.length === 2) this.picked = [];
    this.picked.push([this.centre[0] + local.x, this.centre[1] - local.z, local.y]);
    this.tell();
  }

  tell() {
    const THREE = this.three;
    this.marks.clear();
    const place = ([x, y, z]) => new THREE.Vector3(x - this.centre[0], z, this.centre[1] - y);
    const points = this.picked.map(place);
    const geometry = new THREE.BufferGeometry().setFromPoints(points);
    const seen = { color: MARK, depthTest: false };
    this.marks.add(
      new THREE.Points(geometry, new THREE.PointsMaterial({ ...seen, size: 9, sizeAttenuation: false })),
    );
    if (points.length === 2) this.marks.add(new THREE.Line(geometry, new THREE.LineBasicMaterial(seen)));
    const words = this.picked.map(([x, y, z]) => `E ${x.toFixed(1)}, N ${y.toFixed(1)}, ${height(z)}`);
    if (points.length === 2) {
      const [[x0, y0, z0], [x1, y1, z1]] = this.picked;
      const flat = Math.hypot(x1 - x0, y1 - y0) * (this.map.data.crs?.unit_m ?? 1);
      const slope = flat > 0 ? `, slope ${(((z1 - z0) / flat) * 100).toFixed(1)} %` : '';
      words.push(
        `${length(flat)} apart, ${z1 < z0 ? 'falls' : 'rises'} ${height(Math.abs(z1 - z0))}${slope}`,
      );
    }
    this.box.querySelector('[data-of=picked]').textContent = words.join('; ');
    this.draw();
  }

  /** Saves what is seen as a picture. */
  save() {
    // What was drawn is kept until the next frame only.
    this.renderer.render(this.scene, this.camera);
    this.canvas.toBlob((blob) => {
      const link = document.createElement('a');
      link.href = URL.createObjectURL(blob);
      link.download = 'view.png';
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 1000);
    });
  }

  fullScreen() {
    if (document.fullscreenElement) document.exitFullscreen();
    else this.box.requestFullscreen().catch((error) => notice(error.message, true));
  }

  close() {
    this.box.hidden = true;
    this.box.dataset.ready = 'no';
    this.observer?.disconnect();
    clearTimeout(this.resting);
    this.ratio = undefined;
    this.controls?.dispose();
    this.mesh?.geometry.dispose();
    this.mesh?.material.map.dispose();
    this.mesh?.material.dispose();
    this.renderer?.dispose();
    this.renderer = null;
    this.picked = [];
    const told = this.box.querySelector('[data-of=picked]');
    if (told) told.textContent = 'Click a place for its coordinates, a second one to measure.';
    // A context of its own each time: a canvas has one for good.
    this.canvas?.replaceWith(this.canvas.cloneNode());
    this.canvas = null;
    this.map.target.focus();
  }
}

/** The view in three dimensions on a page, opened by its button or its key. */
export function perspectiveOf(map) {
  const box = document.getElementById('perspective');
  const view = new Perspective(map, box);
  const toggle = () => (box.hidden ? view.open() : view.close());
  const close = () => {
    if (!box.hidden && !document.fullscreenElement) view.close();
  };
  box.addEventListener('click', (e) => {
    const act = e.target instanceof Element && e.target.closest('[data-perspective]');
    if (act instanceof HTMLElement) {
      const acts = {
        close: () => view.close(),
        save: () => view.save(),
        full: () => view.fullScreen(),
        home: () => view.home(),
      };
      acts[act.dataset.perspective]();
    }
  });
  // A drag turns the view, a click picks a place.
  let down = null;
  box.addEventListener('pointerdown', (e) => {
    down = e.target instanceof HTMLCanvasElement ? [e.clientX, e.clientY] : null;
  });
  box.addEventListener('pointerup', (e) => {
    if (down && Math.hypot(e.clientX - down[0], e.clientY - down[1]) < 4) view.pick(e);
    down = null;
  });
  box.addEventListener('input', (e) => {
    const field = e.target;
    if (!(field instanceof HTMLInputElement) || !view.renderer) return;
    const value = Number(field.value);
    if (field.name === 'exaggeration') view.exaggerate(value);
    if (field.name === 'azimuth') view.shine({ ...view.light, azimuth: value });
    if (field.name === 'altitude') view.shine({ ...view.light, altitude: value });
  });
  box.addEventListener('keydown', (e) => {
    if (e.key === 'Escape') close();
    // Keys of the page are not meant here.
    e.stopPropagation();
  });
  return { toggle, close };
}
