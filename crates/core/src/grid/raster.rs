//! A grid of values, and who is beside whom.

use serde::{Deserialize, Serialize};

use crate::{Error, Result};

/// A cell by row (from the north) and column (from the west), both from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Cell {
    /// from the north, 0 first
    pub row: usize,
    /// from the west, 0 first
    pub col: usize,
}

/// One of the eight neighbours of a cell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Neighbour {
    /// rows to the south
    pub rows: isize,
    /// columns to the east
    pub cols: isize,
    /// the D8 code of a flow to it
    pub code: u8,
    /// distance between the centres, in cells
    pub distance: f64,
}

const fn neighbour(rows: isize, cols: isize, code: u8) -> Neighbour {
    let distance = if rows != 0 && cols != 0 { std::f64::consts::SQRT_2 } else { 1.0 };
    Neighbour { rows, cols, code, distance }
}

/// The eight neighbours clockwise from east; neighbour `k` has the D8 code `1 << k`, and
/// `(k + 4) % 8` is the one opposite.
pub const NEIGHBOURS: [Neighbour; 8] = [
    neighbour(0, 1, 1),
    neighbour(1, 1, 2),
    neighbour(1, 0, 4),
    neighbour(1, -1, 8),
    neighbour(0, -1, 16),
    neighbour(-1, -1, 32),
    neighbour(-1, 0, 64),
    neighbour(-1, 1, 128),
];

/// A raster: `rows` x `cols` values, row by row from the north-west corner.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid<T> {
    rows: usize,
    cols: usize,
    values: Vec<T>,
}

impl<T> Grid<T> {
    /// Wraps values that are in row order.
    ///
    /// # Panics
    /// Where the number of values is not `rows * cols`: that is a mistake of the caller.
    pub fn from_vec(rows: usize, cols: usize, values: Vec<T>) -> Self {
        assert_eq!(values.len(), rows * cols, "{rows} x {cols} values expected");
        Self { rows, cols, values }
    }

    /// A value for each cell.
    pub fn from_fn(rows: usize, cols: usize, mut value: impl FnMut(Cell) -> T) -> Self {
        let mut values = Vec::with_capacity(rows * cols);
        for row in 0..rows {
            for col in 0..cols {
                values.push(value(Cell { row, col }));
            }
        }
        Self { rows, cols, values }
    }

    /// Number of rows.
    pub const fn rows(&self) -> usize {
        self.rows
    }
    /// Number of columns.
    pub const fn cols(&self) -> usize {
        self.cols
    }
    /// Number of cells.
    pub fn len(&self) -> usize {
        self.values.len()
    }
    /// Whether there is no cell at all.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }
    /// All values in row order.
    pub fn values(&self) -> &[T] {
        &self.values
    }
    /// All values in row order, to be changed.
    pub fn values_mut(&mut self) -> &mut [T] {
        &mut self.values
    }
    /// Gives the values up.
    pub fn into_vec(self) -> Vec<T> {
        self.values
    }
    /// The number of a cell in row order.
    #[inline]
    pub const fn index(&self, cell: Cell) -> usize {
        cell.row * self.cols + cell.col
    }
    /// The cell with a number in row order.
    #[inline]
    pub const fn cell(&self, index: usize) -> Cell {
        Cell { row: index / self.cols, col: index % self.cols }
    }
    /// The value of a cell, or `None` beyond the grid.
    pub fn get(&self, cell: Cell) -> Option<&T> {
        if cell.row < self.rows && cell.col < self.cols { self.values.get(self.index(cell)) } else { None }
    }

    /// The numbers of the neighbours that lie in the grid, with their place in [`NEIGHBOURS`].
    #[inline]
    pub(crate) fn neighbours(&self, index: usize) -> impl Iterator<Item = (usize, usize)> + use<T> {
        let (rows, cols) = (self.rows as isize, self.cols as isize);
        let (row, col) = ((index / self.cols) as isize, (index % self.cols) as isize);
        NEIGHBOURS.iter().enumerate().filter_map(move |(k, n)| {
            let (r, c) = (row + n.rows, col + n.cols);
            (r >= 0 && c >= 0 && r < rows && c < cols).then_some((k, (r * cols + c) as usize))
        })
    }

