//! D8: each cell drains to one of its eight neighbours.

use multiversion::multiversion;
use rayon::prelude::*;

use super::flats::resolve_flats;
use crate::monitor::check;
use crate::{Error, Grid, Monitor, NEIGHBOURS, Part, Result};

/// The code of a cell where water leaves the footprint, and of the bottom of a closed basin.
pub const OUTLET: u8 = 0;
/// The code of a cell outside the footprint.
pub const DIRECTION_NODATA: u8 = 255;
/// A cell of a flat that has no direction yet; never in a result.
pub(super) const UNDECIDED: u8 = 254;

/// D8 flow directions, flats included.
///
/// `surface` is the routing surface, metres, `NaN` for nodata, usually filled. The result holds
/// D8 codes (see the module).
///
/// * A cell drains to the neighbour with the steepest fall, the drop divided by the distance
///   between the centres. Where several are equally steep, the first clockwise from east.
/// * A cell at the edge of the footprint without a lower neighbour is an outlet.
/// * A flat drains towards its lower rim and away from its higher one.
/// * A flat without a lower rim (only where the surface was not filled) is the bottom of a
///   closed basin: its first cell in row order is marked as an outlet, and the others drain to it.
///
/// There are no cycles: following the codes from any cell ends at an outlet.
///
/// # Errors
/// [`Error::NoData`], [`Error::TooManyCells`], [`Error::Cancelled`].
///
/// # Source
/// O'Callaghan and Mark 1984, Computer Vision, Graphics and Image Processing 28, 323-344;
/// flats after Garbrecht and Martz 1997 and Barnes, Lehman and Mulla 2014b.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::{flow_directions, OUTLET}};
/// let to_the_east = Grid::from_fn(3, 3, |c| 5.0 - c.col as f32);
/// let directions = flow_directions(&to_the_east, &Silent)?;
/// assert_eq!(directions.values(), [1, 1, OUTLET, 1, 1, OUTLET, 1, 1, OUTLET]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn flow_directions(surface: &Grid<f32>, monitor: &dyn Monitor) -> Result<Grid<u8>> {
    flow_directions_to_outlets(surface, &[], monitor)
}

/// As [`flow_directions`], with the cells of `outlets` (numbers in row order) as further outlets:
/// the bottoms of closed basins, where water stays.
///
/// # Errors
/// Those of [`flow_directions`].
///
/// ```
/// use bothros_core::{Grid, Silent, routing::{flow_directions_to_outlets, OUTLET}};
/// let flat = Grid::filled(3, 5, 4.0);
/// let directions = flow_directions_to_outlets(&flat, &[7], &Silent)?;
/// assert_eq!(directions.values()[7], OUTLET);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn flow_directions_to_outlets(
    surface: &Grid<f32>,
    outlets: &[u32],
    monitor: &dyn Monitor,
) -> Result<Grid<u8>> {
    let mut directions = undecided_directions(surface, &Part::new(monitor, 0.0, 0.3))?;
    mark_outlets(&mut directions, outlets);
    resolve_flats(surface, &mut directions, &Part::new(monitor, 0.3, 1.0))?;
    Ok(directions)
}

/// Lets water stay at some cells, by number in row order.
pub(super) fn mark_outlets(directions: &mut Grid<u8>, outlets: &[u32]) {
    for &outlet in outlets {
        if let Some(code) = directions.values_mut().get_mut(outlet as usize)
            && *code != DIRECTION_NODATA
        {
            *code = OUTLET;
        }
    }
}

