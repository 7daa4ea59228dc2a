//! Where a grid lies on the ground.

use serde::{Deserialize, Serialize};

use crate::{Area, Cell};

/// The place of a north-up grid of square cells in a projected CRS.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Frame {
    /// number of rows
    pub rows: usize,
    /// number of columns
    pub cols: usize,
    /// easting of the western edge, CRS units
    pub left: f64,
    /// northing of the northern edge, CRS units
    pub top: f64,
    /// edge of a cell, CRS units
    pub cell_size: f64,
    /// metres in one CRS unit: 1 for metres, 0.3048 for feet
    pub unit_m: f64,
}

impl Frame {
    /// Number of cells.
    pub const fn cells(&self) -> usize {
        self.rows * self.cols
    }
    /// Edge of a cell in metres.
    pub fn cell_m(&self) -> f64 {
        self.cell_size * self.unit_m
    }
    /// Area of a cell.
    pub fn cell_area(&self) -> Area {
        Area::m2(self.cell_m() * self.cell_m())
    }
    /// Returns the area of a number of cells.
    pub fn area_of(&self, cells: u64) -> Area {
        Area::m2(cells as f64 * self.cell_area().as_m2())
    }
    /// Coordinates of a cell's centre, CRS units.
    pub fn centre(&self, cell: Cell) -> (f64, f64) {
        (
            self.left + (cell.col as f64 + 0.5) * self.cell_size,
            self.top - (cell.row as f64 + 0.5) * self.cell_size,
        )
    }
    /// The cell at a coordinate, or `None` outside the grid. A point on the line between two
    /// cells belongs to the southern or eastern one.
    pub fn cell_at(&self, x: f64, y: f64) -> Option<Cell> {
        let col = ((x - self.left) / self.cell_size).floor();
        let row = ((self.top - y) / self.cell_size).floor();
        let inside = col >= 0.0 && row >= 0.0 && col < self.cols as f64 && row < self.rows as f64;
        inside.then_some(Cell { row: row as usize, col: col as usize })
    }
    /// The place of a rectangle of cells cut out of the grid, by its first row and column and its size.
    ///
    /// ```
    /// # use bothros_core::Frame;
    /// let frame = Frame { rows: 9, cols: 9, left: 100.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };
    /// assert_eq!(frame.window(2, 3, 4, 5).extent(), [130.0, 30.0, 180.0, 70.0]);
    /// ```
    pub fn window(&self, row: usize, col: usize, rows: usize, cols: usize) -> Frame {
        Frame {
            rows,
            cols,
            left: self.left + col as f64 * self.cell_size,
            top: self.top - row as f64 * self.cell_size,
            ..*self
        }
    }
    /// `[west, south, east, north]`, CRS units.
    pub fn extent(&self) -> [f64; 4] {
        [
            self.left,
            self.top - self.rows as f64 * self.cell_size,
            self.left + self.cols as f64 * self.cell_size,
            self.top,
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn centre_and_cell_are_inverse() {
        let frame =
            Frame { rows: 7, cols: 9, left: 500_000.0, top: 4_800_000.0, cell_size: 12.5, unit_m: 1.0 };
        for row in 0..7 {
            for col in 0..9 {
                let (x, y) = frame.centre(Cell { row, col });
                assert_eq!(frame.cell_at(x, y), Some(Cell { row, col }));
            }
        }
        assert_eq!(frame.cell_at(499_999.0, 4_799_990.0), None);
        assert_eq!(frame.cell_at(f64::NAN, 0.0), None);
    }
}
