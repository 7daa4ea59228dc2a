//! Zonal figures: what a raster holds inside a catchment, or inside each of many.

use std::collections::{BTreeMap, BTreeSet};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::Catchment;
use crate::{Cell, Grid, Result};

/// What the values of a raster are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Holds {
    /// measured on a scale, such as rain or a curve number
    Values,
    /// codes of classes, whole numbers, such as land cover
    Classes,
}

/// Classes that a raster may have: more are no classes.
pub const MOST_CLASSES: usize = 1000;

/// Why values are no codes of classes; nothing where they are: a value that is no whole number, or too many different ones.
///
/// ```
/// use bothros_core::{Grid, catchments::no_classes};
/// assert_eq!(no_classes(&Grid::from_vec(1, 3, vec![11.0, 42.0, f32::NAN])), None);
/// assert!(no_classes(&Grid::from_vec(1, 1, vec![42.5])).is_some_and(|why| why.contains("42.5")));
/// ```
pub fn no_classes(values: &Grid<f32>) -> Option<String> {
    let mut found = BTreeSet::new();
    for &value in values.values().iter().filter(|v| !v.is_nan()) {
        if value.fract() != 0.0 {
            return Some(format!("it holds {value}, which is no whole number"));
        }
        found.insert(value as i64);
        if found.len() > MOST_CLASSES {
            return Some(format!("it holds more than {MOST_CLASSES} different numbers"));
        }
    }
    None
}

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

    /// The figures of one cell; `NaN` is nodata.
    fn of(value: f32) -> Self {
        let v = f64::from(value);
        match v.is_nan() {
            true => Self { nodata: 1, ..Self::default() },
            false => Self {
                cells: 1,
                nodata: 0,
                sum: v,
                least: v,
                most: v,
                above: u64::from(v > 0.0),
                below: u64::from(v < 0.0),
            },
        }
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
        let inside = values.iter().zip(inside).filter(|(_, inside)| **inside);
        inside.fold(Zonal::default(), |all, (&v, _)| all.with(Zonal::of(v)))
    };
    let cols = values.cols().max(1);
    let rows: Vec<Zonal> =
        values.values().par_chunks(cols).zip(catchment.mask.values().par_chunks(cols)).map(of_row).collect();
    Ok(rows.into_iter().fold(Zonal::default(), Zonal::with))
}

/// Figures of `values` in each of `parts` areas, numbered from 1 by `ids`; 0 is outside all.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::{Grid, catchments::zonal_of_parts};
/// let ids = Grid::from_vec(1, 4, vec![1, 2, 2, 0]);
/// let found = zonal_of_parts(&Grid::from_vec(1, 4, vec![3.0, 1.0, 5.0, 9.0]), &ids, 2)?;
/// assert_eq!((found[0].sum, found[1].mean()), (3.0, Some(3.0)));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn zonal_of_parts(values: &Grid<f32>, ids: &Grid<u32>, parts: usize) -> Result<Vec<Zonal>> {
    let mut found = vec![Zonal::default(); parts];
    each_of_parts(values, ids, |part, value| found[part] = found[part].with(Zonal::of(value)))?;
    Ok(found)
}

/// Number of cells of each class; classes are whole numbers.
pub type Classes = BTreeMap<i64, u64>;

/// Cells of each class inside a catchment. `values` is cut to the extent of the catchment's mask; values are rounded to
/// whole numbers, and `NaN` is in no class.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::catchments::{classes, delineate};
/// use bothros_core::{Cell, Grid};
/// let catchment = delineate(&Grid::from_vec(1, 4, vec![1, 1, 0, 0]), Cell { row: 0, col: 2 })?;
/// let found = classes(&Grid::from_vec(1, 3, vec![11.0, 42.0, 11.0]), &catchment)?;
/// assert_eq!(found.into_iter().collect::<Vec<_>>(), [(11, 2), (42, 1)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn classes(values: &Grid<f32>, catchment: &Catchment) -> Result<Classes> {
    values.same_shape(&catchment.mask)?;
    let mut found = Classes::new();
    let inside = values.values().iter().zip(catchment.mask.values()).filter(|(_, inside)| **inside);
    inside.filter_map(|(&value, _)| class_of(value)).for_each(|class| *found.entry(class).or_default() += 1);
    Ok(found)
}

/// Cells of each class in each of `parts` areas, numbered as in [`zonal_of_parts`].
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
pub fn classes_of_parts(values: &Grid<f32>, ids: &Grid<u32>, parts: usize) -> Result<Vec<Classes>> {
    let mut found = vec![Classes::new(); parts];
    each_of_parts(values, ids, |part, value| {
        if let Some(class) = class_of(value) {
            *found[part].entry(class).or_default() += 1;
        }
    })?;
    Ok(found)
}

fn class_of(value: f32) -> Option<i64> {
    (!value.is_nan()).then(|| value.round() as i64)
}

fn each_of_parts(values: &Grid<f32>, ids: &Grid<u32>, mut found: impl FnMut(usize, f32)) -> Result<()> {
    values.same_shape(ids)?;
    for (&value, &id) in values.values().iter().zip(ids.values()) {
        if let Some(part) = (id as usize).checked_sub(1) {
            found(part, value);
        }
    }
    Ok(())
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
            // The same cells as one area of many, and counted by class.
            let ids = catchment.mask.values().iter().map(|&inside| u32::from(inside)).collect();
            let ids = Grid::from_vec(1, n, ids);
            prop_assert_eq!(&zonal_of_parts(&values, &ids, 1).unwrap()[0], &found);
            let by_class = classes(&values, &catchment).unwrap();
            prop_assert_eq!(by_class.values().sum::<u64>(), found.cells);
            prop_assert_eq!(by_class.iter().map(|(&c, &n)| c as f64 * n as f64).sum::<f64>(), found.sum);
            prop_assert_eq!(&classes_of_parts(&values, &ids, 1).unwrap()[0], &by_class);
        }
    }

    #[test]
    fn a_thousand_classes_are_enough() {
        let some = |n: usize| Grid::from_vec(1, n, (0..n).map(|v| v as f32).collect());
        assert_eq!(no_classes(&some(MOST_CLASSES)), None);
        assert!(no_classes(&some(MOST_CLASSES + 1)).unwrap().contains("more than 1000"));
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
