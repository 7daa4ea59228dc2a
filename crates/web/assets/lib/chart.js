// Charts under the pointer and the keys: a read-out, places from the pointer, saving the picture and its numbers.

/**
 * @typedef {object} Places
 * @property {number[]} plot  left, right, top and bottom of the plot in the picture
 * @property {number[]} ends  ends of the axis to the right, in the unit that is shown
 * @property {boolean} log  whether that axis is logarithmic
 * @property {number} unit  own units in one of the unit that is shown
 * @property {number[]} at  where each row of the table lies in the picture
 */

/** @returns {Places} */
const placesOf = (figure) => (figure.places ??= JSON.parse(figure.dataset.places));

/** Where the pointer is in the picture, in the picture's units. */
function pictureX(figure, clientX) {
  const svg = figure.querySelector('svg');
  const box = svg.getBoundingClientRect();
  return ((clientX - box.left) / box.width) * svg.viewBox.baseVal.width;
}

/** The value under the pointer on the axis to the right, in its own unit; within the axis's ends. */
export function valueAt(figure, clientX) {
  const { plot, ends, log, unit } = placesOf(figure);
  const share = Math.min(1, Math.max(0, (pictureX(figure, clientX) - plot[0]) / (plot[1] - plot[0])));
  const shown = log ? ends[0] * (ends[1] / ends[0]) ** share : ends[0] + (ends[1] - ends[0]) * share;
  return shown * unit;
}

/** Moves a mark of the chart to a value of the axis to the right, in its own unit. */
export function moveMark(figure, key, own) {
  const line = figure.querySelector(`[data-mark="${key}"]`);
  if (!line) return;
  const { plot, ends, log, unit } = placesOf(figure);
  const value = own / unit;
  const share = log
    ? Math.log(value / ends[0]) / Math.log(ends[1] / ends[0])
    : (value - ends[0]) / (ends[1] - ends[0]);
  const x = String(plot[0] + (plot[1] - plot[0]) * Math.min(1, Math.max(0, share)));
  line.setAttribute('x1', x);
  line.setAttribute('x2', x);
}

/** A row of the table in words: each value with its series and unit. */
function inWords(figure, row) {
  const heads = [...figure.querySelectorAll('thead th')].map((th) => th.textContent);
  const cells = [...figure.querySelectorAll('tbody tr')[row].children].map((td) => td.textContent);
  const told = cells.map((cell, i) => {
    const [, name, unit] = heads[i].match(/^(.*?)(?:, ([^,]*))?$/);
    return cell === '' ? null : [name, `${cell} ${unit ?? ''}`.trim()];
  });
  const [first, ...rest] = told.filter(Boolean);
  return `${first.join(' ')}: ${rest.map((pair) => pair.join(' ')).join(', ')}`;
}

/** Shows the numbers of the row nearest to a place of the picture. */
function tell(figure, row) {
  const { plot, at } = placesOf(figure);
  // Whoever knows where the row lies on the map shows it there.
  figure.dispatchEvent(new CustomEvent('chart-row', { bubbles: true, detail: row }));
  const svg = figure.querySelector('svg');
  let line = svg.querySelector('.cursor');
  if (row === null || !at.length) {
    line?.remove();
    figure.querySelector('.chart-told').textContent = '';
    figure.row = null;
    return;
  }
  if (!line) {
    line = document.createElementNS('http://www.w3.org/2000/svg', 'line');
    line.setAttribute('class', 'cursor');
    svg.append(line);
  }
  for (const [name, value] of [
    ['x1', at[row]],
    ['x2', at[row]],
    ['y1', plot[2]],
    ['y2', plot[3]],
  ])
    line.setAttribute(String(name), String(value));
  figure.querySelector('.chart-told').textContent = inWords(figure, row);
  figure.row = row;
}

function nearest(at, x) {
  let best = 0;
  for (let i = 1; i < at.length; i += 1) if (Math.abs(at[i] - x) < Math.abs(at[best] - x)) best = i;
  return best;
}

const figureOf = (target) => target.closest?.('figure.chart');

function save(name, type, text) {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

/** A cell of CSV (RFC 4180). */
const quoted = (text) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

function csvOf(figure) {
  const rows = [...figure.querySelectorAll('tr')].map((tr) =>
    [...tr.children].map((cell) => quoted(cell.dataset.v ?? cell.textContent)).join(','),
  );
  return `${rows.join('\r\n')}\r\n`;
}

function svgOf(figure) {
  const svg = figure.querySelector('svg').cloneNode(true);
  svg.querySelector('.cursor')?.remove();
  const [, , width, height] = svg.getAttribute('viewBox').split(' ');
  svg.setAttribute('width', width * 2);
  svg.setAttribute('height', height * 2);
  const ground = document.createElementNS('http://www.w3.org/2000/svg', 'rect');
  for (const [key, value] of Object.entries({ width, height, fill: '#FFFDF8' }))
    ground.setAttribute(key, value);
  svg.prepend(ground);
  return new XMLSerializer().serializeToString(svg);
}

/** Hears pointer, keys and clicks of all charts of the page, those that come later too. */
export function hearCharts() {
  document.addEventListener('pointermove', (e) => {
    const figure = figureOf(e.target);
    if (figure && e.target.closest('svg')) {
      tell(figure, nearest(placesOf(figure).at, pictureX(figure, e.clientX)));
    }
  });
  document.addEventListener('pointerout', (e) => {
    const figure = figureOf(e.target);
    if (figure && e.target.closest('svg') && !e.relatedTarget?.closest?.('figure.chart svg'))
      tell(figure, null);
  });
  document.addEventListener('keydown', (e) => {
    const figure = e.target.matches?.('figure.chart svg') ? figureOf(e.target) : null;
    if (!figure || !['ArrowLeft', 'ArrowRight'].includes(e.key)) return;
    e.preventDefault();
    const last = placesOf(figure).at.length - 1;
    const row = figure.row ?? (e.key === 'ArrowRight' ? -1 : last + 1);
    tell(figure, Math.min(last, Math.max(0, row + (e.key === 'ArrowRight' ? 1 : -1))));
  });
  document.addEventListener('click', (e) => {
    const button = e.target.closest?.('[data-save]');
    const figure = button && figureOf(button);
    if (!figure) return;
    const name = `${document.getElementById('study')?.dataset.short ?? 'bothros'}_${figure.dataset.chart}`;
    if (button.dataset.save === 'svg') save(`${name}.svg`, 'image/svg+xml', svgOf(figure));
    else save(`${name}.csv`, 'text/csv', csvOf(figure));
  });
}
