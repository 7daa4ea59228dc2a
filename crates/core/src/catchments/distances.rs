//! How far the water of sub-basins runs within them.

use rayon::prelude::*;

use crate::routing::{all_open, downstream, from_below, step};
use crate::{Frame, Grid, Result, Silent};

/// The area-distance curve of every sub-basin, in the order of their numbers: for each of `points` evenly spaced distances from 0 to the
/// farthest, metres, the share of its cells whose water runs no farther within it. `ids` holds the numbers of the sub-basins from 1, 0
/// elsewhere. A sub-basin without cells has an empty curve.
///
/// # Source
/// Common practice: the cells of an area gathered by the distance that their water runs.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::catchments::area_distance_of_parts;
/// use bothros_core::{Frame, Grid};
/// let directions = Grid::from_vec(1, 5, vec![1, 1, 1, 1, 0]);
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 1.0, cell_size: 10.0, unit_m: 1.0 };
/// let ids = Grid::from_vec(1, 5, vec![1, 1, 2, 2, 2]);
/// let curves = area_distance_of_parts(&ids, &directions, &frame, 2, 3)?;
/// assert_eq!(curves[0], [(0.0, 0.5), (5.0, 0.5), (10.0, 1.0)]);
/// assert_eq!(curves[1].last(), Some(&(20.0, 1.0)));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn area_distance_of_parts(
    ids: &Grid<u32>,
    directions: &Grid<u8>,
    frame: &Frame,
    parts: usize,
    points: usize,
) -> Result<Vec<Vec<(f64, f64)>>> {
    ids.same_shape(directions)?;
    let ids = ids.values();
    let away = ways_within(ids, directions)?;
    let steps = points.max(2) - 1;
    // Parts of the grid, few enough that each has counts of its own.
    let piece = ids.len().div_ceil(2 * rayon::current_num_threads()).max(1);
    let pieces = || {
        let told = ids.par_chunks(piece).zip(away.par_chunks(piece));
        told.map(|(ids, away)| {
            let of_part = |(&id, &way): (&u32, &f32)| Some(((id as usize).checked_sub(1)?, way));
            ids.iter().zip(away).filter_map(of_part).filter(|&(at, _)| at < parts)
        })
    };
    let farthest = pieces().map(|cells| {
        let mut found = vec![f32::NEG_INFINITY; parts];
        cells.for_each(|(at, way)| found[at] = found[at].max(way));
        found
    });
    let farthest = farthest.reduce(
        || vec![f32::NEG_INFINITY; parts],
        |mut a, b| {
            a.iter_mut().zip(b).for_each(|(a, b)| *a = a.max(b));
            a
        },
    );
    let distance = |farthest: f32, n: usize| farthest * n as f32 / steps as f32;
    // A little more, so that the farthest is among them whatever its last bits are.
    let limit = |farthest: f32, n: usize| distance(farthest, n) * (1.0 + 1e-5);
    let counts = pieces().map(|cells| {
        let mut counts = vec![0u64; parts * (steps + 1)];
        for (part, way) in cells {
            let farthest = farthest[part];
            let mut at = ((way / farthest * steps as f32) as usize).min(steps);
            while at > 0 && way <= limit(farthest, at - 1) {
                at -= 1;
            }
            while way > limit(farthest, at) {
                at += 1;
            }
            counts[part * (steps + 1) + at] += 1;
        }
        counts
    });
    let counts = counts.reduce(
        || vec![0u64; parts * (steps + 1)],
        |mut a, b| {
            a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
            a
        },
    );
    let curve = |(&farthest, counts): (&f32, &[u64])| {
        if farthest == f32::NEG_INFINITY {
            return Vec::new();
        }
        let all = counts.iter().sum::<u64>() as f64;
        let mut within = 0;
        let share = |(n, &count): (usize, &u64)| {
            within += count;
            (f64::from(distance(farthest, n)) * frame.cell_m(), within as f64 / all)
        };
        counts.iter().enumerate().map(share).collect()
    };
    Ok(farthest.iter().zip(counts.chunks(steps + 1)).map(curve).collect())
}

/// For each cell with a number how far its water runs among cells of the same, in cells; 0 where it leaves them, and for cells
/// without a number.
fn ways_within(ids: &[u32], directions: &Grid<u8>) -> Result<Vec<f32>> {
    const UNKNOWN: u32 = f32::NAN.to_bits();
    let away = from_below(
        all_open(ids.len(), UNKNOWN),
        UNKNOWN,
        |at| downstream(directions, at).filter(|&next| ids[at] > 0 && ids[next] == ids[at]),
        |_| 0,
        |at, far| (f32::from_bits(far) + step(directions, at) as f32).to_bits(),
        &Silent,
    )?;
    Ok(away.into_iter().map(f32::from_bits).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::{delineate, flow_paths};
    use crate::conditioning::fill;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_catchment_that_is_one_part_has_the_curve_of_its_flow_paths(dem in any_terrain(14), pick in 0usize..196) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let at = dem.cell(pick % dem.len());
            prop_assume!(!dem.values()[pick % dem.len()].is_nan());
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let catchment = delineate(&directions, at).unwrap();
            let ids = Grid::from_fn(dem.rows(), dem.cols(), |c| u32::from(catchment.contains(c)));
            let (path, curve) = flow_paths(&directions, &frame, at, 11).unwrap();
            let found = area_distance_of_parts(&ids, &directions, &frame, 1, 11).unwrap().remove(0);
            prop_assert!((found[10].0 - path.length_m).abs() < 1e-3);
            for (a, b) in found.iter().zip(&curve) {
                prop_assert!((a.0 - b.0).abs() < 1e-3 && (a.1 - b.1).abs() < 1e-9, "{:?} {:?}", a, b);
            }
        }
    }
}
