// Where a part snaps while it is moved or sized: to guides, to the edges and middles of other parts, to the page.

/** Nearer than this on the screen, in pixels, a part snaps. */
const NEAR = 6;

/**
 * Lines that parts are lined up with, in mm.
 * @param {any} state
 * @param {number} but  the part that is moved
 * @returns {[number[], number[]]}
 */
export function lines(state, but) {
  const { width, height } = state.page;
  const upright = [0, width / 2, width, ...state.guides[0]];
  const across = [0, height / 2, height, ...state.guides[1]];
  for (const part of state.parts) {
    if (part.id === but || part.hidden) continue;
    upright.push(part.x, part.x + part.width / 2, part.x + part.width);
    across.push(part.y, part.y + part.height / 2, part.y + part.height);
  }
  return [upright, across];
}

/** The nearest of some lines to some places: how far to move, and the line. */
function nearest(all, places, scale) {
  let found = null;
  for (const line of all) {
    for (const place of places) {
      const by = line - place;
      if (Math.abs(by) * scale <= NEAR && (!found || Math.abs(by) < Math.abs(found.by))) found = { by, line };
    }
  }
  return found;
}

/**
 * Snaps a rectangle.
 * @param {{x: number, y: number, width: number, height: number}} at
 * @param {[number[], number[]]} all
 * @param {number} scale  pixels in a mm
 * @param {string} [edges]  edges that move: of n, e, s, w; all where none is said
 */
export function snapped(at, all, scale, edges = '') {
  const now = { ...at };
  const shown = [null, null];
  const axes = [
    ['x', 'width', 'w', 'e'],
    ['y', 'height', 'n', 's'],
  ];
  axes.forEach(([from, size, first, last], axis) => {
    const ends = { [first]: at[from], [last]: at[from] + at[size] };
    const whole = [at[from], at[from] + at[size] / 2, at[from] + at[size]];
    const moved = edges ? [first, last].filter((e) => edges.includes(e)).map((e) => ends[e]) : whole;
    const found = nearest(all[axis], moved, scale);
    if (!found) return;
    shown[axis] = found.line;
    if (!edges) now[from] += found.by;
    else if (edges.includes(first)) {
      now[from] += found.by;
      now[size] -= found.by;
    } else now[size] += found.by;
  });
  return { at: now, shown };
}
