//! How far water runs to the next stream, or to where it leaves.

use super::{DIRECTION_NODATA, downstream, step};
use crate::monitor::Pace;
use crate::{Frame, Grid, Monitor, Result};

/// Length of the way from each cell along its flow to the first stream cell, metres, diagonal steps
/// counted as such: 0 on a stream, `NaN` outside the footprint and where water leaves without
/// meeting a stream.
///
/// `directions` holds D8 codes without cycles, `is_stream` marks stream cells.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, routing::distance_to_stream};
/// let directions = Grid::from_vec(1, 4, vec![1, 1, 1, 0]);
/// let stream = Grid::from_vec(1, 4, vec![false, false, true, true]);
/// let frame = Frame { rows: 1, cols: 4, left: 0.0, top: 0.0, cell_size: 5.0, unit_m: 1.0 };
/// let far = distance_to_stream(&directions, &stream, &frame, &Silent)?;
/// assert_eq!(far.values(), [10.0, 5.0, 0.0, 0.0]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn distance_to_stream(
    directions: &Grid<u8>,
    is_stream: &Grid<bool>,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    directions.same_shape(is_stream)?;
    distance_to(directions, &|at| is_stream.values()[at], false, frame, monitor)
}

/// Length of the way from each cell along its flow to its outlet, metres; `NaN` outside the
/// footprint. Else as [`distance_to_stream`].
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
pub fn distance_to_outlet(directions: &Grid<u8>, frame: &Frame, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    distance_to(directions, &|_| false, true, frame, monitor)
}

fn distance_to(
    directions: &Grid<u8>,
    is_goal: &dyn Fn(usize) -> bool,
    outlet_is_goal: bool,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let mut pace = Pace::new(monitor, directions.len());
    // Below zero: not known yet.
    const OPEN: f32 = -1.0;
    let mut far = vec![OPEN; directions.len()];
    let mut path = Vec::new();
    for start in 0..directions.len() {
        pace.advance(1)?;
        let mut at = start;
        while far[at] == OPEN {
            if directions.values()[at] == DIRECTION_NODATA {
                far[at] = f32::NAN;
            } else if is_goal(at) {
                far[at] = 0.0;
            } else if let Some(next) = downstream(directions, at) {
                path.push(at as u32);
                at = next;
            } else {
                far[at] = if outlet_is_goal { 0.0 } else { f32::NAN };
            }
        }
        // Summed in double precision along the way, so that long ways do not drift.
        let mut sum = far[at] as f64;
        while let Some(passed) = path.pop() {
            sum += step(directions, passed as usize) * frame.cell_m();
            far[passed as usize] = sum as f32;
        }
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(directions.rows(), directions.cols(), far))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn distances_grow_by_a_step(dem in any_terrain(14), seed in any::<u64>()) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let stream = Grid::from_fn(dem.rows(), dem.cols(), |c| (seed >> ((c.row * 5 + c.col) % 64)) & 1 == 1);
            let far = distance_to_stream(&directions, &stream, &frame, &Silent).unwrap();
            let out = distance_to_outlet(&directions, &frame, &Silent).unwrap();
            for i in 0..dem.len() {
                if dem.values()[i].is_nan() {
                    prop_assert!(far.values()[i].is_nan() && out.values()[i].is_nan());
                    continue;
                }
                match downstream(&directions, i) {
                    Some(next) => {
                        let step = (step(&directions, i) * 2.0) as f32;
                        prop_assert!((out.values()[i] - out.values()[next] - step).abs() < 1e-3);
                        if !stream.values()[i] && !far.values()[next].is_nan() {
                            prop_assert!((far.values()[i] - far.values()[next] - step).abs() < 1e-3);
                        }
                    }
                    None => prop_assert_eq!(out.values()[i], 0.0),
                }
                prop_assert!(!stream.values()[i] || far.values()[i] == 0.0);
            }
        }
    }
}
