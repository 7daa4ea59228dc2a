//! Breach lines and walls: ground lowered or raised along lines that somebody has drawn.

use serde::{Deserialize, Serialize};

use crate::{Connection, Frame, Grid, cells_along};

/// A line as a list of `[x, y]` in CRS units.
pub type Line = Vec<[f64; 2]>;

/// What became of a breach line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "what")]
pub enum BreachLineOutcome {
    /// the ground was lowered along it
    Lowered {
        /// number of cells lowered
        cells: u64,
        /// deepest cut, metres
        deepest_m: f64,
        /// elevation at the upstream end, metres
        upstream_m: f64,
        /// elevation at the downstream end, metres
        downstream_m: f64,
    },
    /// its downstream end is higher than its upstream end: probably drawn the wrong way round.
    /// Nothing was changed.
    Uphill {
        /// elevation at the end drawn first, metres
        upstream_m: f64,
        /// elevation at the end drawn last, metres
        downstream_m: f64,
    },
    /// one of its ends, or all of it, lies where there is no elevation. Nothing was changed.
    Outside,
}

/// Lowers the ground along each line, from its upstream to its downstream end, whatever stands
/// between. The lines are worked in their order.
///
/// Along a line the ground falls evenly from the elevation of the first cell to that of the last;
/// a cell that is lower already stays, and those after it are no higher than it. Nothing is raised.
/// Nodata between the ends is passed over. A line whose last cell is higher than its first is not
/// reversed silently: it is reported with both elevations, and left.
///
/// `dem` is elevation in metres at `frame`.
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::lower_along};
/// let dem = Grid::from_vec(1, 5, vec![4.0, 9.0, 9.0, 3.5, 2.0]);
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let culvert = vec![[0.5, 0.5], [4.5, 0.5]];
/// let (cut, _) = lower_along(&dem, &frame, &[culvert]);
/// assert_eq!(cut.values(), [4.0, 3.5, 3.0, 2.5, 2.0]);
/// ```
pub fn lower_along(dem: &Grid<f32>, frame: &Frame, lines: &[Line]) -> (Grid<f32>, Vec<BreachLineOutcome>) {
    let mut cut = dem.clone();
    let outcomes = lines.iter().map(|line| lower_one(&mut cut, frame, line)).collect();
    (cut, outcomes)
}

fn lower_one(dem: &mut Grid<f32>, frame: &Frame, line: &Line) -> BreachLineOutcome {
    let cells = cells_along(line, frame, Connection::Eight);
    let within = |p: Option<&[f64; 2]>| p.is_some_and(|p| frame.cell_at(p[0], p[1]).is_some());
    let (Some(&first), Some(&last)) = (cells.first(), cells.last()) else {
        return BreachLineOutcome::Outside;
    };
    let z = |grid: &Grid<f32>, cell| grid.get(cell).copied().unwrap_or(f32::NAN);
    let (high, low) = (z(dem, first), z(dem, last));
    if !within(line.first()) || !within(line.last()) || high.is_nan() || low.is_nan() {
        return BreachLineOutcome::Outside;
    }
    let (upstream_m, downstream_m) = (high as f64, low as f64);
    if low > high {
        return BreachLineOutcome::Uphill { upstream_m, downstream_m };
    }
    let steps: Vec<f64> = cells
        .windows(2)
        .map(|w| if w[0].row != w[1].row && w[0].col != w[1].col { std::f64::consts::SQRT_2 } else { 1.0 })
        .collect();
    let whole: f64 = steps.iter().sum();
    let (mut along, mut before, mut lowered, mut deepest) = (0.0, high, 0, 0f64);
    for (i, &cell) in cells.iter().enumerate() {
        if i > 0 {
            along += steps[i - 1];
        }
        let old = z(dem, cell);
        if old.is_nan() {
            continue;
        }
        let level =
            if whole > 0.0 { upstream_m + (downstream_m - upstream_m) * along / whole } else { upstream_m };
        let new = old.min(level as f32).min(before);
        if new < old {
            lowered += 1;
            deepest = deepest.max(old as f64 - new as f64);
            let at = dem.index(cell);
            dem.values_mut()[at] = new;
        }
        before = new;
    }
    BreachLineOutcome::Lowered { cells: lowered, deepest_m: deepest, upstream_m, downstream_m }
}

/// How far a wall stands above the highest ground, metres. Any height above zero would do.
const WALL_ABOVE_M: f32 = 10.0;

