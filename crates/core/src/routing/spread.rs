//! Divided flow: accumulation where a cell may drain to several neighbours.

use rayon::prelude::*;

use super::DIRECTION_NODATA;
use super::accumulation::weight;
use crate::monitor::{SharedPace, check};
use crate::{Grid, Monitor, NEIGHBOURS, Result};

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
/// order however many threads there are.
const BAND: usize = 512;

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
    let own = |index: usize| weights.map_or(1.0, |weights| weight(weights, index));
    let (rows, cols) = (directions.rows(), directions.cols());
    let at_once = (BAND * cols).max(1);
    let steps = NEIGHBOURS.map(|n| n.rows * cols as isize + n.cols);
    let mut sums = vec![0f64; directions.len()];
    let mut waiting = vec![0u8; directions.len()];
    let pace = SharedPace::new(monitor, rows.div_ceil(BAND) * 5 / 4 + 1);
    // Cells of which some water leaves their band, once all that flows into them is known.
    let leaving: Vec<Vec<u32>> = sums
        .par_chunks_mut(at_once)
        .zip(waiting.par_chunks_mut(at_once))
        .enumerate()
        .map(|(band, (sums, waiting))| {
            pace.advance(1)?;
            let first = band * at_once;
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
                    let carried = sums[at] + own(first + at);
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
                        leaving.push((first + at) as u32);
                    }
                }
            }
            Ok(leaving)
        })
        .collect::<Result<_>>()?;

    let mut stack: Vec<usize> = Vec::new();
    let mut pass_on = |at: usize, beyond_band: bool, stack: &mut Vec<usize>| {
        let carried = sums[at] + own(at);
        for (share, step) in rule.shares(at).into_iter().zip(steps) {
            let next = at.wrapping_add_signed(step);
            if share == 0.0 || (beyond_band && next / at_once == at / at_once) {
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
    for (number, &crossing) in leaving.iter().flatten().enumerate() {
        if number.is_multiple_of(1 << 8) {
            check(monitor)?;
        }
        pass_on(crossing as usize, true, &mut stack);
        while let Some(at) = stack.pop() {
            pass_on(at, false, &mut stack);
        }
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, sums))
}
