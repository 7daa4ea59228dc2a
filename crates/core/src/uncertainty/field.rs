//! Random fields with a standard deviation and a correlation length.

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::SeedableRng;
use rand_distr::{Distribution, StandardNormal};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::{Error, Frame, Grid, Result};

/// The vertical error of a DEM: normal, alike everywhere, and like that of its neighbours.
///
/// The correlation between two places at a distance `d` is `exp(-(d / correlation_m)²)`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct DemError {
    /// standard deviation, metres
    pub sd_m: f64,
    /// distance at which correlation has fallen to 1/e, metres; below the width of a cell errors of neighbours have nothing in common
    pub correlation_m: f64,
}

/// Beyond so many standard deviations of the kernel nothing is added: the weight there is below a thousandth.
const REACH: f64 = 3.8;

/// Weights along one axis: random numbers stand `step` cells apart, or `each` to a cell, and a cell takes those around it.
struct Axis {
    step: usize,
    each: usize,
    /// for each place between two numbers the weights, their squares adding up to 1
    weights: Vec<Vec<f32>>,
    /// numbers along the axis
    count: usize,
}

impl Axis {
    /// For `cells` cells and a kernel of standard deviation `sd` cells.
    fn new(cells: usize, sd: f64) -> Self {
        // As far apart as the kernel is wide at most: the field is then as even as if a number stood in every cell.
        let (step, each) = ((sd.floor() as usize).max(1), (1.0 / sd).ceil() as usize);
        let apart = step as f64 / each as f64;
        let beside = (REACH * sd / apart).ceil() as usize;
        let weights = (0..step).map(|phase| {
            let weight = |k: usize| {
                let away = phase as f64 - (k as f64 - beside as f64) * apart;
                (-0.5 * (away / sd).powi(2)).exp()
            };
            let all: Vec<f64> = (0..=2 * beside + 1).map(weight).collect();
            let norm = all.iter().map(|w| w * w).sum::<f64>().sqrt();
            all.iter().map(|w| (w / norm) as f32).collect()
        });
        let count = cells.div_ceil(step) * each + 2 * beside + 2;
        Self { step, each, weights: weights.collect(), count }
    }

    /// The first number that a cell takes, and the weights from there on.
    fn of(&self, cell: usize) -> (usize, &[f32]) {
        (cell / self.step * self.each, &self.weights[cell % self.step])
    }
}

impl DemError {
    /// Checks it against a DEM with so many metres from its lowest to its highest elevation.
    ///
    /// # Errors
    /// [`Error::ErrorOfNothing`], [`Error::ErrorTooLarge`], [`Error::CorrelationTooLong`].
    pub fn check(&self, relief_m: f64, frame: &Frame) -> Result<()> {
        if !(self.sd_m.is_finite() && self.sd_m > 0.0) {
            return Err(Error::ErrorOfNothing);
        }
        if self.sd_m >= relief_m {
            return Err(Error::ErrorTooLarge { sd_m: self.sd_m, relief_m });
        }
        let side_m = frame.rows.min(frame.cols) as f64 * frame.cell_m();
        if !(self.correlation_m >= 0.0 && self.correlation_m <= side_m) {
            return Err(Error::CorrelationTooLong { correlation_m: self.correlation_m, side_m });
        }
        Ok(())
    }

