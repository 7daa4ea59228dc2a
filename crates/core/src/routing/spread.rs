//! Divided flow: accumulation where a cell may drain to several neighbours.

use std::ops::Range;

use rayon::prelude::*;

use super::DIRECTION_NODATA;
use super::accumulation::weight;
use crate::monitor::{SharedPace, check};
use crate::{Grid, Monitor, NEIGHBOURS, Part, Result};

/// Marks cells outside the footprint in an accumulation of real numbers.
pub const REAL_ACCUMULATION_NODATA: f64 = -1.0;

/// To which neighbours a cell drains, and with what shares.
pub(super) type Shares = [f64; 8];

/// A rule by which flow divides, without cycles.
pub(super) trait Divide: Sync {
    /// The shares of a cell by neighbour, in the order of [`NEIGHBOURS`]; they add up to 1, or all
    /// are 0 where water leaves or stays.
    fn shares(&self, index: usize) -> Shares;
    /// How many neighbours drain to a cell.
    fn inflows(&self, index: usize) -> u8;
}

/// Rows that one thread works on by itself. It is fixed, so that real numbers are added in the same
/// order however many threads there are, and whoever works on which rows: bands that are divided by themselves hold whole stretches of these.
pub const DIVIDED_ROWS: usize = 512;

/// Flow that has been passed on as far as no stretch of rows needs anything of another.
pub(super) struct Begun {
    /// what came to each cell
    pub sums: Vec<f64>,
    /// from how many cells more will come; 255 where all was passed on
    pub waiting: Vec<u8>,
    /// cells of which some water leaves their stretch, once all that flows into them is known: numbers from the first of these
    /// rows on
    pub leaving: Vec<u32>,
}

/// What a cell adds by itself.
fn own(weights: Option<&Grid<f32>>, index: usize) -> f64 {
    weights.map_or(1.0, |weights| weight(weights, index))
}

fn steps(cols: usize) -> [isize; 8] {
    NEIGHBOURS.map(|n| n.rows * cols as isize + n.cols)
}

/// Begins with some `rows` of a grid, in stretches of `each` rows. `directions` tells the footprint.
pub(super) fn begin(
    (directions, rows, each): (&Grid<u8>, Range<usize>, usize),
    rule: &impl Divide,
    weights: Option<&Grid<f32>>,
    monitor: &dyn Monitor,
) -> Result<Begun> {
    let (cols, from) = (directions.cols(), rows.start * directions.cols());
    let at_once = (each * cols).max(1);
    let steps = steps(cols);
    let mut sums = vec![0f64; rows.len() * cols];
    let mut waiting = vec![0u8; sums.len()];
    let pace = SharedPace::new(monitor, rows.len().div_ceil(each) + 1);
    let leaving: Vec<Vec<u32>> = sums
        .par_chunks_mut(at_once)
        .zip(waiting.par_chunks_mut(at_once))
        .enumerate()
        .map(|(stretch, (sums, waiting))| {
            pace.advance(1)?;
            let first = from + stretch * at_once;
            for (at, waiting) in waiting.iter_mut().enumerate() {
                if at.is_multiple_of(1 << 17) {
                    check(monitor)?;
                }
                if directions.values()[first + at] == DIRECTION_NODATA {
                    sums[at] = REAL_ACCUMULATION_NODATA;
                } else {
                    *waiting = rule.inflows(first + at);
                }
            }
            let (mut leaving, mut stack) = (Vec::new(), Vec::new());
            for start in 0..sums.len() {
                if start.is_multiple_of(1 << 16) {
                    check(monitor)?;
                }
                if waiting[start] != 0 || directions.values()[first + start] == DIRECTION_NODATA {
                    continue;
                }
                stack.push(start);
                while let Some(at) = stack.pop() {
                    // It must not begin again when the scan comes by.
                    waiting[at] = u8::MAX;
                    let carried = sums[at] + own(weights, first + at);
                    let mut leaves = false;
                    for (share, step) in rule.shares(first + at).into_iter().zip(steps) {
                        if share == 0.0 {
                            continue;
                        }
                        let next = at.wrapping_add_signed(step);
                        if next >= sums.len() {
                            leaves = true;
                            continue;
                        }
                        sums[next] += share * carried;
                        waiting[next] -= 1;
                        if waiting[next] == 0 {
                            stack.push(next);
                        }
                    }
                    if leaves {
                        leaving.push((first - from + at) as u32);
                    }
                }
            }
            Ok(leaving)
        })
        .collect::<Result<_>>()?;
    Ok(Begun { sums, waiting, leaving: leaving.into_iter().flatten().collect() })
}

/// Passes on what leaves stretches of `each` rows of the whole grid, until all has come where it goes.
pub(super) fn pass_on(
    (directions, each): (&Grid<u8>, usize),
    rule: &impl Divide,
    weights: Option<&Grid<f32>>,
    begun: Begun,
    monitor: &dyn Monitor,
) -> Result<Grid<f64>> {
    let (rows, cols) = (directions.rows(), directions.cols());
    let at_once = (each * cols).max(1);
    let steps = steps(cols);
    let Begun { mut sums, mut waiting, leaving } = begun;
    let mut stack: Vec<usize> = Vec::new();
    let mut pass = |at: usize, beyond_stretch: bool, stack: &mut Vec<usize>| {
        let carried = sums[at] + own(weights, at);
        for (share, step) in rule.shares(at).into_iter().zip(steps) {
            let next = at.wrapping_add_signed(step);
            if share == 0.0 || (beyond_stretch && next / at_once == at / at_once) {
                continue;
            }
            sums[next] += share * carried;
            waiting[next] -= 1;
            if waiting[next] == 0 {
                waiting[next] = u8::MAX;
                stack.push(next);
            }
        }
    };
    for (number, &crossing) in leaving.iter().enumerate() {
        if number.is_multiple_of(1 << 8) {
            check(monitor)?;
        }
        pass(crossing as usize, true, &mut stack);
        while let Some(at) = stack.pop() {
            pass(at, false, &mut stack);
        }
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, sums))
}

/// Adds up what lies upstream: weights, or 1 for each cell. `directions` tells the footprint.
pub(super) fn accumulate_divided(
    directions: &Grid<u8>,
    rule: &impl Divide,
    weights: Option<&Grid<f32>>,
    monitor: &dyn Monitor,
) -> Result<Grid<f64>> {
    directions.numbered()?;
    if let Some(weights) = weights {
        directions.same_shape(weights)?;
    }
    let all = (directions, 0..directions.rows(), DIVIDED_ROWS);
    let begun = begin(all, rule, weights, &Part::new(monitor, 0.0, 0.8))?;
    pass_on((directions, DIVIDED_ROWS), rule, weights, begun, &Part::new(monitor, 0.8, 1.0))
}