    /// Fails where the two grids differ in shape.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`].
    pub fn same_shape<U>(&self, other: &Grid<U>) -> Result<()> {
        if self.rows == other.rows && self.cols == other.cols {
            return Ok(());
        }
        Err(Error::ShapeMismatch {
            a_rows: self.rows,
            a_cols: self.cols,
            b_rows: other.rows,
            b_cols: other.cols,
        })
    }

    /// Fails where there are more cells than 32-bit numbers.
    pub(crate) fn numbered(&self) -> Result<()> {
        if self.len() < u32::MAX as usize {
            Ok(())
        } else {
            Err(Error::TooManyCells { cells: self.len() as u64 })
        }
    }
}

impl<T: Clone> Grid<T> {
    /// The same value everywhere.
    pub fn filled(rows: usize, cols: usize, value: T) -> Self {
        Self { rows, cols, values: vec![value; rows * cols] }
    }

    /// A rectangle cut out; what would lie beyond the grid is left out.
    pub fn window(&self, row: usize, col: usize, rows: usize, cols: usize) -> Grid<T> {
        let (row, col) = (row.min(self.rows), col.min(self.cols));
        let (rows, cols) = (rows.min(self.rows - row), cols.min(self.cols - col));
        let mut values = Vec::with_capacity(rows * cols);
        for r in row..row + rows {
            let start = r * self.cols + col;
            values.extend_from_slice(&self.values[start..start + cols]);
        }
        Grid { rows, cols, values }
    }

    /// The part that a catchment's mask covers, whose first cell is `row`, `col`; `nodata` where the mask is not set.
    ///
    /// ```
    /// use bothros_core::Grid;
    /// let values = Grid::from_vec(2, 3, vec![1, 2, 3, 4, 5, 6]);
    /// let mask = Grid::from_vec(1, 2, vec![true, false]);
    /// assert_eq!(values.masked(1, 1, &mask, 0).values(), [5, 0]);
    /// ```
    pub fn masked(&self, row: usize, col: usize, mask: &Grid<bool>, nodata: T) -> Grid<T> {
        let mut part = self.window(row, col, mask.rows, mask.cols);
        for (value, inside) in part.values.iter_mut().zip(&mask.values) {
            if !inside {
                value.clone_from(&nodata);
            }
        }
        part
    }
}

impl Grid<f32> {
    /// Whether a cell of the footprint lies at its edge: beside nodata or the raster's border.
    #[inline]
    pub fn is_edge(&self, index: usize) -> bool {
        let mut beside = 0;
        for (_, n) in self.neighbours(index) {
            if self.values[n].is_nan() {
                return true;
            }
            beside += 1;
        }
        beside < 8
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn neighbours_at_a_corner() {
        let grid = Grid::filled(3, 4, 0u8);
        let at_corner: Vec<usize> = grid.neighbours(0).map(|(_, n)| n).collect();
        assert_eq!(at_corner, [1, 5, 4]);
        assert_eq!(grid.neighbours(5).count(), 8);
    }

    #[test]
    fn a_window_is_clipped_to_the_grid() {
        let grid = Grid::from_fn(4, 5, |c| c.row * 10 + c.col);
        assert_eq!(grid.window(2, 3, 9, 9).values(), [23, 24, 33, 34]);
        assert!(grid.window(9, 9, 2, 2).is_empty());
    }

    #[test]
    fn edge_cells_are_beside_border_or_nodata() {
        let mut grid = Grid::filled(5, 5, 1.0f32);
        assert!(grid.is_edge(0) && !grid.is_edge(12));
        grid.values_mut()[6] = f32::NAN;
        assert!(grid.is_edge(12), "the centre is now beside nodata");
    }
}
