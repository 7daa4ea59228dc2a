// Contributing area as pixels of one canvas, so that threshold and stretch change at once.
//
// When the view moves, each pixel looks up its cell once. When only the threshold moves, a pass over
// the pixels compares and paints: a few milliseconds, on any graphics card or none.
import { notice } from '../../lib/common.js';

const ol = window.ol;
const TILE = 256;
const STEPS = 255;

/** Colours along a ramp as 32-bit pixels. */
function table(colours) {
  const channels = colours.map((c) => [1, 3, 5].map((i) => parseInt(c.slice(i, i + 2), 16)));
  return Uint32Array.from({ length: STEPS + 1 }, (_, i) => {
    const at = (i / STEPS) * (colours.length - 1);
    const low = Math.min(Math.floor(at), colours.length - 2);
    const [r, g, b] = [0, 1, 2].map((k) =>
      Math.round(channels[low][k] + (channels[low + 1][k] - channels[low][k]) * (at - low)),
    );
    return ((0xff << 24) | (b << 16) | (g << 8) | r) >>> 0;
  });
}

export class Flow {
  constructor(map, raster, colours) {
    this.map = map;
    this.raster = raster;
    this.streamColours = table(colours.streams);
    this.areaColours = table(colours.area);
    this.tiles = new Map();
    this.canvas = document.createElement('canvas');
    this.canvas.style.cssText = 'position:absolute;pointer-events:none;image-rendering:pixelated';
    this.pen = this.canvas.getContext('2d');
    this.drawn = { threshold: 1, streams: true, area: false, low: 0, high: 1 };
    this.view = '';
    this.layer = new ol.layer.Layer({
      render: (frame) => this.render(frame),
      source: new ol.source.Source({ state: 'ready' }),
    });
  }

  /** Draws contributing area in other colours. */
  recolour(colours) {
    this.areaColours = table(colours);
    this.layer.changed();
  }

  /** What is drawn: threshold in cells, streams and area on or off, stretch as decimal logarithms. */
  set(changes) {
    Object.assign(this.drawn, changes);
    this.layer.changed();
  }

  /** A tile of contributing area, or of what else tells streams. */
  tile(what, level, col, row) {
    const place = `${level}/${col}/${row}`;
    const key = what === 'area' ? place : `${what} ${this.map.data.begun} ${place}`;
    const known = this.tiles.get(key);
    if (known !== undefined) return known;
    this.tiles.set(key, null);
    // Far more than a screen holds; the oldest go first.
    if (this.tiles.size > 400) this.tiles.delete(this.tiles.keys().next().value);
    fetch(`${this.map.base}/tiles/${what}/${this.raster.id}/${place}`)
      .then(async (answer) => {
        if (!answer.ok) throw new Error(await answer.text());
        this.tiles.set(key, new Float32Array(await answer.arrayBuffer()));
        this.view = '';
        this.layer.changed();
      })
      .catch((error) => {
        this.tiles.delete(key);
        notice(error.message, true);
      });
    return null;
  }

  render(frame) {
    const [width, height] = frame.size;
    const { resolution, center } = frame.viewState;
    const view = [width, height, resolution, center, this.map.data.begun].join();
    if (view !== this.view) {
      this.view = view;
      this.look(width, height, resolution, center);
    }
    this.paint();
    return this.canvas;
  }

  /** Looks up the contributing area of each pixel. */
  look(width, height, resolution, [x, y]) {
    const { left, top, cell_x: cell, levels } = this.raster;
    if (this.canvas.width !== width || this.canvas.height !== height) {
      this.canvas.width = width;
      this.canvas.height = height;
      this.image = this.pen.createImageData(width, height);
      this.pixels = new Uint32Array(this.image.data.buffer);
      this.area = new Float32Array(width * height);
      this.begun = new Float32Array(width * height);
      this.step = new Uint8Array(width * height);
    }
    // A level whose cells are no smaller than pixels: no stream falls between two of them.
    const level = Math.min(Math.max(Math.ceil(Math.log2(resolution / cell) - 1e-6), 0), levels - 1);
    const size = cell * 2 ** level;
    const shrink = 2 ** level;
    const rows = Math.ceil(this.raster.rows / shrink);
    const cols = Math.ceil(this.raster.cols / shrink);
    const colAt = Int32Array.from({ length: width }, (_, i) =>
      Math.floor((x + (i + 0.5 - width / 2) * resolution - left) / size),
    );
    const scale = STEPS / Math.log10(Math.max(this.map.data.largest_cells, 10));
    this.area.fill(0);
    // Where more than contributing area tells streams, that is looked up beside it.
    const apart = this.map.data.begun !== null && this.map.data.begun !== undefined;
    this.told = apart ? this.begun.fill(0) : this.area;
    for (let py = 0; py < height; py++) {
      const row = Math.floor((top - (y + (height / 2 - py - 0.5) * resolution)) / size);
      if (row < 0 || row >= rows) continue;
      const tileRow = Math.floor(row / TILE);
      const inRow = (row - tileRow * TILE) * TILE;
      let tileCol = -1;
      let data = null;
      let begun = null;
      for (let px = 0; px < width; px++) {
        const col = colAt[px];
        if (col < 0 || col >= cols) continue;
        const wanted = col >> 8;
        if (wanted !== tileCol) {
          tileCol = wanted;
          data = this.tile('area', level, tileCol, tileRow);
          begun = apart ? this.tile('begun', level, tileCol, tileRow) : null;
        }
        if (data === null) continue;
        const area = data[inRow + (col & 255)];
        const at = py * width + px;
        this.area[at] = area;
        this.step[at] = area > 0 ? Math.log10(area) * scale : 0;
        if (begun) this.begun[at] = begun[inRow + (col & 255)];
      }
    }
  }

  paint() {
    const { pixels, area, told, step } = this;
    if (!pixels) return;
    const { threshold, streams, low, high } = this.drawn;
    const limit = streams ? threshold : Infinity;
    const top = Math.log10(Math.max(this.map.data.largest_cells, 10));
    // Streams take their tone from the four largest powers of ten.
    const deep = Uint32Array.from({ length: STEPS + 1 }, (_, i) => {
      const share = ((i / STEPS) * top - Math.max(top - 4, 0)) / Math.min(4, top);
      return this.streamColours[Math.round(Math.min(Math.max(share, 0), 1) * STEPS)];
    });
    const ground = Uint32Array.from({ length: STEPS + 1 }, (_, i) => {
      const share = ((i / STEPS) * top - low) / Math.max(high - low, 0.05);
      return this.drawn.area ? this.areaColours[Math.round(Math.min(Math.max(share, 0), 1) * STEPS)] : 0;
    });
    for (let i = 0; i < area.length; i++) {
      const a = area[i];
      pixels[i] = told[i] >= limit ? deep[step[i]] : a > 0 ? ground[step[i]] : 0;
    }
    this.pen.putImageData(this.image, 0, 0);
    this.map.frames++;
  }
}
