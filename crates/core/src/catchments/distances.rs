//! How far the water of sub-basins runs within them.

use rayon::prelude::*;

use crate::routing::{downstream, step};
use crate::{Frame, Grid, Result};

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
    let mut away = vec![f32::NAN; ids.len()];
    let mut way: Vec<usize> = Vec::new();
    for start in (0..ids.len()).filter(|&at| ids[at] > 0) {
        // Down to a cell whose distance is known, or to the last one of the sub-basin; then back.
        let mut at = start;
        while away[at].is_nan() {
            match downstream(directions, at).filter(|&next| ids[next] == ids[at]) {
                Some(next) => {
                    way.push(at);
                    at = next;
                }
                None => away[at] = 0.0,
            }
        }
        while let Some(above) = way.pop() {
            away[above] = away[at] + step(directions, above) as f32;
            at = above;
        }
    }
    let mut of_part: Vec<Vec<f32>> = vec![Vec::new(); parts];
    for (&id, &distance) in ids.iter().zip(&away) {
        if let Some(all) = (id as usize).checked_sub(1).and_then(|at| of_part.get_mut(at)) {
            all.push(distance);
        }
    }
    let steps = points.max(2) - 1;
    let curve = |all: Vec<f32>| {
        let Some(farthest) = all.iter().copied().reduce(f32::max) else { return Vec::new() };
        let distances: Vec<f32> = (0..=steps).map(|n| farthest * n as f32 / steps as f32).collect();
        // A little more, so that the farthest is among them whatever its last bits are.
        let limits: Vec<f32> = distances.iter().map(|distance| distance * (1.0 + 1e-5)).collect();
        let mut counts = vec![0u64; limits.len()];
        for &distance in &all {
            let mut at = ((distance / farthest * steps as f32) as usize).min(steps);
            while at > 0 && distance <= limits[at - 1] {
                at -= 1;
            }
            while distance > limits[at] {
                at += 1;
            }
            counts[at] += 1;
        }
        let mut within = 0;
        let share = |(distance, count): (f32, u64)| {
            within += count;
            (f64::from(distance) * frame.cell_m(), within as f64 / all.len() as f64)
        };
        distances.into_iter().zip(counts).map(share).collect()
    };
    Ok(of_part.into_par_iter().map(curve).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
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
