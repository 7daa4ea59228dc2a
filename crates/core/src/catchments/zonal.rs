//! Zonal figures: what a raster holds inside a catchment.

use rayon::prelude::*;

use super::Catchment;
use crate::{Cell, Grid, Result};

/// Figures of a raster inside a catchment.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Zonal {
    /// cells with a value
    pub cells: u64,
    /// cells without one
    pub nodata: u64,
    /// sum of the values
    pub sum: f64,
    /// least value
    pub least: f64,
    /// greatest value
    pub most: f64,
    /// cells whose value is above 0
    pub above: u64,
    /// cells whose value is below 0
    pub below: u64,
}

impl Zonal {
    /// Mean of the values; none where there are none.
    pub fn mean(&self) -> Option<f64> {
        (self.cells > 0).then(|| self.sum / self.cells as f64)
    }

    fn with(self, other: Self) -> Self {
        if other.cells == 0 {
            return Self { nodata: self.nodata + other.nodata, ..self };
        }
        if self.cells == 0 {
            return Self { nodata: self.nodata + other.nodata, ..other };
        }
        Self {
            cells: self.cells + other.cells,
            nodata: self.nodata + other.nodata,
            sum: self.sum + other.sum,
            least: self.least.min(other.least),
            most: self.most.max(other.most),
            above: self.above + other.above,
            below: self.below + other.below,
        }
    }
}

/// Figures of `values`, which are cut to the extent of the catchment's mask; `NaN` is nodata.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch) where they are not.
///
/// ```
/// use bothros_core::catchments::{delineate, zonal};
/// use bothros_core::{Cell, Grid};
/// let directions = Grid::from_vec(1, 4, vec![1, 1, 0, 0]);
/// let catchment = delineate(&directions, Cell { row: 0, col: 2 })?;
/// let found = zonal(&Grid::from_vec(1, 3, vec![2.0, f32::NAN, -1.0]), &catchment)?;
/// assert_eq!((found.cells, found.nodata, found.mean()), (2, 1, Some(0.5)));
/// assert_eq!((found.least, found.most, found.above, found.below), (-1.0, 2.0, 1, 1));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn zonal(values: &Grid<f32>, catchment: &Catchment) -> Result<Zonal> {
    values.same_shape(&catchment.mask)?;
    let of_row = |(values, inside): (&[f32], &[bool])| {
        values.iter().zip(inside).filter(|(_, inside)| **inside).fold(Zonal::default(), |all, (&v, _)| {
            let v = f64::from(v);
            all.with(match v.is_nan() {
                true => Zonal { nodata: 1, ..Zonal::default() },
                false => Zonal {
                    cells: 1,
                    nodata: 0,
                    sum: v,
                    least: v,
                    most: v,
                    above: u64::from(v > 0.0),
                    below: u64::from(v < 0.0),
                },
            })
        })
    };
    let cols = values.cols().max(1);
    let rows: Vec<Zonal> =
        values.values().par_chunks(cols).zip(catchment.mask.values().par_chunks(cols)).map(of_row).collect();
    Ok(rows.into_iter().fold(Zonal::default(), Zonal::with))
}

/// Cells of a catchment that a list of cells of the whole grid, each once, has too.
pub fn cells_shared(catchment: &Catchment, cells: &[Cell]) -> u64 {
    cells.iter().filter(|&&cell| catchment.contains(cell)).count() as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Error;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn figures_are_those_of_a_plain_list(seed in prop::collection::vec((any::<bool>(), -5i32..6), 1..80)) {
            let n = seed.len();
            // One in eleven has no value.
            let value = |v: i32| if v == 5 { f32::NAN } else { v as f32 };
            let values = Grid::from_vec(1, n, seed.iter().map(|&(_, v)| value(v)).collect());
            let mask = Grid::from_vec(1, n, seed.iter().map(|s| s.0).collect());
            let outlet = Cell { row: 0, col: 0 };
            let catchment = Catchment { outlet, cells: 0, edge_cells: 0, row: 0, col: 0, mask };
            let found = zonal(&values, &catchment).unwrap();
            let inside: Vec<f64> = seed.iter().filter(|s| s.0 && s.1 != 5).map(|s| f64::from(s.1)).collect();
            prop_assert_eq!(found.cells as usize, inside.len());
            prop_assert_eq!(found.nodata as usize, seed.iter().filter(|s| s.0 && s.1 == 5).count());
            prop_assert_eq!(found.mean(), (!inside.is_empty()).then(|| inside.iter().sum::<f64>() / inside.len() as f64));
            if !inside.is_empty() {
                prop_assert_eq!(found.least, inside.iter().copied().fold(f64::INFINITY, f64::min));
                prop_assert_eq!(found.most, inside.iter().copied().fold(f64::NEG_INFINITY, f64::max));
            }
            prop_assert_eq!(found.above as usize, inside.iter().filter(|&&v| v > 0.0).count());
        }
    }

    #[test]
    fn another_extent_is_refused() {
        let catchment = Catchment {
            outlet: Cell { row: 0, col: 0 },
            cells: 1,
            edge_cells: 0,
            row: 0,
            col: 0,
            mask: Grid::filled(1, 1, true),
        };
        assert!(matches!(zonal(&Grid::filled(1, 2, 0.0), &catchment), Err(Error::ShapeMismatch { .. })));
        assert_eq!(cells_shared(&catchment, &[Cell { row: 0, col: 0 }, Cell { row: 3, col: 0 }]), 1);
    }
}
