//! The main stem: from the outlet upstream along the larger contributing area.

use crate::routing::upstream;
use crate::{Cell, Grid, Result, Threshold};

/// The cells of the main stem above `outlet`, by number in row order, from its headwater down to
/// the outlet, both included; empty where the outlet is no stream cell.
///
/// At each junction it follows the stream cell with the larger accumulation; where two are equal,
/// the first clockwise from east.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::{Cell, Grid, Threshold, network::main_stem};
/// let directions = Grid::from_vec(2, 3, vec![1, 1, 0, 1, 64, 16]);
/// let accumulation = Grid::from_vec(2, 3, vec![0, 4, 5, 0, 2, 0]);
/// let stem = main_stem(&directions, &accumulation, Threshold::cells(3), Cell { row: 0, col: 2 })?;
/// assert_eq!(stem, [4, 1, 2]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn main_stem(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    threshold: Threshold,
    outlet: Cell,
) -> Result<Vec<u32>> {
    let is_stream = |index: usize| threshold.is_stream(accumulation.values()[index]);
    main_stem_of_cells(directions, accumulation, &is_stream, outlet)
}

/// As [`main_stem`], along the stream cells that `is_stream` tells, by number in row order.
///
/// # Errors
/// Those of [`main_stem`].
pub fn main_stem_of_cells(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    is_stream: &dyn Fn(usize) -> bool,
    outlet: Cell,
) -> Result<Vec<u32>> {
    directions.same_shape(accumulation)?;
    let area = |index: usize| accumulation.values()[index];
    let mut stem = Vec::new();
    let mut at = Some(directions.index(outlet)).filter(|&index| is_stream(index));
    while let Some(index) = at {
        stem.push(index as u32);
        let mut next = None;
        for n in upstream(directions, index).filter(|&n| is_stream(n)) {
            if next.is_none_or(|best| area(n) > area(best)) {
                next = Some(n);
            }
        }
        at = next;
    }
    stem.reverse();
    Ok(stem)
}
