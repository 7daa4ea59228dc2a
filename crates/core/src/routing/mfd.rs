//! MFD: flow divided among all lower neighbours by slope.

use rayon::prelude::*;

use super::spread::{Divide, Shares, accumulate_divided};
use super::{DIRECTION_NODATA, OUTLET};
use crate::monitor::check;
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// The exponent of Freeman 1991.
pub const MFD_EXPONENT: f64 = 1.1;

/// Divides flow by slopes to a power.
pub(super) struct Slopes<'a> {
    pub surface: &'a Grid<f32>,
    pub d8: &'a Grid<u8>,
    pub exponent: f64,
}

impl Slopes<'_> {
    /// Whether a cell has a lower neighbour to share its flow with; an outlet has none.
    fn falls(&self, index: usize) -> bool {
        let z = self.surface.values()[index];
        self.d8.values()[index] != OUTLET
            && self.surface.neighbours(index).any(|(_, n)| self.surface.values()[n] < z)
    }
}

impl Divide for Slopes<'_> {
    fn shares(&self, index: usize) -> Shares {
        let z = self.surface.values()[index] as f64;
        let mut shares = [0.0; 8];
        let code = self.d8.values()[index];
        if code == OUTLET || code == DIRECTION_NODATA {
            return shares;
        }
        let mut steepest = 0.0f64;
        for (k, n) in self.surface.neighbours(index) {
            let fall = (z - self.surface.values()[n] as f64) / NEIGHBOURS[k].distance;
            // Nodata does not compare.
            if fall > 0.0 {
                shares[k] = fall;
                steepest = steepest.max(fall);
            }
        }
        if steepest == 0.0 {
            shares[code.trailing_zeros() as usize] = 1.0;
            return shares;
        }
        // Falls are compared with the steepest, so that no power leaves what numbers can hold; a
        // share that is too small to be told from nothing still is one.
        let mut sum = 0.0;
        for share in shares.iter_mut().filter(|s| **s > 0.0) {
            *share = (*share / steepest).powf(self.exponent).max(f64::MIN_POSITIVE);
            sum += *share;
        }
        shares.map(|share| share / sum)
    }

    fn inflows(&self, index: usize) -> u8 {
        let z = self.surface.values()[index];
        let mut count = 0;
        for (k, n) in self.surface.neighbours(index) {
            let code = self.d8.values()[n];
            if code == DIRECTION_NODATA || code == OUTLET {
                continue;
            }
            let above = self.surface.values()[n] > z;
            // A flat passes on by D8 alone.
            let by_flat = !above && code == NEIGHBOURS[(k + 4) % 8].code && !self.falls(n);
            count += u8::from(above || by_flat);
        }
        count
    }
}

/// What lies upstream of each cell by MFD, its own not counted: cells, or their weights.
///
/// The flow of a cell is divided among all lower neighbours in proportion to slope (drop over
/// distance) to the power of `exponent` ([`MFD_EXPONENT`] is Freeman's; the larger it is, the more
/// the steepest takes). `surface` is the routing surface, metres, and `d8` its D8 directions: a cell
/// of a flat passes all on by D8, and a cell that D8 calls an outlet keeps its flow. The result is
/// [`REAL_ACCUMULATION_NODATA`](super::REAL_ACCUMULATION_NODATA) outside the footprint.
///
/// On hollows and in valleys flow keeps together; on hillslopes it spreads, and streams drawn from
/// it are several cells wide there.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch),
/// [`Error::TooManyCells`](crate::Error::TooManyCells), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Freeman 1991, Computers & Geosciences 17, 413-422; Quinn et al. 1991, Hydrological Processes 5,
/// 59-79.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::{flow_directions, mfd_accumulation}};
/// // A plane that falls to the south: a third lies straight below, and the diagonals share.
/// let plane = Grid::from_fn(2, 3, |c| 9.0 - c.row as f32);
/// let d8 = flow_directions(&plane, &Silent)?;
/// let sums = mfd_accumulation(&plane, &d8, 1.0, None, &Silent)?;
/// assert!((sums.values()[3..6].iter().sum::<f64>() - 3.0).abs() < 1e-12);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn mfd_accumulation(
    surface: &Grid<f32>,
    d8: &Grid<u8>,
    exponent: f64,
    weights: Option<&Grid<f32>>,
    monitor: &dyn Monitor,
) -> Result<Grid<f64>> {
    surface.same_shape(d8)?;
    accumulate_divided(d8, &Slopes { surface, d8, exponent }, weights, monitor)
}

