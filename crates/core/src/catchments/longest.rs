//! The longest flow path of a catchment.

use rayon::prelude::*;

use super::climb::{Waiting, climb, sources};
use crate::routing::{DIRECTION_NODATA, downstream};
use crate::{Cell, Error, Frame, Grid, NEIGHBOURS, Result};

/// The longest way that water takes within a catchment.
#[derive(Debug, Clone, PartialEq)]
pub struct LongestPath {
    /// its cells from the divide to the outlet, by number in row order
    pub cells: Vec<u32>,
    /// along the cell centres, diagonals counted as such, metres
    pub length_m: f64,
}

/// Finds the cell of the catchment of `outlet` from which water runs farthest to it, and the way.
/// Of equally long ways the one whose first cell comes first in row order counts.
///
/// `directions` holds D8 codes without cycles. The cost grows with the catchment.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the outlet has no direction.
///
/// ```
/// use bothros_core::{Cell, Frame, Grid, catchments::longest_flow_path};
/// let directions = Grid::from_vec(2, 3, vec![1, 1, 0, 1, 128, 64]);
/// let frame = Frame { rows: 2, cols: 3, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// let path = longest_flow_path(&directions, &frame, Cell { row: 0, col: 2 })?;
/// assert_eq!(path.cells, [3, 4, 2]);
/// assert!((path.length_m - 10.0 * (1.0 + 2f64.sqrt())).abs() < 1e-9);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn longest_flow_path(directions: &Grid<u8>, frame: &Frame, outlet: Cell) -> Result<LongestPath> {
    longest_within(directions, frame, outlet, &|_| true)
}

/// As [`longest_flow_path`], along cells that are `inside`, by number in row order.
pub(super) fn longest_within(
    directions: &Grid<u8>,
    frame: &Frame,
    outlet: Cell,
    inside: &(dyn Fn(usize) -> bool + Sync),
) -> Result<LongestPath> {
    let parts = ways(directions, outlet, inside, false)?;
    Ok(longest_of(&parts, directions, frame, outlet))
}

/// Ways to the outlet, of some cells.
#[derive(Default)]
struct Ways {
    /// the longest, in cells, and the cell it begins at
    farthest: Option<(f64, u32)>,
    /// lengths of all, in cells, where they are asked for
    all: Vec<f32>,
}

/// Whether the second of two ways is longer, or as long and begins at a cell that comes first.
fn longer(a: (f64, u32), b: (f64, u32)) -> bool {
    b.0 > a.0 || (b.0 == a.0 && b.1 < a.1)
}

/// The ways that water takes to `outlet` from cells that are `inside`.
fn ways(
    directions: &Grid<u8>,
    outlet: Cell,
    inside: &(dyn Fn(usize) -> bool + Sync),
    all: bool,
) -> Result<Vec<Ways>> {
    match directions.get(outlet) {
        Some(&code) if code != DIRECTION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(outlet)),
    }
    // Straight and diagonal steps are counted, so that equal ways are equal to the last bit.
    let length = |(straight, diagonal): (u32, u32)| {
        straight as f64 * NEIGHBOURS[0].distance + diagonal as f64 * NEIGHBOURS[1].distance
    };
    let visit = |(at, steps): Waiting<(u32, u32)>, found: &mut Ways, open: &mut Vec<Waiting<(u32, u32)>>| {
        let here = (length(steps), at);
        if found.farthest.is_none_or(|best| longer(best, here)) {
            found.farthest = Some(here);
        }
        if all {
            found.all.push(here.0 as f32);
        }
        for n in sources(directions, at as usize).filter(|&n| inside(n)) {
            let is_diagonal = directions.values()[n].trailing_zeros() % 2;
            open.push((n as u32, (steps.0 + 1 - is_diagonal, steps.1 + is_diagonal)));
        }
    };
    Ok(climb(vec![(directions.index(outlet) as u32, (0u32, 0u32))], &visit))
}

