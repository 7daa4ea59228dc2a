//! How many cells lie upstream.

use rayon::prelude::*;

use super::{DIRECTION_NODATA, REAL_ACCUMULATION_NODATA, inflows_of_row};
use crate::monitor::{Later, SharedPace, check};
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Marks cells outside the footprint in a flow accumulation.
pub const ACCUMULATION_NODATA: u32 = u32::MAX;

/// Rows that one thread works on by itself. It is fixed, so that sums of real numbers are added in
/// the same order however many threads there are.
pub(super) const BAND: usize = 512;

/// Number of cells upstream of each cell, itself not counted: 0 at a headwater.
///
/// `directions` holds D8 codes without cycles, as [`flow_directions`](super::flow_directions)
/// gives them; the result is [`ACCUMULATION_NODATA`] outside the footprint. Over all outlets,
/// accumulation + 1 adds up to the number of cells in the footprint.
///
/// Each cell is passed on downstream as soon as all that flows into it is known, so that the cost
/// is a constant per cell. Bands of rows are worked side by side as far as they go without each
/// other; what crosses from band to band follows.
///
/// # Errors
/// [`Error::TooManyCells`](crate::Error::TooManyCells), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// O'Callaghan and Mark 1984; Jenson and Domingue 1988, Photogrammetric Engineering and Remote
/// Sensing 54, 1593-1600.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::flow_accumulation};
/// let to_the_east = Grid::from_vec(1, 4, vec![1, 1, 1, 0]);
/// assert_eq!(flow_accumulation(&to_the_east, &Silent)?.values(), [0, 1, 2, 3]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn flow_accumulation(directions: &Grid<u8>, monitor: &dyn Monitor) -> Result<Grid<u32>> {
    accumulate(directions, &|_| 1, ACCUMULATION_NODATA, BAND, monitor)
}

/// The weights of all cells upstream of each cell, its own not counted: with weights of 1 it is
/// [`flow_accumulation`].
///
/// `weights` may be anything that adds up: rain or runoff depth times cell area gives volume. Where
/// a cell of the footprint has no weight (`NaN`) it counts as 0. The result is -1 outside the
/// footprint. Sums are made in double precision, in an order that does not depend on the number of
/// threads.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch),
/// [`Error::TooManyCells`](crate::Error::TooManyCells), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Grid, Silent, routing::weighted_accumulation};
/// let to_the_east = Grid::from_vec(1, 3, vec![1, 1, 0]);
/// let rain = Grid::from_vec(1, 3, vec![2.0, 0.5, 1.0]);
/// assert_eq!(weighted_accumulation(&to_the_east, &rain, &Silent)?.values(), [0.0, 2.0, 2.5]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn weighted_accumulation(
    directions: &Grid<u8>,
    weights: &Grid<f32>,
    monitor: &dyn Monitor,
) -> Result<Grid<f64>> {
    directions.same_shape(weights)?;
    accumulate(directions, &|index| weight(weights, index), REAL_ACCUMULATION_NODATA, BAND, monitor)
}

/// The weight of a cell; 0 where it has none.
pub(super) fn weight(weights: &Grid<f32>, index: usize) -> f64 {
    match weights.values()[index] {
        w if w.is_nan() => 0.0,
        w => w as f64,
    }
}

/// A cell that has been passed on.
const DONE: u8 = u8::MAX;

