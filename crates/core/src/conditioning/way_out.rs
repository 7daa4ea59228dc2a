//! The way out of a sink that is cheapest to cut, wherever it begins.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};

use super::hierarchy::Depression;
use crate::grid::Pages;
use crate::{Cell, Error, Frame, Grid, Monitor, NEIGHBOURS, Result};

/// Larger sinks are searched only within this distance of their bottom, in cells.
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
    done: bool,
}

/// A cell that was not reached yet.
const UNKNOWN: Step = Step { cost: f64::INFINITY, length: 0.0, above: 0.0, before: u32::MAX, done: false };

/// Searches ways out on one DEM, one after the other.
pub(super) struct WayOut<'a> {
    dem: &'a Grid<f32>,
    frame: &'a Frame,
    limits: WayLimits,
    /// the cells below a sink's spill level that hang together with its bottom
    pond: Vec<u32>,
    is_pond: Pages<bool>,
    open: VecDeque<u32>,
    known: Pages<Step>,
    heap: BinaryHeap<Reverse<Waiting>>,
}

impl<'a> WayOut<'a> {
    pub(super) fn new(dem: &'a Grid<f32>, frame: &'a Frame, limits: WayLimits) -> Self {
        Self {
            dem,
            frame,
            limits,
            pond: Vec::new(),
            is_pond: Pages::new(dem.len(), false),
            open: VecDeque::new(),
            known: Pages::new(dem.len(), UNKNOWN),
            heap: BinaryHeap::new(),
        }
    }

    fn z(&self, cell: u32) -> f32 {
        self.dem.values()[cell as usize]
    }

    /// Goes to a sink, and tells its cells.
    pub(super) fn pond_of(&mut self, sink: &Depression) -> &[u32] {
        let first = self.dem.index(sink.bottom) as u32;
        self.is_pond.clear();
        self.pond.clear();
        self.open.clear();
        *self.is_pond.get_mut(first) = true;
        self.pond.push(first);
        self.open.push_back(first);
        // The nearest first, so that of a large one what lies around its bottom is known.
        while let Some(cell) = self.open.pop_front() {
            for (_, n) in self.dem.neighbours(cell as usize) {
                let full = self.pond.len() >= MOST_CELLS;
                if self.dem.values()[n] < sink.spill_level_m && !full && !self.is_pond.get(n as u32) {
                    *self.is_pond.get_mut(n as u32) = true;
                    self.pond.push(n as u32);
                    self.open.push_back(n as u32);
                }
            }
        }
        &self.pond
    }

    /// The way from the low ground of the sink gone to last, to lower ground beyond what holds it, or `None`
    /// where there is none within the limits.
    ///
    /// It begins on the sink's low ground, which is all that lies no higher than a twentieth of its depth
    /// above its bottom, or, where that leads nowhere, up to half: a pit in the bottom would else
    /// hide what the field drains. Its cost is the sum of step lengths times the height above that level.
    /// It ends outside the sink, on ground that is not higher than where it begins.
    pub(super) fn search(&mut self, sink: &Depression, monitor: &dyn Monitor) -> Result<Option<Vec<Cell>>> {
        let bottom = self.dem.values()[self.dem.index(sink.bottom)];
        let lowest = self.lowest_beyond(bottom + LEVELS[LEVELS.len() - 1] * sink.depth_m);
        for share in LEVELS {
            if monitor.is_cancelled() {
                return Err(Error::Cancelled);
            }
            let level = bottom + share * sink.depth_m;
            if lowest >= level {
                continue;
            }
            let Some(path) = self.cheapest((f32::NEG_INFINITY, level), sink.spill_level_m) else {
                continue;
            };
            // What is lower than the way's end cannot drain there: it begins beside that.
            let end = path.last().map_or(level, |&end| self.dem.values()[self.dem.index(end)]);
            if let Some(path) = self.cheapest((end, level), sink.spill_level_m) {
                return Ok(Some(path));
            }
        }
        Ok(None)
    }

