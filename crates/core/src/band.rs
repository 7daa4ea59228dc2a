//! Rows of a grid that are worked on by themselves, while others work on the rest.
//!
//! A grid is cut into bands of whole rows. What crosses from band to band is told by the cells of their first and last rows, so
//! that it can be settled without the bands: [`conditioning`](crate::conditioning) and [`routing`](crate::routing) have for each
//! computation a part that looks at one band, a part that settles what all bands told, and a part that finishes one band. The
//! results are those of the whole grid, to the bit.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::{Error, Grid, Result};

/// Values of the cells of a band's first and last row, from the west.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Rim<T> {
    /// of the first row
    pub first: Vec<T>,
    /// of the last row; where the band has one row only, the same again
    pub last: Vec<T>,
}

impl<T: Clone> Rim<T> {
    /// The same value all along.
    pub fn filled(cols: usize, value: T) -> Self {
        Self { first: vec![value.clone(); cols], last: vec![value; cols] }
    }

    /// The first and the last row of a grid.
    ///
    /// # Errors
    /// [`Error::NoData`] where the grid has no row.
    pub fn of(grid: &Grid<T>) -> Result<Self> {
        let cols = grid.cols();
        let last = grid.rows().checked_sub(1).ok_or(Error::NoData)?;
        Ok(Self { first: grid.values()[..cols].to_vec(), last: grid.values()[last * cols..].to_vec() })
    }
}

/// Rows of a grid with some of those beside them.
#[derive(Debug, Clone)]
pub struct Band<T> {
    grid: Grid<T>,
    above: usize,
    below: usize,
}

impl<T: Clone> Band<T> {
    /// A band of whole rows: `above` and `below` hold the rows beside it, none where the grid ends, of as many columns.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`], [`Error::NoData`] where the band has no cell.
    pub fn new(above: &[T], band: &Grid<T>, below: &[T]) -> Result<Self> {
        let cols = band.cols();
        if band.is_empty() {
            return Err(Error::NoData);
        }
        for beside in [above, below] {
            if !beside.len().is_multiple_of(cols) {
                return Err(not_as_long(cols, beside.len()));
            }
        }
        let (above_rows, below_rows) = (above.len() / cols, below.len() / cols);
        let mut values = Vec::with_capacity(above.len() + band.len() + below.len());
        values.extend_from_slice(above);
        values.extend_from_slice(band.values());
        values.extend_from_slice(below);
        let grid = Grid::from_vec(above_rows + band.rows() + below_rows, cols, values);
        Ok(Self { grid, above: above_rows, below: below_rows })
    }

    /// Of some cells of the whole grid those that lie in the band or the rows beside it, by their numbers from the first of these rows on:
    /// `cells` are numbers in row order of the whole grid, ascending, and `first` is the band's first row there.
    pub fn numbers_of(&self, cells: &[u32], first: usize) -> Vec<u32> {
        let cols = self.grid.cols();
        let begin = (first - self.above) * cols;
        let within = |at: usize| cells.partition_point(|&cell| (cell as usize) < at);
        cells[within(begin)..within(begin + self.grid.len())].iter().map(|&c| c - begin as u32).collect()
    }

    /// The band's rows and those beside it.
    pub(crate) fn grid(&self) -> &Grid<T> {
        &self.grid
    }
    /// Which rows of [`Self::grid`] are the band's own.
    pub(crate) fn own(&self) -> Range<usize> {
        self.above..self.grid.rows() - self.below
    }
    /// How many rows lie above the band, and below it.
    pub(crate) fn beside(&self) -> (usize, usize) {
        (self.above, self.below)
    }
}

/// A row that is not as long as those of its band.
pub(crate) fn not_as_long(cols: usize, other: usize) -> Error {
    Error::ShapeMismatch { a_rows: 1, a_cols: cols, b_rows: 1, b_cols: other }
}

/// Cuts `rows` rows into bands of `most` rows at most, as equal as can be and never of a single row, if there are two or more.
///
/// ```
/// use bothros_core::cut_into_bands;
/// assert_eq!(cut_into_bands(10, 4), [0..4, 4..7, 7..10]);
/// assert_eq!(cut_into_bands(3, 2), [0..3]);
/// ```
pub fn cut_into_bands(rows: usize, most: usize) -> Vec<Range<usize>> {
    let count = rows.div_ceil(most.max(1)).clamp(1, (rows / 2).max(1));
    let (each, longer) = (rows / count, rows % count);
    let mut next = 0;
    let band = |number: usize| {
        let from = next;
        next += each + usize::from(number < longer);
        from..next
    };
    (0..count).map(band).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_follow_each_other(rows in 1usize..500, most in 0usize..60) {
            let bands = cut_into_bands(rows, most);
            prop_assert_eq!((bands[0].start, bands[bands.len() - 1].end), (0, rows));
            prop_assert!(bands.windows(2).all(|pair| pair[0].end == pair[1].start));
            prop_assert!(bands.iter().all(|band| band.len() <= most.max(3) && (band.len() > 1 || rows == 1)));
        }
    }

    #[test]
    fn rows_beside_a_band_must_be_as_long() {
        let band = Grid::filled(2, 3, 1.0);
        assert!(matches!(Band::new(&[1.0; 2], &band, &[]), Err(Error::ShapeMismatch { .. })));
        let band = Band::new(&[1.0; 6], &band, &[1.0; 3]).unwrap();
        assert_eq!(band.own(), 2..4);
        assert_eq!(band.numbers_of(&[11, 12, 20, 26, 27], 6), [0, 8, 14], "rows 4 to 8 of three columns");
    }
}