/// What of each cell's flow goes to one of its neighbours by MFD, the neighbour given by its place in [`NEIGHBOURS`]: from 0 to 1, `NaN` outside the footprint; 0 at outlets,
/// whose flow stays. `surface`, `d8` and `exponent` as in [`mfd_accumulation`]. The shares of all eight add up to 1 but at outlets.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// As [`mfd_accumulation`].
pub fn mfd_shares(
    surface: &Grid<f32>,
    d8: &Grid<u8>,
    exponent: f64,
    neighbour: usize,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    surface.same_shape(d8)?;
    let divide = Slopes { surface, d8, exponent };
    let cols = surface.cols().max(1);
    let mut out = vec![f32::NAN; surface.len()];
    out.par_chunks_mut(cols).enumerate().try_for_each(|(row, out)| {
        if row.is_multiple_of(16) {
            check(monitor)?;
        }
        for (col, share) in out.iter_mut().enumerate() {
            let index = row * cols + col;
            if d8.values()[index] != DIRECTION_NODATA {
                *share = divide.shares(index)[neighbour] as f32;
            }
        }
        Ok::<(), crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(Grid::from_vec(surface.rows(), surface.cols(), out))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    /// On a plane that falls straight to the south, slopes are 1 below and 1/sqrt(2) on the two
    /// diagonals: with exponent p the shares are 1 and 2^(-p/2), scaled. (Freeman 1991, equation.)
    #[test]
    fn shares_on_a_plane() {
        let plane = Grid::from_fn(5, 5, |c| 50.0 - c.row as f32);
        let d8 = flow_directions(&plane, &Silent).unwrap();
        for exponent in [1.0, MFD_EXPONENT, 4.0] {
            let shares = Slopes { surface: &plane, d8: &d8, exponent }.shares(12);
            let diagonal = 2f64.powf(-exponent / 2.0);
            let whole = 1.0 + 2.0 * diagonal;
            assert!((shares[2] - 1.0 / whole).abs() < 1e-12);
            assert!((shares[1] - diagonal / whole).abs() < 1e-12 && (shares[3] - shares[1]).abs() < 1e-15);
        }
    }

    /// Far from the sides of a wide plane every cell of a row carries the same, and that is the
    /// number of rows above it.
    #[test]
    fn a_wide_plane_carries_evenly() {
        let plane = Grid::from_fn(20, 81, |c| 50.0 - c.row as f32);
        let d8 = flow_directions(&plane, &Silent).unwrap();
        let sums = mfd_accumulation(&plane, &d8, MFD_EXPONENT, None, &Silent).unwrap();
        for row in 0..19 {
            assert!((sums.values()[row * 81 + 40] - row as f64).abs() < 1e-9, "row {row}");
        }
    }

    proptest! {
        /// The shares that are handed out add up to all flow, and are those that flow was accumulated by.
        #[test]
        fn shares_of_all_neighbours_are_all_flow(dem in any_terrain(12)) {
            let surface = fill(&dem, &Silent).unwrap();
            let d8 = flow_directions(&surface, &Silent).unwrap();
            let all: Vec<_> =
                (0..8).map(|k| mfd_shares(&surface, &d8, MFD_EXPONENT, k, &Silent).unwrap()).collect();
            let sums = mfd_accumulation(&surface, &d8, MFD_EXPONENT, None, &Silent).unwrap();
            for at in 0..surface.len() {
                let of = |k: usize, at: usize| f64::from(all[k].values()[at]);
                let whole: f64 = (0..8).map(|k| of(k, at)).sum();
                match d8.values()[at] {
                    DIRECTION_NODATA => prop_assert!(whole.is_nan()),
                    OUTLET => prop_assert_eq!(whole, 0.0),
                    _ => {
                        prop_assert!((whole - 1.0).abs() < 1e-6);
                        let into: f64 = surface
                            .neighbours(at)
                            .filter(|&(_, n)| d8.values()[n] != DIRECTION_NODATA)
                            .map(|(k, n)| of((k + 4) % 8, n) * (sums.values()[n] + 1.0))
                            .sum();
                        prop_assert!((into - sums.values()[at]).abs() < 1e-3, "{} {}", into, sums.values()[at]);
                    }
                }
            }
        }
    }

    #[test]
    fn extremes_of_float32_are_shared() {
        let z = [f32::MAX, f32::MAX, f32::MAX, f32::MAX, 1.0, f32::MIN, f32::MAX, 0.999_999_9, f32::MAX];
        let surface = Grid::from_vec(3, 3, z.to_vec());
        let d8 = flow_directions(&surface, &Silent).unwrap();
        let sums = mfd_accumulation(&surface, &d8, 20.0, None, &Silent).unwrap();
        let out: f64 = (0..9).filter(|&i| d8.values()[i] == OUTLET).map(|i| sums.values()[i] + 1.0).sum();
        assert!((out - 9.0).abs() < 1e-9);
    }

    proptest! {
        #[test]
        fn nothing_is_lost(dem in any_terrain(16), conditioned in any::<bool>(), exponent in 0.5f64..10.0) {
            let surface = if conditioned { fill(&dem, &Silent).unwrap() } else { dem };
            let d8 = flow_directions(&surface, &Silent).unwrap();
            let sums = mfd_accumulation(&surface, &d8, exponent, None, &Silent).unwrap();
            let (mut out, mut cells) = (0.0, 0.0);
            for i in (0..surface.len()).filter(|&i| !surface.values()[i].is_nan()) {
                cells += 1.0;
                if d8.values()[i] == OUTLET {
                    out += sums.values()[i] + 1.0;
                }
            }
            prop_assert!((out - cells).abs() <= 1e-9 * cells, "{} of {}", out, cells);
        }
    }
}