    /// A DEM with another error of this kind added to its own: number `number` of those that belong to `seed`, which is the same on every machine and however
    /// many threads there are. Elevations in metres; nodata stays.
    ///
    /// The field is a moving average of independent normal numbers with a Gaussian kernel of standard deviation `correlation_m / 2`, whose correlation is
    /// that of [`DemError`].
    ///
    /// # Source
    /// Random fields added to a DEM: Fisher and Tate 2006, Progress in Physical Geography 30; Wechsler and Kroll 2006, Photogrammetric Engineering and
    /// Remote Sensing 72. That numbers stand as far apart as the kernel is wide is ours: the variance is kept to the digit, the correlation to a thousandth.
    ///
    /// ```
    /// use bothros_core::{Frame, Grid, uncertainty::DemError};
    /// let frame = Frame { rows: 60, cols: 80, left: 0.0, top: 600.0, cell_size: 10.0, unit_m: 1.0 };
    /// let dem = Grid::filled(60, 80, 100.0);
    /// let error = DemError { sd_m: 0.5, correlation_m: 50.0 };
    /// let one = error.realise(&dem, &frame, 7, 0);
    /// assert_eq!(one, error.realise(&dem, &frame, 7, 0), "from its seed");
    /// assert_ne!(one, error.realise(&dem, &frame, 7, 1));
    /// ```
    pub fn realise(&self, dem: &Grid<f32>, frame: &Frame, seed: u64, number: u64) -> Grid<f32> {
        let (rows, cols) = (dem.rows(), dem.cols());
        let sd = self.correlation_m / 2.0 / frame.cell_m();
        // Errors that end within a cell are independent.
        let white = sd < 0.5;
        let kernel = |cells| Axis::new(cells, if white { 0.5 } else { sd });
        let (down, across) = (kernel(rows), kernel(cols));
        let numbers = |row: usize, count: usize| -> Vec<f32> {
            // Each row of numbers is a stream of its own, whichever thread draws it.
            let mut random = ChaCha8Rng::seed_from_u64(seed ^ number.wrapping_mul(0x9E37_79B9_7F4A_7C15));
            random.set_stream(row as u64);
            StandardNormal.sample_iter(&mut random).take(count).collect()
        };
        let sd_m = self.sd_m as f32;
        let mut out = dem.clone();
        if white {
            out.values_mut().par_chunks_mut(cols.max(1)).enumerate().for_each(|(row, cells)| {
                for (z, n) in cells.iter_mut().zip(numbers(row, cols)) {
                    *z += sd_m * n;
                }
            });
            return out;
        }
        // Along rows first, for rows of numbers alone.
        let along: Vec<Vec<f32>> = (0..down.count)
            .into_par_iter()
            .map(|row| {
                let drawn = numbers(row, across.count);
                let at = |col| {
                    let (first, weights) = across.of(col);
                    weights.iter().zip(&drawn[first..]).map(|(w, n)| w * n).sum()
                };
                (0..cols).map(at).collect()
            })
            .collect();
        out.values_mut().par_chunks_mut(cols.max(1)).enumerate().for_each(|(row, cells)| {
            let (first, weights) = down.of(row);
            let mut error = vec![0f32; cols];
            for (w, from) in weights.iter().zip(&along[first..]) {
                error.iter_mut().zip(from).for_each(|(e, n)| *e += w * n);
            }
            cells.iter_mut().zip(error).for_each(|(z, e)| *z += sd_m * e);
        });
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 }
    }

    /// Errors of so many realisations on a plain at 0 m.
    fn errors(of: DemError, realisations: u64) -> Vec<Grid<f32>> {
        let dem = Grid::filled(90, 110, 0.0);
        (0..realisations).map(|n| of.realise(&dem, &frame(90, 110), 11, n)).collect()
    }

    /// Correlation of cells so many columns and rows apart, over all realisations.
    fn correlation(all: &[Grid<f32>], sd_m: f64, (rows, cols): (usize, usize)) -> f64 {
        let (mut sum, mut count) = (0.0, 0.0);
        for grid in all {
            for row in 0..grid.rows() - rows {
                for col in 0..grid.cols() - cols {
                    let at = |r: usize, c: usize| f64::from(grid.values()[r * grid.cols() + c]);
                    sum += at(row, col) * at(row + rows, col + cols);
                    count += 1.0;
                }
            }
        }
        sum / count / (sd_m * sd_m)
    }

    #[test]
    fn deviation_and_correlation_are_those_that_were_asked_for() {
        for length in [10.0, 23.0, 40.0, 75.0, 130.0] {
            let all = errors(DemError { sd_m: 2.0, correlation_m: length }, 200);
            for apart in [(0, 0), (0, 1), (1, 0), (0, 4), (4, 0), (3, 4), (0, 10)] {
                let distance = 10.0 * (apart.0 as f64).hypot(apart.1 as f64);
                let expected = (-(distance / length).powi(2)).exp();
                let found = correlation(&all, 2.0, apart);
                assert!((found - expected).abs() < 0.035, "{length} m, {apart:?}: {found} for {expected}");
            }
        }
    }

    #[test]
    fn every_cell_varies_alike() {
        // The variance of a cell does not depend on where it stands between random numbers.
        let sd_m = 3.0;
        let all = errors(DemError { sd_m, correlation_m: 130.0 }, 2000);
        let of_column = |col: usize| {
            let values = all
                .iter()
                .flat_map(|g| (0..g.rows()).map(move |r| f64::from(g.values()[r * g.cols() + col])));
            (values.map(|v| v * v).sum::<f64>() / (all.len() * 90) as f64).sqrt()
        };
        for col in [0, 1, 3, 5, 6, 50, 109] {
            let found = of_column(col);
            assert!((found / sd_m - 1.0).abs() < 0.05, "column {col}: {found}");
        }
    }

    #[test]
    fn an_error_within_cells_is_independent_and_nodata_stays() {
        let all = errors(DemError { sd_m: 1.0, correlation_m: 0.0 }, 50);
        assert!((correlation(&all, 1.0, (0, 0)) - 1.0).abs() < 0.02);
        assert!(correlation(&all, 1.0, (0, 1)).abs() < 0.01);
        let mut dem = Grid::filled(3, 3, 5.0);
        dem.values_mut()[4] = f32::NAN;
        let out = DemError { sd_m: 1.0, correlation_m: 15.0 }.realise(&dem, &frame(3, 3), 1, 0);
        assert!(out.values()[4].is_nan() && out.values().iter().filter(|z| z.is_nan()).count() == 1);
    }

    #[test]
    fn what_cannot_be_an_error_is_refused() {
        let check = |sd_m, correlation_m| DemError { sd_m, correlation_m }.check(19.0, &frame(20, 30));
        assert_eq!(check(0.5, 50.0), Ok(()));
        assert_eq!(check(0.0, 50.0), Err(Error::ErrorOfNothing));
        assert_eq!(check(f64::NAN, 50.0), Err(Error::ErrorOfNothing));
        assert_eq!(check(19.0, 50.0), Err(Error::ErrorTooLarge { sd_m: 19.0, relief_m: 19.0 }));
        assert_eq!(check(0.5, 201.0), Err(Error::CorrelationTooLong { correlation_m: 201.0, side_m: 200.0 }));
    }
}