    /// The lowest ground outside the sink that could be reached from cells of it up to a level.
    fn lowest_beyond(&self, level: f32) -> f32 {
        let reach = (self.limits.reach_m / self.frame.cell_m()).floor() as usize;
        let cells = || self.pond.iter().filter(|&&i| self.z(i) <= level).map(|&i| self.dem.cell(i as usize));
        let (mut top, mut bottom, mut left, mut right) = (usize::MAX, 0, usize::MAX, 0);
        for cell in cells() {
            (top, bottom) = (top.min(cell.row), bottom.max(cell.row));
            (left, right) = (left.min(cell.col), right.max(cell.col));
        }
        let mut lowest = f32::INFINITY;
        let cols = left.saturating_sub(reach)..(right + reach + 1).min(self.dem.cols());
        for row in top.saturating_sub(reach)..(bottom + reach + 1).min(self.dem.rows()) {
            let begin = row * self.dem.cols();
            let z = &self.dem.values()[begin + cols.start..begin + cols.end];
            for (at, &z) in z.iter().enumerate() {
                if z < lowest && !self.is_pond.get((begin + cols.start + at) as u32) {
                    lowest = z;
                }
            }
        }
        lowest
    }

    /// The cheapest way from cells of the pond between `low` and `high` to ground beyond it that is not
    /// higher than `low`, or lower than `high` where there is no such bound. It keeps off what lies below
    /// `low` in the pond.
    fn cheapest(&mut self, (low, high): (f32, f32), spill: f32) -> Option<Vec<Cell>> {
        let cell_m = self.frame.cell_m();
        self.known.clear();
        self.heap.clear();
        for &cell in &self.pond {
            if (low..=high).contains(&self.dem.values()[cell as usize]) {
                *self.known.get_mut(cell) = Step { cost: 0.0, before: cell, ..UNKNOWN };
            }
        }
        // Ways begin where they leave those cells.
        for &cell in &self.pond {
            let begins = self.known.get(cell).before == cell;
            let mut beside = self.dem.neighbours(cell as usize).map(|(_, n)| n as u32);
            if begins && beside.any(|n| self.known.get(n).before != n) {
                self.heap.push(Reverse(Waiting(0.0, cell)));
            }
        }
        let arrived = |z: f32| if low == f32::NEG_INFINITY { z < high } else { z <= low };
        while let Some(Reverse(Waiting(cost, cell))) = self.heap.pop() {
            let here = self.known.get_mut(cell);
            if here.done {
                continue;
            }
            here.done = true;
            let here = *here;
            if arrived(self.z(cell)) && !self.is_pond.get(cell) {
                return Some(self.path_to(cell));
            }
            for (k, n) in self.dem.neighbours(cell as usize) {
                let (zn, step) = (self.dem.values()[n], NEIGHBOURS[k].distance * cell_m);
                let kept_off = zn < low && self.is_pond.get(n as u32);
                let above = here.above + if zn >= spill { step } else { 0.0 };
                let length = here.length + step;
                if zn.is_nan() || kept_off || length > self.limits.reach_m || above > self.limits.widest_m {
                    continue;
                }
                let cost = cost + step * (zn - high).max(0.0) as f64;
                let old = self.known.get_mut(n as u32);
                if !old.done && (cost, length) < (old.cost, old.length) {
                    *old = Step { cost, length, above, before: cell, done: false };
                    self.heap.push(Reverse(Waiting(cost, n as u32)));
                }
            }
        }
        None
    }

    fn path_to(&self, end: u32) -> Vec<Cell> {
        let mut path = vec![self.dem.cell(end as usize)];
        let mut at = end;
        while self.known.get(at).before != at {
            at = self.known.get(at).before;
            path.push(self.dem.cell(at as usize));
        }
        path.reverse();
        path
    }
}
