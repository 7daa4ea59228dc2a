//! Pour points at lines: dams, bridges, weirs.

use crate::routing::{ACCUMULATION_NODATA, downstream, upstream};
use crate::{Cell, Connection, Frame, Grid, Result, cells_along};

/// Where water crosses a line in the largest amount.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AtLine {
    /// the cell of the line with the largest contributing area
    pub cell: Cell,
    /// cells that drain to it, itself counted
    pub cells: u64,
    /// whether it lies at an end of the line, so that the stream may pass beside it
    pub at_end: bool,
    /// cells that come to the line from beyond it, from the side that it drains to: water that a dam there would not hold
    pub beyond: u64,
}

/// Finds the cell with the largest contributing area along a line of `[x, y]` in CRS units; `None` where the line passes no
/// cell of the footprint. Of equal ones the first along the line counts.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::catchments::at_line;
/// use bothros_core::{Cell, Frame, Grid};
/// // Three rows that drain eastwards, the middle one with the most.
/// let directions = Grid::from_vec(3, 3, vec![1, 2, 4, 1, 1, 0, 1, 128, 64]);
/// let accumulation = Grid::from_vec(3, 3, vec![0, 1, 0, 0, 1, 8, 0, 1, 0]);
/// let frame = Frame { rows: 3, cols: 3, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let found = at_line(&[[2.5, 2.5], [2.5, 0.5]], &directions, &accumulation, &frame)?.unwrap();
/// assert_eq!((found.cell, found.cells, found.beyond), (Cell { row: 1, col: 2 }, 9, 0));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn at_line(
    line: &[[f64; 2]],
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
) -> Result<Option<AtLine>> {
    directions.same_shape(accumulation)?;
    let along = cells_along(line, frame, Connection::Four);
    let area = |cell: Cell| accumulation.values()[accumulation.index(cell)];
    let known: Vec<usize> = (0..along.len()).filter(|&at| area(along[at]) != ACCUMULATION_NODATA).collect();
    let Some(&best) = known.iter().max_by_key(|&&at| (area(along[at]), std::cmp::Reverse(at))) else {
        return Ok(None);
    };
    let cell = along[best];
    // Cells of the line that touch one of its ends.
    let near = |end: Cell| end.row.abs_diff(cell.row) <= 1 && end.col.abs_diff(cell.col) <= 1;
    let at_end = near(along[0]) || near(along[along.len() - 1]);
    Ok(Some(AtLine {
        cell,
        cells: u64::from(area(cell)) + 1,
        at_end,
        beyond: beyond(line, &along, cell, directions, accumulation, frame),
    }))
}

/// Cells that come to the line from the side that its outlet drains to, and reach the outlet along it.
fn beyond(
    line: &[[f64; 2]],
    along: &[Cell],
    outlet: Cell,
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
) -> u64 {
    let on_line: std::collections::HashSet<usize> = along.iter().map(|&c| directions.index(c)).collect();
    let side = |index: usize| side_of(line, frame.centre(directions.cell(index)));
    // Where the water goes once it has left the line.
    let mut at = directions.index(outlet);
    while on_line.contains(&at) {
        match downstream(directions, at) {
            Some(next) => at = next,
            None => return 0,
        }
    }
    let down = side(at);
    let reaches_outlet = |from: usize| {
        let mut at = Some(from);
        while let Some(index) = at.filter(|index| on_line.contains(index)) {
            if index == directions.index(outlet) {
                return true;
            }
            at = downstream(directions, index);
        }
        false
    };
    let mut cells = 0;
    for &index in on_line.iter().filter(|&&index| reaches_outlet(index)) {
        for n in upstream(directions, index).filter(|n| !on_line.contains(n)) {
            if down != 0 && side(n) == down {
                cells += u64::from(accumulation.values()[n]) + 1;
            }
        }
    }
    cells
}

/// On which side of the nearest piece of a line a place lies: 1 to the left, -1 to the right; 0 on it, and beyond its ends.
fn side_of(line: &[[f64; 2]], (x, y): (f64, f64)) -> i8 {
    // Distance, how far off the piece's own direction, side.
    let mut best = (f64::INFINITY, 0.0, 0);
    let last = line.len().saturating_sub(2);
    for (at, w) in line.windows(2).enumerate() {
        let ([x0, y0], [x1, y1]) = (w[0], w[1]);
        let (dx, dy) = (x1 - x0, y1 - y0);
        let length = dx.hypot(dy);
        if length == 0.0 {
            continue;
        }
        let along = ((x - x0) * dx + (y - y0) * dy) / (length * length);
        let t = along.clamp(0.0, 1.0);
        let away = (x - x0 - t * dx).hypot(y - y0 - t * dy);
        let off = (dx * (y - y0) - dy * (x - x0)) / length;
        // At a bend, where two pieces are equally near, the one that the place lies farther to the side of tells.
        let tie = 1e-9 * (1.0 + away);
        if away < best.0 - tie || (away < best.0 + tie && off.abs() > best.1) {
            let beyond = (at == 0 && along < 0.0) || (at == last && along > 1.0);
            let side = if off > 0.0 { 1 } else { -i8::from(off < 0.0) };
            best = (away, off.abs(), if beyond { 0 } else { side });
        }
    }
    best.2
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::routing::{flow_accumulation, flow_directions};

    const FRAME: Frame = Frame { rows: 40, cols: 41, left: 0.0, top: 40.0, cell_size: 1.0, unit_m: 1.0 };

    /// A valley that falls to the south, its floor in column 20.
    fn valley() -> (Grid<u8>, Grid<u32>) {
        let dem = Grid::from_fn(40, 41, |c| 500.0 - c.row as f32 + 3.0 * (c.col as f32 - 20.0).abs());
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        (directions, accumulation)
    }

    fn at(line: &[[f64; 2]]) -> Option<AtLine> {
        let (directions, accumulation) = valley();
        at_line(line, &directions, &accumulation, &FRAME).unwrap()
    }

    #[test]
    fn a_dam_across_the_valley_holds_what_is_above() {
        let found = at(&[[8.2, 19.5], [32.8, 19.5]]).unwrap();
        assert_eq!(found.cell, Cell { row: 20, col: 20 });
        assert!(!found.at_end && found.beyond == 0, "{found:?}");
        let turned = at(&[[32.8, 19.5], [8.2, 19.5]]).unwrap();
        assert_eq!(found, turned, "it does not matter which way it is drawn");
    }

    #[test]
    fn a_line_that_ends_in_the_stream_or_misses_it_says_so() {
        assert!(at(&[[8.2, 19.5], [20.5, 19.5]]).unwrap().at_end);
        let beside = at(&[[3.5, 19.5], [10.5, 19.5]]).unwrap();
        assert!(beside.at_end && beside.cells < 100);
        assert_eq!(at(&[[-30.0, 5.0], [-20.0, 5.0]]), None);
        assert_eq!(at(&[]), None);
    }

    #[test]
    fn a_line_along_the_stream_gathers_water_from_beyond() {
        // It bends down along the floor, so that the eastern slope below the dam drains into it too.
        let found = at(&[[8.2, 29.5], [20.5, 29.5], [20.5, 9.5], [18.5, 9.5]]).unwrap();
        assert!(found.beyond > 0, "{found:?}");
    }
}