/// The longest of the ways to `outlet`.
fn longest_of(parts: &[Ways], directions: &Grid<u8>, frame: &Frame, outlet: Cell) -> LongestPath {
    let end = directions.index(outlet);
    let all = parts.iter().filter_map(|p| p.farthest);
    let farthest = all.fold((0.0, end as u32), |a, b| if longer(a, b) { b } else { a });
    let mut cells = vec![farthest.1];
    let mut at = farthest.1 as usize;
    while at != end {
        match downstream(directions, at) {
            Some(next) => at = next,
            None => break,
        }
        cells.push(at as u32);
    }
    LongestPath { cells, length_m: farthest.0 * frame.cell_m() }
}

/// The longest flow path of a catchment, and its area-distance curve: for each of `points` evenly spaced distances from the outlet up
/// to the longest flow path, the share of the catchment whose water runs no farther to the outlet; distances in metres.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the outlet has no direction.
///
/// ```
/// use bothros_core::catchments::flow_paths;
/// use bothros_core::{Cell, Frame, Grid};
/// let directions = Grid::from_vec(1, 5, vec![1, 1, 1, 1, 0]);
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 1.0, cell_size: 10.0, unit_m: 1.0 };
/// let (path, curve) = flow_paths(&directions, &frame, Cell { row: 0, col: 4 }, 3)?;
/// assert_eq!(path.length_m, 40.0);
/// assert_eq!(curve, [(0.0, 0.2), (20.0, 0.6), (40.0, 1.0)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn flow_paths(
    directions: &Grid<u8>,
    frame: &Frame,
    outlet: Cell,
    points: usize,
) -> Result<(LongestPath, Vec<(f64, f64)>)> {
    let parts = ways(directions, outlet, &|_| true, true)?;
    let path = longest_of(&parts, directions, frame, outlet);
    let last = (path.length_m / frame.cell_m()) as f32;
    let steps = points.max(2) - 1;
    let distance = |n: usize| last * n as f32 / steps as f32;
    // The first distance that each cell is within; a little more, so that the farthest is among them whatever its last bits are.
    let first = |d: f32| {
        let near = if last > 0.0 { (d / last * steps as f32) as usize } else { 0 };
        (near.saturating_sub(1)..steps).find(|&n| d <= distance(n) * (1.0 + 1e-5)).unwrap_or(steps)
    };
    let count = |mut counts: Vec<u64>, part: &Ways| {
        part.all.iter().for_each(|&d| counts[first(d)] += 1);
        counts
    };
    let counts = parts.par_iter().fold(|| vec![0u64; steps + 1], count).reduce(
        || vec![0u64; steps + 1],
        |mut a, b| {
            a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
            a
        },
    );
    let all = counts.iter().sum::<u64>() as f64;
    let within = counts.iter().scan(0u64, |sum, count| {
        *sum += count;
        Some(*sum as f64 / all)
    });
    let curve = within.enumerate().map(|(n, share)| (f64::from(distance(n)) * frame.cell_m(), share));
    Ok((path, curve.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::routing::{distance_to_outlet, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn nothing_in_the_catchment_is_farther(dem in any_terrain(14), pick in 0usize..196) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let at = pick % dem.len();
            prop_assume!(!dem.values()[at].is_nan());
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let path = longest_flow_path(&directions, &frame, dem.cell(at)).unwrap();
            let out = distance_to_outlet(&directions, &frame, &Silent).unwrap();
            let catchment = delineate(&directions, dem.cell(at)).unwrap();
            let most = (0..dem.len()).filter(|&i| catchment.contains(dem.cell(i)))
                .map(|i| out.values()[i] - out.values()[at]).fold(0f32, f32::max);
            prop_assert!((path.length_m - most as f64).abs() < 1e-3);
            prop_assert_eq!(path.cells.last(), Some(&(at as u32)));
        }
    }
}
