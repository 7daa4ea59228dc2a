//! D-infinity: one direction of steepest fall, at any angle.

use std::f64::consts::{FRAC_PI_4, TAU};

use rayon::prelude::*;

use super::spread::{Divide, Shares, accumulate_divided};
use super::{DIRECTION_NODATA, OUTLET};
use crate::monitor::check;
use crate::{Grid, Monitor, Result};

/// The angle of a cell where water leaves the footprint or stays in a closed basin.
pub const DINF_OUTLET: f32 = -1.0;

/// The direction of steepest fall of each cell: radians counter-clockwise from east, from 0 to
/// below 2 pi; [`DINF_OUTLET`] where there is none, `NaN` outside the footprint.
///
/// `surface` is the routing surface, metres. `d8` holds the D8 directions of the same surface: a
/// cell of a flat, which has no fall, takes its D8 direction, so that flats are routed; and a cell
/// that D8 calls an outlet is one here.
///
/// Around a cell lie eight triangular facets, each between a straight and a diagonal neighbour. The
/// fall of each facet's plane is taken, held to the facet's own angle; the steepest counts, of equals
/// the first counter-clockwise from east. A facet that lacks a neighbour is left out.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Tarboton 1997, Water Resources Research 33, 309-319.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::{dinf_directions, flow_directions}};
/// // A plane that falls twice as fast to the east as to the north.
/// let plane = Grid::from_fn(3, 3, |c| 10.0 + c.row as f32 - 2.0 * c.col as f32);
/// let d8 = flow_directions(&plane, &Silent)?;
/// let angles = dinf_directions(&plane, &d8, &Silent)?;
/// assert!((angles.values()[4] as f64 - 0.5f64.atan()).abs() < 1e-6);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn dinf_directions(surface: &Grid<f32>, d8: &Grid<u8>, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    surface.same_shape(d8)?;
    let cols = surface.cols().max(1);
    let mut angles = vec![f32::NAN; surface.len()];
    angles.par_chunks_mut(cols).enumerate().try_for_each(|(row, out)| {
        if row.is_multiple_of(16) {
            check(monitor)?;
        }
        for (col, angle) in out.iter_mut().enumerate() {
            let index = row * cols + col;
            *angle = match d8.values()[index] {
                DIRECTION_NODATA => f32::NAN,
                OUTLET => DINF_OUTLET,
                code => match steepest_facet(surface, index) {
                    Some(angle) => angle as f32,
                    // Neighbours are numbered clockwise, angles run the other way.
                    None => ((8 - code.trailing_zeros()) % 8) as f32 * FRAC_PI_4 as f32,
                },
            };
        }
        Ok::<(), crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(Grid::from_vec(surface.rows(), surface.cols(), angles))
}

/// The facets counter-clockwise from east: the straight neighbour, the diagonal one (both as places
/// in [`NEIGHBOURS`]), and how angles in the facet turn (Tarboton's table 1).
const FACETS: [(usize, usize, f64, f64); 8] = [
    (0, 7, 0.0, 1.0),
    (6, 7, 1.0, -1.0),
    (6, 5, 1.0, 1.0),
    (4, 5, 2.0, -1.0),
    (4, 3, 2.0, 1.0),
    (2, 3, 3.0, -1.0),
    (2, 1, 3.0, 1.0),
    (0, 1, 4.0, -1.0),
];

fn steepest_facet(surface: &Grid<f32>, index: usize) -> Option<f64> {
    let z = surface.values()[index] as f64;
    let mut around = [f64::NAN; 8];
    for (k, n) in surface.neighbours(index) {
        around[k] = surface.values()[n] as f64;
    }
    let (mut steepest, mut angle) = (0.0, None);
    for (straight, diagonal, quarter, turn) in FACETS {
        let (e1, e2) = (around[straight], around[diagonal]);
        // With cells of edge 1: the fall is only compared.
        let (s1, s2) = (z - e1, e1 - e2);
        let (r, fall) = if s2 <= 0.0 {
            (0.0, s1)
        } else if s2 >= s1 {
            (FRAC_PI_4, (z - e2) / std::f64::consts::SQRT_2)
        } else {
            (s2.atan2(s1), s1.hypot(s2))
        };
        // Beside a missing neighbour nothing compares.
        if !e1.is_nan() && !e2.is_nan() && fall > steepest {
            steepest = fall;
            angle = Some((turn * r + quarter * 2.0 * FRAC_PI_4).rem_euclid(TAU));
        }
    }
    angle
}

/// Angles so near to a neighbour's that all flow goes there, as a share of 45 degrees: below what
/// float32 tells apart, so that no drop is led uphill by a rounded angle.
const NEAR: f64 = 1e-6;

/// Divides flow by angles of steepest fall.
pub(super) struct Angles<'a> {
    pub angles: &'a Grid<f32>,
}

impl Angles<'_> {
    fn share_to(&self, from: usize, k: usize) -> f64 {
        self.shares(from)[k]
    }
}

