//! Which cells a line passes and a polygon covers.

use crate::{Cell, Frame};

/// How cells along a line hang together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Connection {
    /// over edges and corners: a path for flow
    Eight,
    /// over edges only: nothing slips through diagonally
    Four,
}

/// The cells that a line passes, in its order, each once in a row; the part of the line beyond the
/// grid is left out.
///
/// `line` is a list of `[x, y]` in CRS units. Every cell that the line enters is listed with
/// [`Connection::Four`]. With [`Connection::Eight`] a cell that is entered only to cut a corner is
/// left out, so that the path is as thin as flow directions allow.
///
/// # Source
/// Amanatides and Woo 1987, A fast voxel traversal algorithm, Eurographics '87.
///
/// ```
/// use bothros_core::{Cell, Connection, Frame, cells_along};
/// let frame = Frame { rows: 3, cols: 3, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let diagonal = [[0.5, 2.5], [2.5, 0.5]];
/// assert_eq!(cells_along(&diagonal, &frame, Connection::Eight).len(), 3);
/// assert_eq!(cells_along(&diagonal, &frame, Connection::Four).len(), 5);
/// ```
pub fn cells_along(line: &[[f64; 2]], frame: &Frame, connection: Connection) -> Vec<Cell> {
    let mut passed: Vec<(i64, i64)> = Vec::new();
    // In cells from the north-west corner: column, then row.
    let at = |p: &[f64; 2]| ((p[0] - frame.left) / frame.cell_size, (frame.top - p[1]) / frame.cell_size);
    for ends in line.windows(2) {
        let Some(((x0, y0), (x1, y1))) = clipped(at(&ends[0]), at(&ends[1]), frame) else { continue };
        walk((x0, y0), (x1, y1), &mut passed);
    }
    if line.len() == 1 {
        let (x, y) = at(&line[0]);
        passed.push((floor(y), floor(x)));
    }
    let inside = |&(row, col): &(i64, i64)| {
        row >= 0 && col >= 0 && (row as usize) < frame.rows && (col as usize) < frame.cols
    };
    let mut cells: Vec<Cell> = Vec::new();
    for place in passed.into_iter().filter(inside) {
        let cell = Cell { row: place.0 as usize, col: place.1 as usize };
        if cells.last() == Some(&cell) {
            continue;
        }
        if connection == Connection::Eight && cells.len() >= 2 {
            let before = cells[cells.len() - 2];
            let corner = before.row.abs_diff(cell.row) == 1 && before.col.abs_diff(cell.col) == 1;
            if corner {
                cells.pop();
            }
        }
        cells.push(cell);
    }
    cells
}

/// The part of a segment that lies within one cell of the grid, so that a line across the world costs no more than the
/// grid.
fn clipped(a: (f64, f64), b: (f64, f64), frame: &Frame) -> Option<((f64, f64), (f64, f64))> {
    let (from, to) = share_within([a.0, a.1], [b.0, b.1], (frame.rows, frame.cols), 1.0)?;
    let on = |t: f64| (a.0 + t * (b.0 - a.0), a.1 + t * (b.1 - a.1));
    Some((if from > 0.0 { on(from) } else { a }, if to < 1.0 { on(to) } else { b }))
}

/// Which share of a segment, from 0 at `a` to 1 at `b`, lies within a grid of rows and columns and `margin` around it.
/// All is in cells from the north-west corner: column, then row. `None` where the segment does not come near, or is no
/// line between numbers.
///
/// # Source
/// Liang and Barsky 1984, A new concept and method for line clipping, ACM Transactions on Graphics 3(1).
pub(crate) fn share_within(
    a: [f64; 2],
    b: [f64; 2],
    (rows, cols): (usize, usize),
    margin: f64,
) -> Option<(f64, f64)> {
    if !a.iter().chain(&b).all(|v| v.is_finite()) {
        return None;
    }
    let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
    let (mut from, mut to) = (0.0f64, 1.0f64);
    let (right, bottom) = (cols as f64 + margin, rows as f64 + margin);
    for (p, q) in [(-dx, a[0] + margin), (dx, right - a[0]), (-dy, a[1] + margin), (dy, bottom - a[1])] {
        if p == 0.0 {
            if q < 0.0 {
                return None;
            }
        } else if p < 0.0 {
            from = from.max(q / p);
        } else {
            to = to.min(q / p);
        }
    }
    (from <= to).then_some((from, to))
}

