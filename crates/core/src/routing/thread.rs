//! One thread for each stream: where flow is divided, neighbouring cells reach a threshold side by side.

use rayon::prelude::*;

use super::method::{carried_down, carry_down};
use super::{ACCUMULATION_NODATA, DIRECTION_NODATA, downstream};
use crate::{Grid, Monitor, NEIGHBOURS, Part, Result};

/// How far to either side a stream is looked for, cells.
const BESIDE: isize = 2;
/// Steps of a cell's own way that are not beside it.
const AHEAD: usize = 4;

/// As [`single_threaded`], from what a method that divides flow gathers, before it is carried down.
///
/// # Errors
/// Those of [`single_threaded`].
pub fn threads_of(directions: &Grid<u8>, divided: &Grid<f64>, monitor: &dyn Monitor) -> Result<Grid<u32>> {
    directions.same_shape(divided)?;
    let carried = carried_down(directions, divided, &Part::new(monitor, 0.0, 0.3))?;
    single_threaded(directions, &carried, &Part::new(monitor, 0.3, 1.0))
}

/// An accumulation whose streams have one thread: a stream begins only where no cell beside it, across its flow within two cells, has gathered more; from there on it is
/// carried down along D8. Where flow is not divided nothing needs this.
///
/// `accumulation` is that of a method that divides flow, carried down along D8, as [`accumulate_by`](super::accumulate_by) gives it; `directions` holds the D8 codes of the
/// same surface. The result is nowhere larger, and never falls along D8.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Ours. Divided flow has no line of its own (Freeman 1991; Tarboton 1997): its crest across the flow stands for it.
pub fn single_threaded(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    monitor: &dyn Monitor,
) -> Result<Grid<u32>> {
    directions.same_shape(accumulation)?;
    let (rows, cols) = (directions.rows() as isize, directions.cols() as isize);
    let codes = directions.values();
    let areas = accumulation.values();
    let leads = |at: usize| -> bool {
        let code = codes[at];
        // Water that stays or leaves here has no sides.
        let Some(way) = NEIGHBOURS.iter().find(|n| n.code == code) else { return true };
        let along = (way.rows as f64, way.cols as f64);
        let length = along.0.hypot(along.1);
        let mut own = [usize::MAX; AHEAD];
        let mut next = at;
        for step in &mut own {
            let Some(below) = downstream(directions, next) else { break };
            (*step, next) = (below, below);
        }
        let (row, col) = (at as isize / cols, at as isize % cols);
        for r in -BESIDE..=BESIDE {
            for c in -BESIDE..=BESIDE {
                let (y, x) = (row + r, col + c);
                if (r == 0 && c == 0) || y < 0 || x < 0 || y >= rows || x >= cols {
                    continue;
                }
                let ahead = (r as f64 * along.0 + c as f64 * along.1) / length;
                if !(-1.01..=0.75).contains(&ahead) {
                    continue;
                }
                let beside = (y * cols + x) as usize;
                let theirs = areas[beside];
                if theirs == ACCUMULATION_NODATA || own.contains(&beside) {
                    continue;
                }
                // Of equals the first in row order.
                if theirs > areas[at] || (theirs == areas[at] && beside < at) {
                    return false;
                }
            }
        }
        true
    };
    let begun: Vec<u32> = (0..areas.len())
        .into_par_iter()
        .map(|at| match codes[at] {
            DIRECTION_NODATA => ACCUMULATION_NODATA,
            _ if leads(at) => areas[at],
            _ => 0,
        })
        .collect();
    carry_down(directions, begun, &Part::new(monitor, 0.5, 1.0))
}
