//! Breaching: a path is lowered through what holds a sink.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use serde::{Deserialize, Serialize};

use super::breach_band::{bands_for_cores, breach_by_bands};
use crate::monitor::Pace;
use crate::routing::{OUTLET, flow_directions};
use crate::{Cell, Error, Frame, Grid, Monitor, NEIGHBOURS, Part, Result};

/// How far breaching may go.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct BreachLimits {
    /// longest path, metres; `None` for any
    pub length_m: Option<f64>,
    /// deepest cut below the ground, metres; `None` for any
    pub depth_m: Option<f64>,
}

impl BreachLimits {
    /// No limits: every sink is breached.
    pub const NONE: Self = Self { length_m: None, depth_m: None };
}

/// One path that was lowered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Breach {
    /// the sink's bottom
    pub from: Cell,
    /// the lower ground that it was led to
    pub to: Cell,
    /// length of the path, metres
    pub length_m: f64,
    /// deepest cut, metres
    pub depth_m: f64,
    /// volume cut, cubic metres
    pub volume_m3: f64,
}

/// What breaching did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BreachReport {
    /// the paths, in the order of work
    pub breaches: Vec<Breach>,
    /// bottoms of sinks that could not be breached within the limits
    pub left: Vec<Cell>,
}

/// Breaches each sink along the path to lower ground that is cheapest to cut.
///
/// `dem` is elevation in metres, `NaN` for nodata, at `frame`. `outlets` (cell numbers in row
/// order, ascending) are bottoms of closed basins: they are not breached, and are lower ground for
/// others.
///
/// * The bottom of each sink looks for the nearest lower cell, or a cell of the footprint's edge
///   that is not higher, where "near" is the cost: the sum over the path's steps of step length
///   times the height that stands above the bottom. Of equal costs the shorter path wins, then the
///   cell first in row order.
/// * Along the path the ground falls evenly from the bottom to the cell reached, so that it is
///   monotone. A path that needs no cutting (over a flat) is left as it is. Nothing is raised.
/// * Paths longer than the limit, or that would cut deeper, are not taken; such sinks are left, and
///   reported. The cells of the footprint's edge are never cut.
/// * Bottoms are worked from the lowest up, equals in row order, each on the ground that the ones
///   before have left: a path cut for a deep sink serves the shallow ones around it. The order is
///   fixed, so the result does not depend on threads.
///
/// # Errors
/// [`Error::NoData`], [`Error::TooManyCells`], [`Error::Cancelled`].
///
/// # Source
/// Lindsay and Dhun 2015, International Journal of Geographical Information Science 29, 1243-1257.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::{breach, BreachLimits}};
/// // A hollow at 1 m behind a bank at 5 m.
/// let dem = Grid::from_vec(3, 5, vec![
///     9.0, 9.0, 9.0, 9.0, 9.0,
///     9.0, 1.0, 5.0, 0.5, 0.0,
///     9.0, 9.0, 9.0, 9.0, 9.0f32]);
/// let frame = Frame { rows: 3, cols: 5, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let (cut, report) = breach(&dem, &frame, &[], BreachLimits::NONE, &Silent)?;
/// assert_eq!(&cut.values()[5..10], [9.0, 1.0, 0.75, 0.5, 0.0]);
/// assert_eq!((report.breaches[0].depth_m, report.left.len()), (4.25, 0));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn breach(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    limits: BreachLimits,
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, BreachReport)> {
    let mut bottoms = bottoms(dem, &Part::new(monitor, 0.0, 0.2))?;
    bottoms.retain(|i| outlets.binary_search(i).is_err());
    let part = Part::new(monitor, 0.2, 1.0);
    // Where limits say how far a search may look, all cores share them.
    if let Some(cuts) = bands_for_cores(dem.rows(), frame, limits) {
        return breach_by_bands(dem, frame, (&bottoms, outlets), limits, &cuts, &part);
    }
    bottoms.sort_by(|&a, &b| dem.values()[a as usize].total_cmp(&dem.values()[b as usize]).then(a.cmp(&b)));
    let mut search = Search::new(dem.clone(), frame, outlets.to_vec(), limits);
    let mut report = BreachReport { breaches: Vec::new(), left: Vec::new() };
    let mut pace = Pace::new(&part, bottoms.len());
    for bottom in bottoms {
        pace.advance(1)?;
        let treated = search.treat(bottom, monitor)?;
        report.breaches.extend(treated.breach);
        if treated.left {
            report.left.push(dem.cell(bottom as usize));
        }
    }
    monitor.progress(1.0);
    Ok((search.z, report))
}