/// Those of `pieces` equal pieces of a segment that may lie within a grid; arguments as for [`share_within`]. A segment
/// across the world has no more of them than the grid.
pub(crate) fn pieces_within(
    a: [f64; 2],
    b: [f64; 2],
    pieces: f64,
    size: (usize, usize),
) -> std::ops::Range<u64> {
    match share_within(a, b, size, 2.0) {
        Some((from, to)) => {
            (from * pieces).floor().max(0.0) as u64..((to * pieces).ceil().min(pieces)) as u64
        }
        None => 0..0,
    }
}

/// The largest whole number that is not above a value; casts cut off, and are faster than rounding.
#[inline]
fn floor(value: f64) -> i64 {
    let cut = value as i64;
    cut - i64::from((cut as f64) > value)
}

/// Adds the cells from one point to another, as row and column, over edges of cells.
fn walk((x0, y0): (f64, f64), (x1, y1): (f64, f64), passed: &mut Vec<(i64, i64)>) {
    let (mut col, mut row) = (floor(x0), floor(y0));
    let (last_col, last_row) = (floor(x1), floor(y1));
    let (dx, dy) = (x1 - x0, y1 - y0);
    let (step_x, step_y) = (if dx > 0.0 { 1 } else { -1 }, if dy > 0.0 { 1 } else { -1 });
    let until = |at: f64, cell: i64, d: f64| match d {
        0.0 => f64::INFINITY,
        d if d > 0.0 => (cell as f64 + 1.0 - at) / d,
        d => (cell as f64 - at) / d,
    };
    let (mut next_x, mut next_y) = (until(x0, col, dx), until(y0, row, dy));
    let (each_x, each_y) = (1.0 / dx.abs(), 1.0 / dy.abs());
    passed.push((row, col));
    let mut left = (last_col - col).abs() + (last_row - row).abs();
    while left > 0 {
        // The count of steps is exact, so that rounding cannot lead past the end.
        if (next_x <= next_y && col != last_col) || row == last_row {
            col += step_x;
            next_x += each_x;
        } else {
            row += step_y;
            next_y += each_y;
        }
        passed.push((row, col));
        left -= 1;
    }
}

