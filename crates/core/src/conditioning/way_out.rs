//! The way out of a sink that is cheapest to cut, wherever it begins.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};

use rustc_hash::{FxHashMap, FxHashSet};

use super::hierarchy::Depression;
use crate::{Cell, Error, Frame, Grid, Monitor, NEIGHBOURS, Result};

/// Sinks of more cells are looked at only so far from their bottom.
const MOST_CELLS: usize = 1 << 15;
/// How high above the bottom a way may begin, as shares of the depth: the first that leads out counts.
const LEVELS: [f32; 4] = [0.05, 0.15, 0.3, 0.5];

/// A cell that waits: by cost, then number.
#[derive(PartialEq)]
struct Waiting(f64, u32);

impl Eq for Waiting {}
impl PartialOrd for Waiting {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Waiting {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.0.total_cmp(&other.0).then(self.1.cmp(&other.1))
    }
}

/// How far a way may go.
#[derive(Debug, Clone, Copy)]
pub(super) struct WayLimits {
    /// its length, metres
    pub reach_m: f64,
    /// its length over ground that stands above the sink's spill level, metres
    pub widest_m: f64,
}

/// How a cell was reached.
#[derive(Debug, Clone, Copy)]
struct Step {
    cost: f64,
    /// length of the way, metres, and how much of it lies above the spill level
    length: f64,
    above: f64,
    before: u32,
}

/// The way from the low ground of a sink to lower ground beyond what holds it, or `None` where there is
/// none within the limits. `pond` holds the sink's cells.
///
/// It begins on the sink's low ground, which is all that lies no higher than a twentieth of its depth
/// above its bottom, or, where that leads nowhere, up to half: a pit in the bottom would else
/// hide what the field drains. Its cost is the sum of step lengths times the height above that level.
/// It ends outside the sink, on ground that is not higher than where it begins.
pub(super) fn way_out(
    dem: &Grid<f32>,
    frame: &Frame,
    sink: &Depression,
    pond: &FxHashSet<u32>,
    limits: WayLimits,
    monitor: &dyn Monitor,
) -> Result<Option<Vec<Cell>>> {
    let bottom = dem.values()[dem.index(sink.bottom)];
    for share in LEVELS {
        if monitor.is_cancelled() {
            return Err(Error::Cancelled);
        }
        let level = bottom + share * sink.depth_m;
        let Some(path) = search(dem, frame, pond, (f32::NEG_INFINITY, level), sink.spill_level_m, limits)
        else {
            continue;
        };
        // What is lower than the way's end cannot drain there: it begins beside that.
        let end = path.last().map_or(level, |&end| dem.values()[dem.index(end)]);
        if let Some(path) = search(dem, frame, pond, (end, level), sink.spill_level_m, limits) {
            return Ok(Some(path));
        }
    }
    Ok(None)
}

/// The cells below a sink's spill level that hang together with its bottom.
pub(super) fn pond_of(dem: &Grid<f32>, sink: &Depression) -> FxHashSet<u32> {
    let first = dem.index(sink.bottom) as u32;
    let mut pond = FxHashSet::from_iter([first]);
    let mut open = VecDeque::from([first]);
    // The nearest first, so that of a large one what lies around its bottom is known.
    while let Some(cell) = open.pop_front() {
        for (_, n) in dem.neighbours(cell as usize) {
            if dem.values()[n] < sink.spill_level_m && pond.len() < MOST_CELLS && pond.insert(n as u32) {
                open.push_back(n as u32);
            }
        }
    }
    pond
}

/// The cheapest way from cells of the pond between `low` and `high` to ground beyond it that is not higher
/// than `low`, or lower than `high` where there is no such bound. It keeps off what lies below `low` in
/// the pond.
fn search(
    dem: &Grid<f32>,
    frame: &Frame,
    pond: &FxHashSet<u32>,
    (low, high): (f32, f32),
    spill: f32,
    limits: WayLimits,
) -> Option<Vec<Cell>> {
    let cell_m = frame.cell_m();
    let z = |i: u32| dem.values()[i as usize];
    let mut known: FxHashMap<u32, Step> = FxHashMap::default();
    let mut done: FxHashSet<u32> = FxHashSet::default();
    let mut heap = BinaryHeap::new();
    for &cell in pond.iter().filter(|&&i| (low..=high).contains(&z(i))) {
        known.insert(cell, Step { cost: 0.0, length: 0.0, above: 0.0, before: cell });
        heap.push(Reverse(Waiting(0.0, cell)));
    }
    let arrived = |cell: u32| match low == f32::NEG_INFINITY {
        true => z(cell) < high,
        false => z(cell) <= low,
    };
    while let Some(Reverse(Waiting(cost, cell))) = heap.pop() {
        if !done.insert(cell) {
            continue;
        }
        if !pond.contains(&cell) && arrived(cell) {
            return Some(path_to(dem, &known, cell));
        }
        let here = known[&cell];
        for (k, n) in dem.neighbours(cell as usize) {
            let (zn, step) = (dem.values()[n], NEIGHBOURS[k].distance * cell_m);
            let kept_off = zn < low && pond.contains(&(n as u32));
            let above = here.above + if zn >= spill { step } else { 0.0 };
            let length = here.length + step;
            if zn.is_nan() || kept_off || length > limits.reach_m || above > limits.widest_m {
                continue;
            }
            let cost = cost + step * (zn - high).max(0.0) as f64;
            let next = Step { cost, length, above, before: cell };
            let better =
                known.get(&(n as u32)).is_none_or(|old| (next.cost, next.length) < (old.cost, old.length));
            if better && !done.contains(&(n as u32)) {
                known.insert(n as u32, next);
                heap.push(Reverse(Waiting(cost, n as u32)));
            }
        }
    }
    None
}

fn path_to(dem: &Grid<f32>, known: &FxHashMap<u32, Step>, end: u32) -> Vec<Cell> {
    let mut path = vec![dem.cell(end as usize)];
    let mut at = end;
    while let Some(step) = known.get(&at).filter(|k| k.before != at) {
        at = step.before;
        path.push(dem.cell(at as usize));
    }
    path.reverse();
    path
}
