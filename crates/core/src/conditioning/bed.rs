//! Whether burned stream beds lie below their banks.

use super::lines::Line;
use crate::{Cell, Connection, Frame, Grid, cells_along};

/// Distance to either side within which banks are sought, in cells.
const REACH: isize = 3;

/// Counts the cells of stream beds that lie below both banks on a surface (elevation, metres, at `frame`),
/// and all that were looked at. `lines` are the streams, in CRS units.
///
/// The bank on either side is the first cell across the stream's direction that is not a cell of any
/// stream, at most three cells away. Cells at the ends of a line, and those with no such cell on one side,
/// are not looked at. The rule is ours.
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::bed_below_banks};
/// let frame = Frame { rows: 5, cols: 9, left: 0.0, top: 5.0, cell_size: 1.0, unit_m: 1.0 };
/// // A trench along the middle row, but for one cell.
/// let dem = Grid::from_fn(5, 9, |c| if c.row == 2 && c.col != 4 { 3.0 } else { 5.0 });
/// let stream = vec![[0.5, 2.5], [8.5, 2.5]];
/// assert_eq!(bed_below_banks(&dem, &frame, &[stream]), (6, 7));
/// ```
pub fn bed_below_banks(surface: &Grid<f32>, frame: &Frame, lines: &[Line]) -> (u64, u64) {
    let paths: Vec<Vec<Cell>> =
        lines.iter().map(|line| cells_along(line, frame, Connection::Eight)).collect();
    let mut stream = vec![false; surface.len()];
    for &cell in paths.iter().flatten() {
        stream[surface.index(cell)] = true;
    }
    let mut looked_at = vec![false; surface.len()];
    let (mut below, mut all) = (0, 0);
    for path in &paths {
        for three in path.windows(3) {
            let [before, cell, after] = [three[0], three[1], three[2]];
            let index = surface.index(cell);
            let bed = surface.values()[index];
            if bed.is_nan() || std::mem::replace(&mut looked_at[index], true) {
                continue;
            }
            let (down, right) =
                (after.row as isize - before.row as isize, after.col as isize - before.col as isize);
            // A quarter turn from the direction of the stream.
            let (across_rows, across_cols) = (-right.signum(), down.signum());
            let bank = |side: isize| {
                (1..=REACH).find_map(|far| {
                    let row = cell.row.checked_add_signed(across_rows * far * side)?;
                    let col = cell.col.checked_add_signed(across_cols * far * side)?;
                    let z = *surface.get(Cell { row, col })?;
                    (!stream[surface.index(Cell { row, col })] && !z.is_nan()).then_some(z)
                })
            };
            if let (Some(left), Some(right)) = (bank(1), bank(-1)) {
                all += 1;
                below += u64::from(bed < left && bed < right);
            }
        }
    }
    (below, all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{Burn, burn, stream_cells};

    #[test]
    fn a_trench_on_a_slope_lies_below_its_banks_where_it_is_deep_enough() {
        // The stream runs along a slope of 1 m a cell: the lower bank is 1 m below the stream's ground.
        let dem = Grid::from_fn(11, 40, |c| 20.0 - c.row as f32);
        let frame = Frame { rows: 11, cols: 40, left: 0.0, top: 11.0, cell_size: 1.0, unit_m: 1.0 };
        let stream: Line = vec![[0.5, 5.5], [39.5, 5.5]];
        let cells = stream_cells(&dem, &frame, std::slice::from_ref(&stream));
        for (depth_m, share) in [(0.5, 0.0), (1.5, 1.0)] {
            let burned = burn(&dem, &frame, &cells, Burn::Trench { depth_m }, &Silent).unwrap();
            let (below, all) = bed_below_banks(&burned, &frame, std::slice::from_ref(&stream));
            assert_eq!(all, 38);
            assert_eq!(below as f64 / all as f64, share, "{depth_m}");
        }
    }

    #[test]
    fn diagonal_streams_and_streams_side_by_side_have_banks() {
        let frame = Frame { rows: 30, cols: 30, left: 0.0, top: 30.0, cell_size: 1.0, unit_m: 1.0 };
        let on = |c: Cell| c.row == c.col || c.row == c.col + 1;
        let dem = Grid::from_fn(30, 30, |c| if on(c) { 1.0 } else { 2.0 });
        let a: Line = (0..30).map(|i| [i as f64 + 0.5, 29.5 - i as f64]).collect();
        let b: Line = (1..30).map(|i| [i as f64 - 0.5, 29.5 - i as f64]).collect();
        let (below, all) = bed_below_banks(&dem, &frame, &[a, b]);
        assert!(all > 50 && below == all, "{below} of {all}");
    }
}