impl Divide for Angles<'_> {
    fn shares(&self, index: usize) -> Shares {
        let mut shares = [0.0; 8];
        let angle = self.angles.values()[index] as f64;
        if angle >= 0.0 {
            let eighths = angle / FRAC_PI_4;
            let (before, past) = (eighths.floor(), eighths - eighths.floor());
            // Counter-clockwise place to clockwise number.
            let place = |eighth: f64| (16 - eighth as usize) % 8;
            if past < NEAR {
                shares[place(before)] = 1.0;
            } else if past > 1.0 - NEAR {
                shares[place(before + 1.0)] = 1.0;
            } else {
                shares[place(before)] = 1.0 - past;
                shares[place(before + 1.0)] = past;
            }
        }
        shares
    }

    fn inflows(&self, index: usize) -> u8 {
        self.angles.neighbours(index).filter(|&(k, n)| self.share_to(n, (k + 4) % 8) > 0.0).count() as u8
    }
}

/// What lies upstream of each cell by D-infinity, its own not counted: cells, or their weights.
///
/// `angles` come from [`dinf_directions`] on the surface that `d8` belongs to. The flow of a cell is
/// divided between the two neighbours that its angle points between, by nearness of the angle. The
/// result is [`REAL_ACCUMULATION_NODATA`](super::REAL_ACCUMULATION_NODATA) outside the footprint.
/// Nothing is lost: over all outlets, what arrives and their own adds up to the whole.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch),
/// [`Error::TooManyCells`](crate::Error::TooManyCells), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Tarboton 1997, Water Resources Research 33, 309-319.
pub fn dinf_accumulation(
    d8: &Grid<u8>,
    angles: &Grid<f32>,
    weights: Option<&Grid<f32>>,
    monitor: &dyn Monitor,
) -> Result<Grid<f64>> {
    d8.same_shape(angles)?;
    accumulate_divided(d8, &Angles { angles }, weights, monitor)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn angles_of(surface: &Grid<f32>) -> (Grid<u8>, Grid<f32>) {
        let d8 = flow_directions(surface, &Silent).unwrap();
        let angles = dinf_directions(surface, &d8, &Silent).unwrap();
        (d8, angles)
    }

    /// On a plane the direction is that of the plane, wherever it points (Tarboton 1997, section 3:
    /// the facet that holds the direction has the plane's own slope).
    #[test]
    fn a_plane_falls_one_way() {
        for degrees in (0..360).step_by(7) {
            let way = (degrees as f64).to_radians();
            let plane = Grid::from_fn(5, 5, |c| {
                (100.0 - 3.0 * (way.cos() * c.col as f64 - way.sin() * c.row as f64)) as f32
            });
            let (_, angles) = angles_of(&plane);
            let off = (angles.values()[12] as f64 - way).rem_euclid(TAU);
            assert!(off.min(TAU - off) < 1e-4, "{degrees}: {}", angles.values()[12]);
        }
    }

    /// On a cone flow runs straight outwards (Tarboton 1997, the outward cone of figure 5): the error
    /// of the direction stays below what a facet of three points on a circle can tell.
    #[test]
    fn a_cone_falls_outwards() {
        let cone = Grid::from_fn(81, 81, |c| {
            200.0 - ((c.row as f64 - 40.0).powi(2) + (c.col as f64 - 40.0).powi(2)).sqrt() as f32
        });
        let (_, angles) = angles_of(&cone);
        for row in 1..80 {
            for col in 1..80 {
                let (x, y) = (col as f64 - 40.0, 40.0 - row as f64);
                if x.hypot(y) < 12.0 {
                    continue;
                }
                let off = (angles.values()[row * 81 + col] as f64 - y.atan2(x)).rem_euclid(TAU);
                assert!(off.min(TAU - off) < 0.04, "row {row}, column {col}");
            }
        }
    }

    /// A plane that falls to the east-north-east at atan(1/2): half of 45 degrees' tangent. Shares
    /// are by angle, not by slope.
    #[test]
    fn shares_are_by_angle() {
        let plane = Grid::from_fn(3, 5, |c| 10.0 + c.row as f32 - 2.0 * c.col as f32);
        let (_, angles) = angles_of(&plane);
        let shares = Angles { angles: &angles }.shares(7);
        let north_east = 0.5f64.atan() / FRAC_PI_4;
        assert!((shares[7] - north_east).abs() < 1e-6 && (shares[0] - (1.0 - north_east)).abs() < 1e-6);
        assert_eq!(shares.iter().filter(|s| **s > 0.0).count(), 2);
    }

    proptest! {
        #[test]
        fn nothing_is_lost(dem in any_terrain(16), conditioned in any::<bool>()) {
            let surface = if conditioned { fill(&dem, &Silent).unwrap() } else { dem };
            let (d8, angles) = angles_of(&surface);
            let sums = dinf_accumulation(&d8, &angles, None, &Silent).unwrap();
            let (mut out, mut cells) = (0.0, 0.0);
            for i in 0..surface.len() {
                if surface.values()[i].is_nan() {
                    prop_assert_eq!(sums.values()[i], -1.0);
                    continue;
                }
                cells += 1.0;
                prop_assert!(sums.values()[i] >= 0.0);
                if angles.values()[i] == DINF_OUTLET {
                    out += sums.values()[i] + 1.0;
                }
            }
            prop_assert!((out - cells).abs() <= 1e-9 * cells, "{} of {}", out, cells);
        }
    }
}
