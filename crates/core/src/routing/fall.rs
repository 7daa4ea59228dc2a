//! A slight fall over flats, for receivers that cannot route them.

use super::downward::{all_open, from_below};
use super::{downstream, step};
use crate::{Frame, Grid, Monitor, Result};

/// Raises cells until each lies above the one it drains to by at least `slope` (m/m) times the
/// distance, and at any rate by as little as float32 can tell; cells that do already stay.
///
/// `surface` is elevation in metres at `frame`, `directions` its D8 directions. So a flat falls along
/// its flow, and a receiver that only looks for lower neighbours finds a way out of each cell.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, routing::with_least_fall};
/// let directions = Grid::from_vec(1, 4, vec![1, 1, 1, 0]);
/// let flat = Grid::from_vec(1, 4, vec![9.0, 5.0, 5.0, 5.0]);
/// let frame = Frame { rows: 1, cols: 4, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// let falling = with_least_fall(&flat, &directions, 0.01, &frame, &Silent)?;
/// assert_eq!(falling.values(), [9.0, 5.2, 5.1, 5.0]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn with_least_fall(
    surface: &Grid<f32>,
    directions: &Grid<u8>,
    slope: f64,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    surface.same_shape(directions)?;
    // A number that no elevation has.
    const OPEN: u32 = u32::MAX;
    let z = surface.values();
    let raised = from_below(
        all_open(z.len(), OPEN),
        OPEN,
        |at| downstream(directions, at),
        |at| z[at].to_bits(),
        |at, below| {
            let below = f32::from_bits(below);
            let fall = slope * step(directions, at) * frame.cell_m();
            let least = ((below as f64 + fall) as f32).max(below.next_up());
            z[at].max(least).to_bits()
        },
        monitor,
    )?;
    let values = raised.into_iter().map(f32::from_bits).collect();
    Ok(Grid::from_vec(surface.rows(), surface.cols(), values))
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
        fn every_cell_falls(dem in any_terrain(14), slope in 0.0f64..0.01) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 4.0, unit_m: 1.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let falling = with_least_fall(&filled, &directions, slope, &frame, &Silent).unwrap();
            for i in (0..dem.len()).filter(|&i| !dem.values()[i].is_nan()) {
                prop_assert!(falling.values()[i] >= filled.values()[i]);
                if let Some(next) = downstream(&directions, i) {
                    let fall = falling.values()[i] as f64 - falling.values()[next] as f64;
                    prop_assert!(fall > 0.0 && fall >= slope * step(&directions, i) * 4.0 - 1e-5);
                }
            }
        }
    }
}
