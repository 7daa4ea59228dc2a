//! What each cell has from the cell that it drains to, on all cores.

use std::sync::atomic::AtomicU32;
use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use crate::monitor::SharedPace;
use crate::{Monitor, Result};

/// Cells that one thread begins from by itself.
const PIECE: usize = 1 << 16;

/// A number for every cell, found downstream of it: from each cell the way goes down to one whose number is known, or to the last one,
/// and back up.
///
/// `known` holds a number for each cell, `open` where it is to be found. `next` tells the cell that a cell drains to, without cycles;
/// `last` the number of a cell that drains to none; `above` that of a cell, from the cell and the number of the one that it drains to.
/// The three must answer the same whenever they are asked, and never `open`.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
pub(crate) fn from_below(
    known: Vec<AtomicU32>,
    open: u32,
    next: impl Fn(usize) -> Option<usize> + Sync,
    last: impl Fn(usize) -> u32 + Sync,
    above: impl Fn(usize, u32) -> u32 + Sync,
    monitor: &dyn Monitor,
) -> Result<Vec<u32>> {
    let shared = SharedPace::new(monitor, known.len().div_ceil(PIECE));
    // A cell that two threads come to gets the same from both.
    (0..known.len()).into_par_iter().step_by(PIECE).try_for_each_init(Vec::new, |path, from| {
        shared.advance(1)?;
        for start in from..(from + PIECE).min(known.len()) {
            let mut at = start;
            let mut found = loop {
                let here = known[at].load(Relaxed);
                if here != open {
                    break here;
                }
                match next(at) {
                    Some(below) => {
                        path.push(at as u32);
                        at = below;
                    }
                    None => {
                        let here = last(at);
                        known[at].store(here, Relaxed);
                        break here;
                    }
                }
            };
            while let Some(passed) = path.pop() {
                found = above(passed as usize, found);
                known[passed as usize].store(found, Relaxed);
            }
        }
        Ok::<_, crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(known.into_iter().map(AtomicU32::into_inner).collect())
}

/// As many cells as are asked for, all of them `open`.
pub(crate) fn all_open(cells: usize, open: u32) -> Vec<AtomicU32> {
    (0..cells).into_par_iter().map(|_| AtomicU32::new(open)).collect()
}
