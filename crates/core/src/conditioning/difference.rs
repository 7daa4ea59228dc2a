//! What a step changed: cut and fill.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::{Frame, Grid, Result};

/// How much ground a step moved.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct CutAndFill {
    /// number of cells lowered
    pub cells_cut: u64,
    /// number of cells raised
    pub cells_filled: u64,
    /// volume taken away, cubic metres
    pub cut_m3: f64,
    /// volume added, cubic metres
    pub fill_m3: f64,
    /// deepest cut, metres
    pub deepest_cut_m: f64,
    /// highest fill, metres
    pub highest_fill_m: f64,
}

/// Measures what changed from `before` to `after`, both elevations in metres on the grid of
/// `frame`. A cell that had no elevation before, or has none after, does not count: nothing is
/// known of its ground.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::cut_and_fill};
/// let frame = Frame { rows: 1, cols: 3, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// let before = Grid::from_vec(1, 3, vec![5.0, 5.0, 5.0]);
/// let after = Grid::from_vec(1, 3, vec![3.0, 5.0, 5.5]);
/// let moved = cut_and_fill(&before, &after, &frame)?;
/// assert_eq!((moved.cut_m3, moved.fill_m3, moved.deepest_cut_m), (200.0, 50.0, 2.0));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn cut_and_fill(before: &Grid<f32>, after: &Grid<f32>, frame: &Frame) -> Result<CutAndFill> {
    before.same_shape(after)?;
    // Rows are summed one by one and in order, so that the sums do not depend on threads.
    let rows: Vec<CutAndFill> = before
        .values()
        .par_chunks(before.cols().max(1))
        .zip(after.values().par_chunks(after.cols().max(1)))
        .map(|(before, after)| {
            let mut row = CutAndFill::default();
            for (&old, &new) in before.iter().zip(after) {
                let change = new as f64 - old as f64;
                if change > 0.0 {
                    row.cells_filled += 1;
                    row.fill_m3 += change;
                    row.highest_fill_m = row.highest_fill_m.max(change);
                } else if change < 0.0 {
                    row.cells_cut += 1;
                    row.cut_m3 -= change;
                    row.deepest_cut_m = row.deepest_cut_m.max(-change);
                }
            }
            row
        })
        .collect();
    let mut all = CutAndFill::default();
    for row in rows {
        all.cells_cut += row.cells_cut;
        all.cells_filled += row.cells_filled;
        all.cut_m3 += row.cut_m3;
        all.fill_m3 += row.fill_m3;
        all.deepest_cut_m = all.deepest_cut_m.max(row.deepest_cut_m);
        all.highest_fill_m = all.highest_fill_m.max(row.highest_fill_m);
    }
    let cell_m2 = frame.cell_area().as_m2();
    all.cut_m3 *= cell_m2;
    all.fill_m3 *= cell_m2;
    Ok(all)
}

/// `after` minus `before`, metres: negative where ground was cut, positive where it was filled,
/// `NaN` where either is nodata.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
pub fn difference(before: &Grid<f32>, after: &Grid<f32>) -> Result<Grid<f32>> {
    before.same_shape(after)?;
    let values = before.values().par_iter().zip(after.values()).map(|(old, new)| new - old).collect();
    Ok(Grid::from_vec(before.rows(), before.cols(), values))
}

/// A difference raster of which only the cells that changed are kept.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Changes {
    rows: usize,
    cols: usize,
    /// numbers of the cells in row order, ascending
    pub cells: Vec<u32>,
    /// how much higher each is than before, metres; negative where it was lowered
    pub change_m: Vec<f32>,
}

impl Changes {
    /// What changed from `before` to `after`, both elevations in metres; only where both are known. It
    /// takes eight bytes for each cell that changed.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
    ///
    /// ```
    /// use bothros_core::{Grid, conditioning::Changes};
    /// let before = Grid::from_vec(1, 4, vec![5.0, 5.0, 5.0, f32::NAN]);
    /// let after = Grid::from_vec(1, 4, vec![3.0, 5.0, 5.5, 1.0]);
    /// let changes = Changes::between(&before, &after)?;
    /// assert_eq!((changes.cells.as_slice(), changes.change_m.as_slice()), (&[0, 2][..], &[-2.0, 0.5][..]));
    /// assert_eq!(changes.to_grid().values(), [-2.0, 0.0, 0.5, 0.0]);
    /// # Ok::<(), bothros_core::Error>(())
    /// ```
    pub fn between(before: &Grid<f32>, after: &Grid<f32>) -> Result<Self> {
        before.same_shape(after)?;
        let cols = before.cols();
        let rows: Vec<(Vec<u32>, Vec<f32>)> = before
            .values()
            .par_chunks(cols.max(1))
            .zip(after.values().par_chunks(cols.max(1)))
            .enumerate()
            .map(|(row, (before, after))| {
                let changed = before.iter().zip(after).enumerate().filter_map(|(col, (old, new))| {
                    let change = new - old;
                    (change != 0.0 && !change.is_nan()).then_some(((row * cols + col) as u32, change))
                });
                changed.unzip()
            })
            .collect();
        let count = rows.iter().map(|(cells, _)| cells.len()).sum();
        let (mut cells, mut change_m) = (Vec::with_capacity(count), Vec::with_capacity(count));
        for (row_cells, row_change) in rows {
            cells.extend(row_cells);
            change_m.extend(row_change);
        }
        Ok(Self { rows: before.rows(), cols, cells, change_m })
    }

    /// The whole difference raster, metres; 0 where nothing changed.
    pub fn to_grid(&self) -> Grid<f32> {
        let mut grid = Grid::filled(self.rows, self.cols, 0.0);
        for (&cell, &change) in self.cells.iter().zip(&self.change_m) {
            grid.values_mut()[cell as usize] = change;
        }
        grid
    }
}
