//! Divided flow by bands of rows: each passes on what it can by itself, and one goes on with all.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::dinf::{Angles, dinf_directions};
use super::mfd::Slopes;
use super::spread::{Begun, DIVIDED_ROWS, begin, pass_on};
use crate::{Band, Error, Grid, Monitor, Part, Result};

/// How flow is divided.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Division {
    /// between the two neighbours on either side of the steepest fall
    DInfinity,
    /// among all lower neighbours, by slope to the power of an exponent
    Mfd {
        /// the larger it is, the more the steepest takes
        exponent: f64,
    },
}

/// Divided flow of some rows that has been passed on as far as no stretch of [`DIVIDED_ROWS`] rows needs anything of another.
#[derive(Debug, Clone, PartialEq)]
pub struct Divided {
    /// angles of steepest fall as [`dinf_directions`] gives them, where flow is divided by them
    pub angles: Option<Grid<f32>>,
    /// what came to each cell so far, its own not counted: cells
    pub sums: Grid<f64>,
    /// from how many cells more will come; 255 where all was passed on
    pub waiting: Grid<u8>,
    /// cells of which some water leaves their stretch, by number in these rows, in the order in which they were met
    pub leaving: Vec<u32>,
}

impl Divided {
    /// Divides the flow of a band that begins at a multiple of [`DIVIDED_ROWS`] rows of the grid. `surface` is the routing surface,
    /// metres, and `directions` its D8 codes, each with two rows beside the band wherever the grid goes on.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`], [`Error::Cancelled`].
    ///
    /// # Source
    /// As [`dinf_accumulation`](super::dinf_accumulation) and [`mfd_accumulation`](super::mfd_accumulation).
    pub fn begin(
        division: Division,
        surface: &Band<f32>,
        directions: &Band<u8>,
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        Self::in_stretches(division, surface, directions, DIVIDED_ROWS, monitor)
    }

    fn in_stretches(
        division: Division,
        surface: &Band<f32>,
        directions: &Band<u8>,
        each: usize,
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        let (grid, d8, own) = (surface.grid(), directions.grid(), surface.own());
        grid.same_shape(d8)?;
        let rows = (d8, own.clone(), each);
        let (angles, begun) = match division {
            Division::DInfinity => {
                let angles = dinf_directions(grid, d8, &Part::new(monitor, 0.0, 0.4))?;
                let rule = Angles { angles: &angles };
                let begun = begin(rows, &rule, None, &Part::new(monitor, 0.4, 1.0))?;
                (Some(rows_of(angles, own.clone())), begun)
            }
            Division::Mfd { exponent } => {
                (None, begin(rows, &Slopes { surface: grid, d8, exponent }, None, monitor)?)
            }
        };
        let of = (own.len(), grid.cols());
        Ok(Self {
            angles,
            sums: Grid::from_vec(of.0, of.1, begun.sums),
            waiting: Grid::from_vec(of.0, of.1, begun.waiting),
            leaving: begun.leaving,
        })
    }

    /// Goes on with what all bands of a grid began, put together in their order, with the numbers in `leaving` those of the grid: what lies
    /// upstream of each cell, as [`dinf_accumulation`](super::dinf_accumulation) and
    /// [`mfd_accumulation`](super::mfd_accumulation) give it without weights, to the bit; and the angles.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`], [`Error::NoData`] where angles are missing, [`Error::Cancelled`].
    pub fn accumulate(
        self,
        division: Division,
        surface: &Grid<f32>,
        directions: &Grid<u8>,
        monitor: &dyn Monitor,
    ) -> Result<(Grid<f64>, Option<Grid<f32>>)> {
        self.in_stretches_of(DIVIDED_ROWS, division, surface, directions, monitor)
    }