pub(super) fn accumulate<T>(
    directions: &Grid<u8>,
    own: &(dyn Fn(usize) -> T + Sync),
    nodata: T,
    band: usize,
    monitor: &dyn Monitor,
) -> Result<Grid<T>>
where
    T: Copy + Default + Send + Sync + 'static + std::ops::AddAssign + std::ops::Add<Output = T>,
{
    directions.numbered()?;
    let (rows, cols, codes) = (directions.rows(), directions.cols(), directions.values());
    let at_once = (band * cols).max(1);
    let steps = code_offsets(cols);
    let mut waiting = Later::new(vec![0u8; codes.len()]);
    let mut sums = Later::new(vec![T::default(); codes.len()]);
    let pace = SharedPace::new(monitor, rows.div_ceil(band) * 5 / 4 + 1);
    // Cells whose water leaves their band, once all that flows into them is known.
    let leaving: Vec<Vec<u32>> = sums
        .par_chunks_mut(at_once)
        .zip(waiting.par_chunks_mut(at_once))
        .enumerate()
        .map(|(at, (sums, waiting))| {
            pace.advance(1)?;
            let first = at * at_once;
            for (row, waiting) in waiting.chunks_mut(cols).enumerate() {
                inflows_of_row(directions, at * band + row, 0, waiting);
                for waiting in waiting {
                    *waiting = waiting.count_ones() as u8;
                }
            }
            let mut leaving = Vec::new();
            for start in 0..sums.len() {
                if start.is_multiple_of(1 << 18) {
                    check(monitor)?;
                }
                if codes[first + start] == DIRECTION_NODATA {
                    sums[start] = nodata;
                    continue;
                }
                if waiting[start] != 0 {
                    continue;
                }
                let mut here = start;
                loop {
                    waiting[here] = DONE;
                    let step = steps[codes[first + here] as usize];
                    if step == 0 {
                        break;
                    }
                    let next = here.wrapping_add_signed(step);
                    if next >= sums.len() {
                        leaving.push((first + here) as u32);
                        break;
                    }
                    let carried = sums[here] + own(first + here);
                    sums[next] += carried;
                    waiting[next] -= 1;
                    if waiting[next] != 0 {
                        break;
                    }
                    here = next;
                }
            }
            Ok(leaving)
        })
        .collect::<Result<_>>()?;
    for (number, &crossing) in leaving.iter().flatten().enumerate() {
        if number.is_multiple_of(1 << 10) {
            check(monitor)?;
        }
        let mut here = crossing as usize;
        loop {
            let step = steps[codes[here] as usize];
            if step == 0 {
                break;
            }
            let next = here.wrapping_add_signed(step);
            // Only of a part of a grid water goes on beyond it.
            if next >= sums.len() {
                break;
            }
            let carried = sums[here] + own(here);
            sums[next] += carried;
            waiting[next] -= 1;
            if waiting[next] != 0 {
                break;
            }
            waiting[next] = DONE;
            here = next;
        }
    }
    drop(waiting.keep());
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, sums.keep()))
}

/// The step in cell numbers of each code; 0 where there is none.
fn code_offsets(cols: usize) -> [isize; 256] {
    let mut steps = [0; 256];
    for n in NEIGHBOURS {
        steps[n.code as usize] = n.rows * cols as isize + n.cols;
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{OUTLET, downstream, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    #[test]
    fn streams_meet() {
        // Two rows flow into the middle one, which flows east.
        let directions = Grid::from_vec(3, 3, vec![4, 4, 4, 1, 1, 0, 64, 64, 64]);
        let got = flow_accumulation(&directions, &Silent).unwrap();
        assert_eq!(got.values(), [0, 0, 0, 2, 5, 8, 0, 0, 0]);
    }

    proptest! {
        #[test]
        fn outlets_add_up_to_the_footprint(dem in any_terrain(16)) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let out: u64 = (0..dem.len())
                .filter(|&i| directions.values()[i] == OUTLET)
                .map(|i| accumulation.values()[i] as u64 + 1)
                .sum();
            let footprint = dem.values().iter().filter(|z| !z.is_nan()).count() as u64;
            prop_assert_eq!(out, footprint);
        }

        #[test]
        fn equals_counting_paths(dem in any_terrain(12), band in 1usize..6) {
            let directions = flow_directions(&dem, &Silent).unwrap();
            let accumulation = accumulate(&directions, &|_| 1, ACCUMULATION_NODATA, band, &Silent).unwrap();
            let mut counted = vec![0u32; dem.len()];
            for start in 0..dem.len() {
                let mut at = start;
                while let Some(next) = downstream(&directions, at) {
                    counted[next] += 1;
                    at = next;
                }
            }
            for ((z, got), expected) in dem.values().iter().zip(accumulation.values()).zip(&counted) {
                if !z.is_nan() {
                    prop_assert_eq!(got, expected);
                }
            }
            // Weights of one are cells.
            let ones = Grid::filled(dem.rows(), dem.cols(), 1.0);
            let weighted = weighted_accumulation(&directions, &ones, &Silent).unwrap();
            for (weight, cells) in weighted.values().iter().zip(accumulation.values()) {
                prop_assert_eq!(*weight, if *cells == ACCUMULATION_NODATA { -1.0 } else { *cells as f64 });
            }
        }
    }
}