/// What was done about the bottom of a sink.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Treated {
    /// the path that was lowered
    pub breach: Option<Breach>,
    /// the cells that it lowered, by number, and what they were lowered to, metres
    pub lowered: Vec<(u32, f32)>,
    /// whether the limits forbade it
    pub left: bool,
    /// the rows and columns that the search looked at, ends included
    pub looked_at: CellBounds,
}

/// Rows and columns, ends included.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct CellBounds {
    pub top: usize,
    pub bottom: usize,
    pub left: usize,
    pub right: usize,
}

enum Found {
    /// from the bottom to the cell reached
    Path(Vec<u32>),
    Nothing,
}

/// A cell that waits: by cost, then length, then number.
#[derive(PartialEq)]
struct Waiting {
    cost: f64,
    length: f64,
    cell: u32,
}

impl Eq for Waiting {}
impl PartialOrd for Waiting {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Waiting {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.cost
            .total_cmp(&other.cost)
            .then(self.length.total_cmp(&other.length))
            .then(self.cell.cmp(&other.cell))
    }
}

/// Marks the step to a cell that was taken from the heap.
const DONE: u8 = 0x80;

/// Searches ways out of sinks, and cuts them, one after the other.
pub(super) struct Search {
    /// the ground as cut so far
    pub z: Grid<f32>,
    outlets: Vec<u32>,
    cell_m: f64,
    longest: f64,
    deepest: f64,
    /// number of the search that last came by a cell, from 1
    seen: Vec<u32>,
    /// cost and length so far
    cost: Vec<(f64, f64)>,
    /// the place in [`NEIGHBOURS`] of the step that led to a cell, with [`DONE`] where no cheaper one can
    step: Vec<u8>,
    number: u32,
    heap: BinaryHeap<Reverse<Waiting>>,
}

impl Search {
    pub(super) fn new(z: Grid<f32>, frame: &Frame, outlets: Vec<u32>, limits: BreachLimits) -> Self {
        let cells = z.len();
        Self {
            z,
            outlets,
            cell_m: frame.cell_m(),
            longest: limits.length_m.unwrap_or(f64::INFINITY),
            deepest: limits.depth_m.unwrap_or(f64::INFINITY),
            seen: vec![0; cells],
            cost: vec![(0.0, 0.0); cells],
            step: vec![0; cells],
            number: 0,
            heap: BinaryHeap::new(),
        }
    }

    /// Breaches a sink from its bottom, where the limits allow it.
    pub(super) fn treat(&mut self, bottom: u32, monitor: &dyn Monitor) -> Result<Treated> {
        let (found, looked_at) = self.from(bottom, monitor)?;
        let mut treated = Treated { breach: None, lowered: Vec::new(), left: false, looked_at };
        match found {
            Found::Path(path) => {
                if let Some((breach, lowered)) = self.cut(&path) {
                    (treated.breach, treated.lowered) = (Some(breach), lowered);
                }
            }
            Found::Nothing => treated.left = true,
        }
        Ok(treated)
    }

