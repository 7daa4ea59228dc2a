//! Snapping: moving a pour point to the stream.

use serde::{Deserialize, Serialize};

use crate::routing::ACCUMULATION_NODATA;
use crate::{Cell, Error, Frame, Grid, Result, Threshold};

/// Where a pour point is moved to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SnapTo {
    /// the cell with the largest contributing area
    Largest,
    /// the nearest stream cell
    NearestStream,
}

/// The cell that a pour point at `(x, y)` (CRS units) snaps to, within `distance_m` metres
/// between the point and the cell's centre. A distance of 0 leaves it in the cell it falls in.
///
/// Equals are decided by the nearer, then by row order.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the point has no elevation under it;
/// [`Error::NoStreamNear`] for [`SnapTo::NearestStream`] only.
pub fn snap(
    accumulation: &Grid<u32>,
    frame: &Frame,
    threshold: Threshold,
    at: (f64, f64),
    distance_m: f64,
    to: SnapTo,
) -> Result<Cell> {
    let is_stream = |cell: Cell| threshold.is_stream(accumulation.values()[accumulation.index(cell)]);
    snap_to_cells(accumulation, frame, &is_stream, at, distance_m, to)
}

/// As [`snap`], to the stream cells that `is_stream` tells.
///
/// # Errors
/// Those of [`snap`].
pub fn snap_to_cells(
    accumulation: &Grid<u32>,
    frame: &Frame,
    is_stream: &dyn Fn(Cell) -> bool,
    (x, y): (f64, f64),
    distance_m: f64,
    to: SnapTo,
) -> Result<Cell> {
    let far = Cell { row: usize::MAX, col: usize::MAX };
    let own = frame.cell_at(x, y).ok_or(Error::OutsideFootprint(far))?;
    match accumulation.get(own) {
        Some(&value) if value != ACCUMULATION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(own)),
    }
    if distance_m <= 0.0 {
        return Ok(own);
    }
    // As far as the grid goes at most.
    let widest = frame.rows.max(frame.cols) as f64;
    let reach = (distance_m / frame.cell_m()).ceil().min(widest) as usize + 1;
    let mut best: Option<(Cell, u32, f64)> = None;
    for row in own.row.saturating_sub(reach)..=(own.row + reach).min(frame.rows - 1) {
        for col in own.col.saturating_sub(reach)..=(own.col + reach).min(frame.cols - 1) {
            let cell = Cell { row, col };
            let area = accumulation.values()[accumulation.index(cell)];
            let (cx, cy) = frame.centre(cell);
            let away = (cx - x).hypot(cy - y) * frame.unit_m;
            if area == ACCUMULATION_NODATA || (away > distance_m && cell != own) {
                continue;
            }
            if to == SnapTo::NearestStream && !is_stream(cell) {
                continue;
            }
            let better = best.is_none_or(|(_, best_area, best_away)| match to {
                SnapTo::Largest => (area, -away) > (best_area, -best_away),
                SnapTo::NearestStream => away < best_away,
            });
            if better {
                best = Some((cell, area, away));
            }
        }
    }
    best.map(|(cell, ..)| cell).ok_or(Error::NoStreamNear { distance_m })
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: Frame = Frame { rows: 3, cols: 5, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };

    fn accumulation() -> Grid<u32> {
        Grid::from_vec(3, 5, vec![0, 0, 1, 0, 90, 0, 0, 20, 0, 0, 0, 0, 30, 0, ACCUMULATION_NODATA])
    }

    fn at(x: f64, y: f64, distance_m: f64, to: SnapTo) -> Result<Cell> {
        snap(&accumulation(), &FRAME, Threshold::cells(10), (x, y), distance_m, to)
    }

    #[test]
    fn nearest_and_largest_differ() {
        assert_eq!(at(15.0, 16.0, 15.0, SnapTo::NearestStream), Ok(Cell { row: 1, col: 2 }));
        assert_eq!(at(15.0, 16.0, 15.0, SnapTo::Largest), Ok(Cell { row: 2, col: 2 }));
        assert_eq!(at(15.0, 16.0, 40.0, SnapTo::Largest), Ok(Cell { row: 0, col: 4 }));
        assert_eq!(at(15.0, 16.0, 0.0, SnapTo::Largest), Ok(Cell { row: 1, col: 1 }));
    }

    #[test]
    fn outside_and_far_from_streams() {
        assert!(matches!(at(-1.0, 5.0, 50.0, SnapTo::Largest), Err(Error::OutsideFootprint(_))));
        assert!(matches!(at(45.0, 5.0, 50.0, SnapTo::Largest), Err(Error::OutsideFootprint(_))));
        assert_eq!(at(5.0, 25.0, 10.0, SnapTo::NearestStream), Err(Error::NoStreamNear { distance_m: 10.0 }));
    }
}