/// Directions of all cells that have a lower neighbour or lie at the edge; the rest is undecided.
pub(super) fn undecided_directions(surface: &Grid<f32>, monitor: &dyn Monitor) -> Result<Grid<u8>> {
    surface.numbered()?;
    let (rows, cols) = (surface.rows(), surface.cols());
    // Every row is written to by whoever works on it.
    let mut codes = vec![OUTLET; surface.len()];
    const ROWS_AT_ONCE: usize = 64;
    let any = codes
        .par_chunks_mut((cols * ROWS_AT_ONCE).max(1))
        .enumerate()
        .map(|(chunk, out)| {
            check(monitor)?;
            let mut any = false;
            for (row, out) in out.chunks_mut(cols).enumerate() {
                let row = chunk * ROWS_AT_ONCE + row;
                let line = |r: usize| &surface.values()[r * cols..(r + 1) * cols];
                out.fill(LOOK);
                if row > 0 && row + 1 < rows {
                    steepest_in_row(line(row - 1), line(row), line(row + 1), out);
                }
                for (col, code) in out.iter_mut().enumerate() {
                    let index = row * cols + col;
                    if *code == LOOK {
                        let outside = surface.values()[index].is_nan();
                        *code = if outside { DIRECTION_NODATA } else { steepest(surface, index) };
                    }
                    any |= *code != DIRECTION_NODATA;
                }
            }
            Ok(any)
        })
        .try_reduce(|| false, |a, b| Ok(a | b))?;
    if !any {
        return Err(Error::NoData);
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, codes))
}

/// The inverse of the distance to a diagonal neighbour.
const DIAGONAL: f32 = std::f32::consts::FRAC_1_SQRT_2;
/// A cell that needs separate treatment: beside nodata or the border, or so little above a neighbour that the
/// fall is a subnormal number.
const LOOK: u8 = 253;

/// Codes of the inner cells of a row.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
fn steepest_in_row(above: &[f32], here: &[f32], below: &[f32], out: &mut [u8]) {
    let n = here.len();
    if n < 3 {
        return;
    }
    let (above, here, below, out) = (&above[..n], &here[..n], &below[..n], &mut out[..n]);
    for col in 1..n - 1 {
        let z = here[col];
        let (mut best, mut code, mut look) = (f32::MIN_POSITIVE, UNDECIDED as u32, 0u32);
        macro_rules! consider {
            ($other:expr, $per_distance:expr, $k:expr) => {
                let drop = z - $other;
                let fall = drop * $per_distance;
                // Lower, or not to be compared.
                look |= if drop <= 0.0 { 0 } else { 1 };
                let better = fall > best;
                best = if better { fall } else { best };
                code = if better { 1 << $k } else { code };
            };
        }
        consider!(here[col + 1], 1.0, 0);
        consider!(below[col + 1], DIAGONAL, 1);
        consider!(below[col], 1.0, 2);
        consider!(below[col - 1], DIAGONAL, 3);
        consider!(here[col - 1], 1.0, 4);
        consider!(above[col - 1], DIAGONAL, 5);
        consider!(above[col], 1.0, 6);
        consider!(above[col + 1], DIAGONAL, 7);
        let _ = best;
        let left_open = code == UNDECIDED as u32 && look == 1;
        out[col] = if left_open { LOOK } else { code as u8 };
    }
}