/// The cells whose centres lie in polygons, in row order, each once.
///
/// `polygons` are lists of rings of `[x, y]` in CRS units; whether a ring is a hole is told by the
/// even-odd rule, so that the order and sense of rings do not matter.
///
/// ```
/// use bothros_core::{Frame, cells_within};
/// let frame = Frame { rows: 4, cols: 4, left: 0.0, top: 4.0, cell_size: 1.0, unit_m: 1.0 };
/// let square = vec![vec![[1.0, 1.0], [3.0, 1.0], [3.0, 3.0], [1.0, 3.0], [1.0, 1.0]]];
/// assert_eq!(cells_within(&[square], &frame).len(), 4);
/// ```
pub fn cells_within(polygons: &[Vec<Vec<[f64; 2]>>], frame: &Frame) -> Vec<Cell> {
    let mut all = Vec::new();
    for rings in polygons {
        let ys = || rings.iter().flatten().map(|p| p[1]).filter(|y| y.is_finite());
        let (north, south) = (ys().fold(f64::NEG_INFINITY, f64::max), ys().fold(f64::INFINITY, f64::min));
        if north < south {
            continue;
        }
        let row_at = |y: f64| ((frame.top - y) / frame.cell_size - 0.5).clamp(-1.0, frame.rows as f64);
        let (first, last) = (row_at(north).floor().max(0.0) as usize, row_at(south).ceil());
        let mut crossings = Vec::new();
        for row in first..frame.rows.min((last + 1.0).max(0.0) as usize) {
            let (_, y) = frame.centre(Cell { row, col: 0 });
            crossings.clear();
            for ring in rings {
                for (i, a) in ring.iter().enumerate() {
                    let b = ring[(i + 1) % ring.len()];
                    if (a[1] > y) != (b[1] > y) {
                        crossings.push(a[0] + (y - a[1]) / (b[1] - a[1]) * (b[0] - a[0]));
                    }
                }
            }
            crossings.sort_unstable_by(f64::total_cmp);
            for span in crossings.chunks_exact(2) {
                // Centres at or after the first crossing and before the second.
                let col_at =
                    |x: f64| ((x - frame.left) / frame.cell_size - 0.5).ceil().clamp(0.0, frame.cols as f64);
                for col in col_at(span[0]) as usize..col_at(span[1]) as usize {
                    all.push(Cell { row, col });
                }
            }
        }
    }
    all.sort_unstable();
    all.dedup();
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FRAME: Frame = Frame { rows: 20, cols: 30, left: 100.0, top: 300.0, cell_size: 5.0, unit_m: 1.0 };

    proptest! {
        #[test]
        fn lines_hang_together(points in prop::collection::vec((100.0..250.0f64, 200.0..300.0f64), 2..6)) {
            let line: Vec<[f64; 2]> = points.iter().map(|&(x, y)| [x, y]).collect();
            let four = cells_along(&line, &FRAME, Connection::Four);
            for pair in four.windows(2) {
                prop_assert_eq!(pair[0].row.abs_diff(pair[1].row) + pair[0].col.abs_diff(pair[1].col), 1);
            }
            let eight = cells_along(&line, &FRAME, Connection::Eight);
            for pair in eight.windows(2) {
                prop_assert!(pair[0].row.abs_diff(pair[1].row).max(pair[0].col.abs_diff(pair[1].col)) == 1);
            }
            prop_assert!(eight.iter().all(|c| four.contains(c)));
            prop_assert_eq!(FRAME.cell_at(line[0][0], line[0][1]), four.first().copied());
            let end = line[line.len() - 1];
            prop_assert_eq!(FRAME.cell_at(end[0], end[1]), four.last().copied());
        }

        #[test]
        fn a_line_from_far_away_is_clipped(x in -1e7..1e7f64, y in -1e7..1e7f64) {
            let cells = cells_along(&[[x, y], [175.0, 250.0]], &FRAME, Connection::Four);
            prop_assert_eq!(cells.last().copied(), FRAME.cell_at(175.0, 250.0));
            prop_assert!(cells.len() <= 60);
        }

        #[test]
        fn a_triangle_covers_its_centres(points in prop::collection::vec((80.0..270.0f64, 180.0..320.0f64), 3)) {
            let [a, b, c] = [points[0], points[1], points[2]];
            let ring = vec![[a.0, a.1], [b.0, b.1], [c.0, c.1], [a.0, a.1]];
            let cells = cells_within(&[vec![ring]], &FRAME);
            let side = |p: (f64, f64), q: (f64, f64), x: f64, y: f64| (q.0 - p.0) * (y - p.1) - (q.1 - p.1) * (x - p.0);
            for row in 0..FRAME.rows {
                for col in 0..FRAME.cols {
                    let cell = Cell { row, col };
                    let (x, y) = FRAME.centre(cell);
                    let sides = [side(a, b, x, y), side(b, c, x, y), side(c, a, x, y)];
                    prop_assume!(sides.iter().all(|s| s.abs() > 1e-6));
                    let inside = sides.iter().all(|s| *s > 0.0) || sides.iter().all(|s| *s < 0.0);
                    prop_assert_eq!(inside, cells.contains(&cell));
                }
            }
        }
    }

    #[test]
    fn a_hole_is_left_out() {
        let ring = |r: f64| {
            vec![
                [150.0 - r, 250.0 - r],
                [150.0 + r, 250.0 - r],
                [150.0 + r, 250.0 + r],
                [150.0 - r, 250.0 + r],
            ]
        };
        assert_eq!(cells_within(&[vec![ring(20.0), ring(10.0)]], &FRAME).len(), 64 - 16);
        assert!(cells_within(&[], &FRAME).is_empty());
        assert!(cells_within(&[vec![vec![[f64::NAN, 0.0]]]], &FRAME).is_empty());
    }
}