/// Raises the ground along each line above all other ground, so that no flow crosses it: cells along a
/// wall hang together over edges, so that nothing slips through diagonally. Returns the number of
/// cells raised for each line, 0 for one that lies outside.
///
/// Cells without elevation stay so.
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::raise_along};
/// let dem = Grid::filled(3, 3, 1.0);
/// let frame = Frame { rows: 3, cols: 3, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let (walled, raised) = raise_along(&dem, &frame, &[vec![[0.5, 2.5], [2.5, 0.5]]]);
/// assert_eq!(raised, [5]);
/// assert_eq!(walled.values()[4], 11.0);
/// ```
pub fn raise_along(dem: &Grid<f32>, frame: &Frame, lines: &[Line]) -> (Grid<f32>, Vec<u64>) {
    let highest = dem.values().iter().copied().filter(|z| !z.is_nan()).fold(f32::MIN, f32::max);
    // At the end of what float32 can hold there is nothing higher.
    let level = (highest + WALL_ABOVE_M).min(f32::MAX);
    let mut walled = dem.clone();
    let raised = lines
        .iter()
        .map(|line| {
            let mut cells = cells_along(line, frame, Connection::Four);
            cells.sort_unstable();
            cells.dedup();
            let mut raised = 0;
            for cell in cells {
                let at = walled.index(cell);
                if !walled.values()[at].is_nan() {
                    walled.values_mut()[at] = level;
                    raised += 1;
                }
            }
            raised
        })
        .collect();
    (walled, raised)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{downstream, flow_directions};

    const FRAME: Frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };

    #[test]
    fn a_line_the_wrong_way_round_is_reported_and_left() {
        let dem = Grid::from_fn(9, 9, |c| 50.0 - c.col as f32);
        let line = vec![[75.0, 45.0], [15.0, 45.0]];
        let (cut, outcomes) = lower_along(&dem, &FRAME, std::slice::from_ref(&line));
        assert_eq!(cut, dem);
        assert_eq!(outcomes, [BreachLineOutcome::Uphill { upstream_m: 43.0, downstream_m: 49.0 }]);
    }

    #[test]
    fn what_is_lower_already_stays_and_holds_what_follows() {
        let dem = Grid::from_vec(1, 5, vec![4.0, 9.0, 1.0, 9.0, 3.0]);
        let frame = Frame { rows: 1, cols: 5, cell_size: 10.0, top: 10.0, ..FRAME };
        let (cut, outcomes) = lower_along(&dem, &frame, &[vec![[5.0, 5.0], [45.0, 5.0]]]);
        assert_eq!(cut.values(), [4.0, 3.75, 1.0, 1.0, 1.0]);
        assert!(matches!(outcomes[0], BreachLineOutcome::Lowered { cells: 3, .. }));
    }

    #[test]
    fn lines_outside_change_nothing() {
        let mut dem = Grid::filled(9, 9, 5.0);
        dem.values_mut()[0] = f32::NAN;
        for line in [
            vec![[-500.0, 5.0], [-400.0, 5.0]],
            vec![[-50.0, 45.0], [45.0, 45.0]],
            vec![[5.0, 85.0], [45.0, 45.0]],
            vec![],
            vec![[f64::NAN, 3.0], [5.0, 5.0]],
        ] {
            let (cut, outcomes) = lower_along(&dem, &FRAME, std::slice::from_ref(&line));
            assert_eq!(outcomes, [BreachLineOutcome::Outside], "{line:?}");
            assert_eq!(cut.values()[1..], dem.values()[1..]);
        }
        assert_eq!(raise_along(&dem, &FRAME, &[vec![[-500.0, 5.0], [-400.0, 5.0]]]).1, [0]);
    }

    #[test]
    fn no_flow_passes_a_wall() {
        // A plane that falls to the south-east, and a wall across it from rim to rim.
        let dem = Grid::from_fn(9, 9, |c| 100.0 - (c.row + c.col) as f32);
        let (walled, _) = raise_along(&dem, &FRAME, &[vec![[0.0, 12.0], [88.0, 90.0]]]);
        let filled = fill(&walled, &Silent).unwrap();
        let directions = flow_directions(&filled, &Silent).unwrap();
        let is_wall = |i: usize| walled.values()[i] > 100.0;
        let side = |i: usize| (i / 9 + i % 9) as i64 > 7;
        for i in (0..81).filter(|&i| !is_wall(i)) {
            if let Some(next) = downstream(&directions, i) {
                assert!(is_wall(next) || side(next) == side(i), "from {i} to {next}");
            }
        }
    }
}