    fn from(&mut self, bottom: u32, monitor: &dyn Monitor) -> Result<(Found, CellBounds)> {
        self.number += 1;
        self.heap.clear();
        let level = self.z.values()[bottom as usize];
        self.seen[bottom as usize] = self.number;
        self.step[bottom as usize] = 0;
        self.heap.push(Reverse(Waiting { cost: 0.0, length: 0.0, cell: bottom }));
        let mut looked = 0usize;
        let start = self.z.cell(bottom as usize);
        let mut at_most = CellBounds { top: start.row, bottom: start.row, left: start.col, right: start.col };
        while let Some(Reverse(at)) = self.heap.pop() {
            let index = at.cell as usize;
            if self.step[index] & DONE != 0 {
                continue;
            }
            self.step[index] |= DONE;
            looked += 1;
            if looked.is_multiple_of(1 << 14) && monitor.is_cancelled() {
                return Err(Error::Cancelled);
            }
            let z = self.z.values()[index];
            let edge = self.z.is_edge(index);
            let outlet = edge || self.outlets.binary_search(&at.cell).is_ok();
            if z < level || (outlet && z <= level && at.cell != bottom) {
                return Ok((Found::Path(self.path_to(bottom, at.cell)), at_most));
            }
            if edge {
                continue;
            }
            let cell = self.z.cell(index);
            at_most.top = at_most.top.min(cell.row.saturating_sub(1));
            at_most.bottom = at_most.bottom.max(cell.row + 1);
            at_most.left = at_most.left.min(cell.col.saturating_sub(1));
            at_most.right = at_most.right.max(cell.col + 1);
            for (k, n) in self.z.neighbours(index) {
                let zn = self.z.values()[n];
                let seen = self.seen[n] == self.number;
                if zn.is_nan() || (seen && self.step[n] & DONE != 0) {
                    continue;
                }
                let step = NEIGHBOURS[k].distance * self.cell_m;
                let length = at.length + step;
                let above = (zn as f64 - level as f64).max(0.0);
                if length > self.longest || above > self.deepest {
                    continue;
                }
                let cost = at.cost + step * above;
                if !seen || (cost, length) < self.cost[n] {
                    self.seen[n] = self.number;
                    self.cost[n] = (cost, length);
                    self.step[n] = k as u8;
                    self.heap.push(Reverse(Waiting { cost, length, cell: n as u32 }));
                }
            }
        }
        Ok((Found::Nothing, at_most))
    }

    fn path_to(&self, bottom: u32, end: u32) -> Vec<u32> {
        let mut path = vec![end];
        let mut at = end as usize;
        while at != bottom as usize {
            let back = NEIGHBOURS[((self.step[at] & !DONE) as usize + 4) % 8];
            at = at.wrapping_add_signed(back.rows * self.z.cols() as isize + back.cols);
            path.push(at as u32);
        }
        path.reverse();
        path
    }

    /// Lowers the path evenly from its first to its last cell; nothing where it is flat already.
    fn cut(&mut self, path: &[u32]) -> Option<(Breach, Vec<(u32, f32)>)> {
        let z = |i: u32| self.z.values()[i as usize];
        let (first, last) = (path[0], *path.last()?);
        let (high, low) = (z(first) as f64, z(last) as f64);
        if path[..path.len() - 1].iter().all(|&i| z(i) as f64 <= high) {
            return None;
        }
        let steps: Vec<f64> = path
            .windows(2)
            .map(|w| {
                let straight = w[0].abs_diff(w[1]) == 1 || w[0].abs_diff(w[1]) as usize == self.z.cols();
                self.cell_m * if straight { 1.0 } else { std::f64::consts::SQRT_2 }
            })
            .collect();
        let length: f64 = steps.iter().sum();
        let (mut depth, mut cut, mut along, mut before) = (0f64, 0f64, 0f64, high as f32);
        let mut lowered = Vec::new();
        for (i, &cell) in path.iter().enumerate().skip(1).take(path.len() - 2) {
            along += steps[i - 1];
            let level = ((high + (low - high) * along / length) as f32).min(before).max(low as f32);
            let old = self.z.values()[cell as usize];
            let new = old.min(level);
            depth = depth.max(old as f64 - new as f64);
            cut += old as f64 - new as f64;
            if new < old {
                self.z.values_mut()[cell as usize] = new;
                lowered.push((cell, new));
            }
            before = new;
        }
        let breach = Breach {
            from: self.z.cell(first as usize),
            to: self.z.cell(last as usize),
            length_m: length,
            depth_m: depth,
            volume_m3: cut * self.cell_m * self.cell_m,
        };
        Some((breach, lowered))
    }
}