#[inline]
fn steepest(surface: &Grid<f32>, index: usize) -> u8 {
    let z = surface.values()[index];
    let (mut best, mut code) = (0.0, UNDECIDED);
    let mut inside = 0;
    for (k, n) in surface.neighbours(index) {
        let zn = surface.values()[n];
        if zn.is_nan() {
            continue;
        }
        inside += 1;
        // A drop so small that the division loses it is still a drop.
        let per_distance = if k % 2 == 0 { 1.0 } else { DIAGONAL };
        let fall = ((z - zn) * per_distance).max(if zn < z { f32::MIN_POSITIVE } else { f32::NEG_INFINITY });
        if fall > best {
            (best, code) = (fall, NEIGHBOURS[k].code);
        }
    }
    if code == UNDECIDED && inside < 8 { OUTLET } else { code }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::downstream;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn centre_code(z: [f32; 9]) -> u8 {
        // The window stands in a higher rim so that its centre is no edge cell.
        flow_directions(&Grid::from_vec(3, 3, z.to_vec()), &Silent).unwrap().values()[4]
    }

    #[test]
    fn a_diagonal_counts_with_its_length() {
        // 1 m east is steeper than 1.4 m over sqrt(2), and less steep than 1.5 m.
        assert_eq!(centre_code([9.0, 9.0, 9.0, 9.0, 5.0, 4.0, 9.0, 9.0, 3.6]), 1);
        assert_eq!(centre_code([9.0, 9.0, 9.0, 9.0, 5.0, 4.0, 9.0, 9.0, 3.5]), 2);
    }

    #[test]
    fn ties_go_clockwise_from_east() {
        assert_eq!(centre_code([9.0, 4.0, 9.0, 4.0, 5.0, 9.0, 9.0, 4.0, 9.0]), 4);
        assert_eq!(centre_code([9.0, 4.0, 9.0, 4.0, 5.0, 4.0, 9.0, 4.0, 9.0]), 1);
    }

    #[test]
    fn a_closed_basin_drains_to_its_bottom() {
        let z = [9.0, 9.0, 9.0, 9.0, 9.0, 2.0, 2.0, 9.0, 9.0, 9.0, 9.0, 9.0f32];
        let directions = flow_directions(&Grid::from_vec(3, 4, z.to_vec()), &Silent).unwrap();
        assert_eq!(directions.values()[5], OUTLET);
        assert_eq!(directions.values()[6], 16);
    }

    #[test]
    fn values_at_the_edges_of_float32_are_routed() {
        let z = [f32::MAX, f32::MAX, f32::MAX, f32::MAX, 0.0, f32::MIN, f32::MAX, f32::MAX, f32::MAX];
        assert_eq!(centre_code(z), 1);
        let tiny = f32::from_bits(1);
        assert_eq!(centre_code([1.0, 1.0, 1.0, 1.0, tiny, 1.0, 1.0, 1.0, 0.0]), 2);
    }

    #[test]
    fn one_row_and_one_column_and_one_cell() {
        let row = flow_directions(&Grid::from_vec(1, 4, vec![4.0, 3.0, 2.0, 5.0]), &Silent).unwrap();
        assert_eq!(row.values(), [1, 1, OUTLET, 16]);
        let column = flow_directions(&Grid::from_vec(3, 1, vec![1.0, 2.0, 3.0]), &Silent).unwrap();
        assert_eq!(column.values(), [OUTLET, 64, 64]);
        let cell = flow_directions(&Grid::from_vec(1, 1, vec![1.0]), &Silent).unwrap();
        assert_eq!(cell.values(), [OUTLET]);
    }

    proptest! {
        #[test]
        fn every_cell_reaches_an_outlet_at_the_edge(dem in any_terrain(14)) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            for start in 0..dem.len() {
                if dem.values()[start].is_nan() {
                    prop_assert_eq!(directions.values()[start], DIRECTION_NODATA);
                    continue;
                }
                let (mut at, mut steps) = (start, 0);
                while let Some(next) = downstream(&directions, at) {
                    prop_assert!(filled.values()[next] <= filled.values()[at], "never uphill");
                    at = next;
                    steps += 1;
                    prop_assert!(steps <= dem.len(), "a cycle");
                }
                prop_assert_eq!(directions.values()[at], OUTLET);
                prop_assert!(dem.is_edge(at));
            }
        }

        #[test]
        fn unfilled_terrain_has_no_cycles(dem in any_terrain(12)) {
            let directions = flow_directions(&dem, &Silent).unwrap();
            for start in 0..dem.len() {
                let (mut at, mut steps) = (start, 0);
                while let Some(next) = downstream(&directions, at) {
                    at = next;
                    steps += 1;
                    prop_assert!(steps <= dem.len(), "a cycle");
                }
            }
        }
    }
}
