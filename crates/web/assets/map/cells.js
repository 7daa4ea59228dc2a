// Single cells when the map is close: the grid, flow directions as ticks, and values as numbers.
import { Latest } from '../lib/latest.js';
import { METRE, area } from '../lib/units.js';

const ol = window.ol;
const GRID_AT = 9; // pixels per cell from which the grid is drawn
const VALUES_AT = 42; // and from which numbers fit
const TURN = {
  1: 0,
  2: 45,
  4: 90,
  8: 135,
  16: 180,
  32: 225,
  64: 270,
  128: 315,
};

export function closeUp(map) {
  const canvas = document.createElement('canvas');
  canvas.style.position = 'absolute';
  canvas.style.pointerEvents = 'none';
  let window_ = null;
  let wanted = '';
  const last = new Latest();

  /** Flow accumulation as cells, or the contributing area. */
  const told = (cells) =>
    map.cellsOf === 'contributing area' ? area((cells + 1) * map.data.cell_area_m2) : String(cells);

  /** How large a tick is drawn: from two fifths where nothing gathers to full size where most does. */
  const gather = (cells) => {
    const most = Math.log10(Math.max(map.data.largest_cells ?? 10, 10));
    return cells == null ? 1 : 0.4 + 0.6 * Math.min(Math.log10(cells + 1) / most, 1);
  };

  async function fetchWindow(row, col, rows, cols) {
    const key = [row, col, rows, cols].join();
    if (key === wanted) return;
    wanted = key;
    try {
      const told = await last.ask(`${map.base}/cells?row=${row}&col=${col}&rows=${rows}&cols=${cols}`);
      if (!told) return;
      window_ = told;
      map.map.render();
    } catch (error) {
      // It may be asked for again.
      wanted = '';
      map.onProblem?.(error.message);
    }
  }

  function render(frame) {
    const [width, height] = frame.size;
    const ratio = frame.pixelRatio;
    const pixels = map.main.cell_x / frame.viewState.resolution;
    map.target.dataset.closeUp = '';
    if (pixels < GRID_AT) {
      if (canvas.width > 1) canvas.width = canvas.height = 1;
      return canvas;
    }
    canvas.width = width * ratio;
    canvas.height = height * ratio;
    canvas.style.width = `${width}px`;
    canvas.style.height = `${height}px`;
    const { resolution, center } = frame.viewState;
    const { left, top, cell_x: edge, rows, cols } = map.main;
    const pen = canvas.getContext('2d');
    pen.scale(ratio, ratio);
    const west = center[0] - (width / 2) * resolution;
    const north = center[1] + (height / 2) * resolution;
    const col0 = Math.max(Math.floor((west - left) / edge), 0);
    const row0 = Math.max(Math.floor((top - north) / edge), 0);
    const col1 = Math.min(Math.ceil((west + width * resolution - left) / edge), cols);
    const row1 = Math.min(Math.ceil((top - north + height * resolution) / edge), rows);
    if (col1 <= col0 || row1 <= row0) return canvas;
    const x = (col) => (left + col * edge - west) / resolution;
    const y = (row) => (north - (top - row * edge)) / resolution;
    pen.strokeStyle = 'rgb(34 48 46 / .22)';
    pen.lineWidth = 1;
    pen.beginPath();
    for (let c = col0; c <= col1; c++) {
      pen.moveTo(x(c), y(row0));
      pen.lineTo(x(c), y(row1));
    }
    for (let r = row0; r <= row1; r++) {
      pen.moveTo(x(col0), y(r));
      pen.lineTo(x(col1), y(r));
    }
    pen.stroke();
    map.target.dataset.closeUp = 'grid';

    // Windows on whole tens, so that a small move needs nothing new.
    const r0 = Math.floor(row0 / 10) * 10;
    const c0 = Math.floor(col0 / 10) * 10;
    const nr = Math.min(Math.ceil((row1 - r0) / 10) * 10, 190);
    const nc = Math.min(Math.ceil((col1 - c0) / 10) * 10, 210);
    fetchWindow(r0, c0, nr, nc);
    const w = window_;
    if (!w) return canvas;
    const numbers = pixels >= VALUES_AT;
    const gathered = map.cellsOf !== 'elevation' && w.accumulation;
    const values = gathered || w.elevation;
    pen.font = `${Math.min(pixels / 4.2, 14)}px "Source Sans 3"`;
    pen.textAlign = 'center';
    pen.textBaseline = 'middle';
    for (let r = Math.max(row0, w.row); r < Math.min(row1, w.row + w.rows); r++) {
      for (let c = Math.max(col0, w.col); c < Math.min(col1, w.col + w.cols); c++) {
        const at = (r - w.row) * w.cols + (c - w.col);
        const cx = x(c + 0.5);
        const cy = y(r + 0.5);
        const code = w.direction?.[at];
        if (code !== undefined && code !== 255) {
          const shift = numbers ? pixels * 0.22 : 0;
          const size = map.ticksBy === 'accumulation' ? gather(w.accumulation?.[at]) : 1;
          const length = pixels * (numbers ? 0.2 : 0.34) * size;
          pen.strokeStyle = pen.fillStyle = '#0F5C63';
          pen.lineWidth = Math.max(1, (pixels / 22) * size);
          if (code === 0) {
            pen.beginPath();
            pen.arc(cx, cy - shift, length * 0.4, 0, 7);
            pen.fill();
          } else {
            const turn = (TURN[code] * Math.PI) / 180;
            const [dx, dy] = [Math.cos(turn) * length, Math.sin(turn) * length];
            pen.beginPath();
            pen.moveTo(cx - dx, cy - shift - dy);
            pen.lineTo(cx + dx, cy - shift + dy);
            pen.stroke();
            pen.beginPath();
            pen.arc(cx + dx, cy - shift + dy, Math.max(1.3, (pixels / 16) * size), 0, 7);
            pen.fill();
          }
        }
        const value = values?.[at];
        if (numbers && value !== null && value !== undefined) {
          const text = gathered ? told(value) : (value / METRE.size).toFixed(2);
          pen.lineWidth = 3;
          pen.strokeStyle = 'rgb(255 253 248 / .8)';
          pen.fillStyle = '#22302E';
          pen.strokeText(text, cx, cy + pixels * (code === undefined ? 0 : 0.24));
          pen.fillText(text, cx, cy + pixels * (code === undefined ? 0 : 0.24));
          map.target.dataset.closeUp = 'values';
        }
      }
    }
    return canvas;
  }
  return new ol.layer.Layer({
    render,
    source: new ol.source.Source({ state: 'ready' }),
  });
}