/// The bottoms of all sinks: the cells where water that follows D8 directions of an unfilled `dem`
/// ends inside the footprint, by number in row order.
///
/// # Errors
/// [`Error::NoData`], [`Error::TooManyCells`], [`Error::Cancelled`].
pub fn bottoms(dem: &Grid<f32>, monitor: &dyn Monitor) -> Result<Vec<u32>> {
    let directions = flow_directions(dem, monitor)?;
    Ok((0..dem.len() as u32)
        .filter(|&i| directions.values()[i as usize] == OUTLET && !dem.is_edge(i as usize))
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn frame(dem: &Grid<f32>) -> Frame {
        Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 }
    }

    /// A parabolic bowl whose rim has one notch, not as low as the bottom: the notch is where a
    /// breach is cheapest, and its depth there is the notch's height above the bottom's level.
    #[test]
    fn a_bowl_is_breached_at_its_notch() {
        let dem = Grid::from_fn(21, 21, |c| {
            let (x, y) = (c.col as f32 - 10.0, c.row as f32 - 10.0);
            let r2 = x * x + y * y;
            if c.row == 10 && (17..=18).contains(&c.col) {
                4.0
            } else if r2 <= 64.0 {
                r2 / 8.0
            } else {
                // Outside the rim the land falls away below the bottom.
                8.0 - (r2.sqrt() - 8.0) * 4.0
            }
        });
        let (cut, report) = breach(&dem, &frame(&dem), &[], BreachLimits::NONE, &Silent).unwrap();
        assert_eq!((report.breaches.len(), report.left.len()), (1, 0));
        let path = &report.breaches[0];
        assert_eq!(path.from, Cell { row: 10, col: 10 });
        assert_eq!(path.to.row, 10, "straight through the notch");
        assert_eq!(path.depth_m, 4.5, "the ground just inside the notch, 36/8 m above the bottom");
        assert!(bottoms(&cut, &Silent).unwrap().is_empty());
    }

    #[test]
    fn limits_leave_the_sink_and_say_so() {
        #[rustfmt::skip]
        let dem = Grid::from_vec(3, 7, vec![
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
            9.0, 1.0, 5.0, 5.0, 5.0, 0.5, 0.0,
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0f32,
        ]);
        let of = |length_m, depth_m| {
            breach(&dem, &frame(&dem), &[], BreachLimits { length_m, depth_m }, &Silent).unwrap()
        };
        for (length, depth, done) in [
            (None, None, true),
            (Some(8.0), Some(4.0), true),
            (Some(7.9), None, false),
            (None, Some(3.9), false),
        ] {
            let (cut, report) = of(length, depth);
            assert_eq!(report.breaches.len(), usize::from(done), "{length:?} {depth:?}");
            assert_eq!(report.left, if done { vec![] } else { vec![Cell { row: 1, col: 1 }] });
            assert_eq!(cut == dem, !done);
        }
    }

    #[test]
    fn a_closed_basin_is_left_and_receives() {
        let dem = Grid::from_vec(
            3,
            7,
            vec![
                9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 3.0, 5.0, 1.0, 8.0, 8.0, 0.0, 9.0, 9.0, 9.0, 9.0,
                9.0, 9.0, 9.0f32,
            ],
        );
        let (cut, report) = breach(&dem, &frame(&dem), &[10], BreachLimits::NONE, &Silent).unwrap();
        assert_eq!(report.breaches.len(), 1);
        assert_eq!(report.breaches[0].to, Cell { row: 1, col: 3 });
        assert_eq!(&cut.values()[7..14], [9.0, 3.0, 2.0, 1.0, 8.0, 8.0, 0.0]);
    }

    proptest! {
        #[test]
        fn without_limits_only_sinks_below_the_edge_are_left(dem in any_terrain(14)) {
            let (cut, report) = breach(&dem, &frame(&dem), &[], BreachLimits::NONE, &Silent).unwrap();
            for (before, after) in dem.values().iter().zip(cut.values()) {
                prop_assert!(after <= before || (after.is_nan() && before.is_nan()), "breaching never raises");
            }
            let lowest_edge = (0..dem.len()).filter(|&i| !dem.values()[i].is_nan() && dem.is_edge(i))
                .map(|i| dem.values()[i]).fold(f32::INFINITY, f32::min);
            let left: Vec<u32> = bottoms(&cut, &Silent).unwrap();
            for i in &left {
                prop_assert!(cut.values()[*i as usize] < lowest_edge || report.left.contains(&dem.cell(*i as usize)));
            }
            for breach in &report.breaches {
                prop_assert!(breach.depth_m >= 0.0 && breach.length_m > 0.0);
            }
        }
    }
}
