//! The longest flow path of a catchment.

use crate::routing::{DIRECTION_NODATA, downstream, upstream};
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
    inside: &dyn Fn(usize) -> bool,
) -> Result<LongestPath> {
    match directions.get(outlet) {
        Some(&code) if code != DIRECTION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(outlet)),
    }
    let end = directions.index(outlet);
    // Straight and diagonal steps are counted, so that equal ways are equal to the last bit.
    let length = |(straight, diagonal): (u32, u32)| {
        straight as f64 * NEIGHBOURS[0].distance + diagonal as f64 * NEIGHBOURS[1].distance
    };
    let mut open = vec![(end as u32, (0u32, 0u32))];
    let mut farthest = (0.0, end as u32);
    while let Some((at, (straight, diagonal))) = open.pop() {
        let far = length((straight, diagonal));
        if far > farthest.0 || (far == farthest.0 && at < farthest.1) {
            farthest = (far, at);
        }
        for n in upstream(directions, at as usize).filter(|&n| inside(n)) {
            let code = directions.values()[n];
            let is_diagonal = code.trailing_zeros() % 2;
            open.push((n as u32, (straight + 1 - is_diagonal, diagonal + is_diagonal)));
        }
    }
    let mut cells = vec![farthest.1];
    let mut at = farthest.1 as usize;
    while at != end {
        match downstream(directions, at) {
            Some(next) => at = next,
            None => break,
        }
        cells.push(at as u32);
    }
    Ok(LongestPath { cells, length_m: farthest.0 * frame.cell_m() })
}

/// The area-distance curve: for each of `points` evenly spaced distances from the outlet up to the longest flow path, the share of
/// the catchment whose water runs no farther to the outlet; distances in metres.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the outlet has no direction.
///
/// ```
/// use bothros_core::catchments::area_distance;
/// use bothros_core::{Cell, Frame, Grid};
/// let directions = Grid::from_vec(1, 5, vec![1, 1, 1, 1, 0]);
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 1.0, cell_size: 10.0, unit_m: 1.0 };
/// let curve = area_distance(&directions, &frame, Cell { row: 0, col: 4 }, 3)?;
/// assert_eq!(curve, [(0.0, 0.2), (20.0, 0.6), (40.0, 1.0)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn area_distance(
    directions: &Grid<u8>,
    frame: &Frame,
    outlet: Cell,
    points: usize,
) -> Result<Vec<(f64, f64)>> {
    match directions.get(outlet) {
        Some(&code) if code != DIRECTION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(outlet)),
    }
    let mut far: Vec<f32> = Vec::new();
    let mut open = vec![(directions.index(outlet) as u32, 0f32)];
    while let Some((at, distance)) = open.pop() {
        far.push(distance);
        for n in upstream(directions, at as usize) {
            open.push((n as u32, distance + crate::routing::step(directions, n) as f32));
        }
    }
    rayon::slice::ParallelSliceMut::par_sort_unstable_by(&mut far[..], f32::total_cmp);
    let last = far.last().copied().unwrap_or(0.0);
    let at = |n: usize| {
        let distance = last * n as f32 / (points.max(2) - 1) as f32;
        // A little more, so that the farthest is among them whatever its last bits are.
        let within = far.partition_point(|&d| d <= distance * (1.0 + 1e-5));
        (f64::from(distance) * frame.cell_m(), within as f64 / far.len() as f64)
    };
    Ok((0..points.max(2)).map(at).collect())
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