    fn in_stretches_of(
        self,
        each: usize,
        division: Division,
        surface: &Grid<f32>,
        directions: &Grid<u8>,
        monitor: &dyn Monitor,
    ) -> Result<(Grid<f64>, Option<Grid<f32>>)> {
        directions.same_shape(surface)?;
        directions.same_shape(&self.sums)?;
        directions.same_shape(&self.waiting)?;
        let begun =
            Begun { sums: self.sums.into_vec(), waiting: self.waiting.into_vec(), leaving: self.leaving };
        let on = (directions, each);
        let sums = match division {
            Division::DInfinity => {
                let angles = self.angles.as_ref().ok_or(Error::NoData)?;
                directions.same_shape(angles)?;
                pass_on(on, &Angles { angles }, None, begun, monitor)?
            }
            Division::Mfd { exponent } => {
                pass_on(on, &Slopes { surface, d8: directions, exponent }, None, begun, monitor)?
            }
        };
        Ok((sums, self.angles))
    }
}

fn rows_of(grid: Grid<f32>, rows: Range<usize>) -> Grid<f32> {
    let cols = grid.cols();
    let mut values = grid.into_vec();
    values.truncate(rows.end * cols);
    values.drain(..rows.start * cols);
    Grid::from_vec(rows.len(), cols, values)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::{any_terrain, in_bands};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_are_divided_as_the_whole(
            dem in any_terrain(24),
            (each, stretches) in (1usize..6, 1usize..4),
            filled in any::<bool>(),
            exponent in proptest::option::of(0.5f64..4.0),
        ) {
            let surface = if filled { fill(&dem, &Silent).unwrap() } else { dem };
            let d8 = flow_directions(&surface, &Silent).unwrap();
            let division = exponent.map_or(Division::DInfinity, |exponent| Division::Mfd { exponent });
            let (rows, cols, most) = (surface.rows(), surface.cols(), each * stretches);
            let divided = |cuts: &[Range<usize>]| {
                let bands = in_bands(&surface, cuts, 2).into_iter().zip(in_bands(&d8, cuts, 2));
                let mut all = Divided { angles: None, sums: Grid::filled(0, cols, 0.0), waiting: Grid::filled(0, cols, 0), leaving: Vec::new() };
                let (mut angles, mut sums, mut waiting) = (Vec::new(), Vec::new(), Vec::new());
                for ((surface, codes), own) in bands.zip(cuts) {
                    let band = Divided::in_stretches(division, &surface, &codes, each, &Silent).unwrap();
                    angles.extend(band.angles.map(Grid::into_vec).unwrap_or_default());
                    sums.extend(band.sums.into_vec());
                    waiting.extend(band.waiting.into_vec());
                    all.leaving.extend(band.leaving.iter().map(|at| at + (own.start * cols) as u32));
                }
                all.angles = exponent.is_none().then(|| Grid::from_vec(rows, cols, angles));
                (all.sums, all.waiting) = (Grid::from_vec(rows, cols, sums), Grid::from_vec(rows, cols, waiting));
                all.in_stretches_of(each, division, &surface, &d8, &Silent).unwrap()
            };
            let cuts: Vec<_> = (0..rows).step_by(most).map(|from| from..(from + most).min(rows)).collect();
            let (sums, angles) = divided(&cuts);
            let (whole, whole_angles) = divided(&crate::cut_into_bands(rows, rows));
            let bits = |sums: &Grid<f64>| sums.values().iter().map(|sum| sum.to_bits()).collect::<Vec<_>>();
            prop_assert_eq!(bits(&sums), bits(&whole));
            let bits = |angles: &Option<Grid<f32>>| angles.iter().flat_map(|a| a.values()).map(|a| a.to_bits()).collect::<Vec<_>>();
            prop_assert_eq!(bits(&angles), bits(&whole_angles));
            // These grids are lower than a stretch.
            let alone = match division {
                Division::DInfinity => crate::routing::dinf_accumulation(&d8, &angles.unwrap(), None, &Silent),
                Division::Mfd { exponent } => crate::routing::mfd_accumulation(&surface, &d8, exponent, None, &Silent),
            };
            for (one, other) in alone.unwrap().values().iter().zip(whole.values()) {
                prop_assert!((one - other).abs() <= 1e-9 * one.abs());
            }
        }
    }
}
