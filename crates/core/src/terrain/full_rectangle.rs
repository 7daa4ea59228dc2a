//! The largest rectangle of a DEM without a ragged rim.

use crate::Grid;

/// Rows and columns of a rectangle in a grid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rectangle {
    /// first row
    pub row: usize,
    /// first column
    pub col: usize,
    /// number of rows
    pub rows: usize,
    /// number of columns
    pub cols: usize,
}

/// Which cells are outside: nodata that is connected to the border, over edges of cells.
pub fn outside(dem: &Grid<f32>) -> Grid<bool> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let mut out = Grid::filled(rows, cols, false);
    let mut open = Vec::new();
    let visit = |index: usize, out: &mut Grid<bool>, open: &mut Vec<usize>| {
        if dem.values()[index].is_nan() && !out.values()[index] {
            out.values_mut()[index] = true;
            open.push(index);
        }
    };
    for index in 0..dem.len() {
        let (row, col) = (index / cols, index % cols);
        if row == 0 || col == 0 || row + 1 == rows || col + 1 == cols {
            visit(index, &mut out, &mut open);
        }
    }
    while let Some(index) = open.pop() {
        for (k, n) in dem.neighbours(index) {
            if k % 2 == 0 {
                visit(n, &mut out, &mut open);
            }
        }
    }
    out
}

/// The rectangle with the most cells that holds no cell from outside; voids do not count against
/// it. `None` where every cell is outside. The first found from the north is taken among equals.
///
/// One pass over the rows keeps, per column, how many cells above are inside; the largest
/// rectangle under that histogram is found with a stack (textbook), so the cost is a constant
/// per cell.
pub fn largest_full_rectangle(dem: &Grid<f32>) -> Option<Rectangle> {
    let out = outside(dem);
    let cols = dem.cols();
    let mut height = vec![0usize; cols + 1];
    let mut best: Option<Rectangle> = None;
    let mut stack: Vec<usize> = Vec::new();
    for row in 0..dem.rows() {
        for (above, &outside) in height.iter_mut().zip(&out.values()[row * cols..(row + 1) * cols]) {
            *above = if outside { 0 } else { *above + 1 };
        }
        stack.clear();
        for col in 0..=cols {
            while let Some(&top) = stack.last().filter(|&&top| height[top] >= height[col]) {
                stack.pop();
                let from = stack.last().map_or(0, |&left| left + 1);
                let found =
                    Rectangle { row: row + 1 - height[top], col: from, rows: height[top], cols: col - from };
                if found.rows * found.cols > best.map_or(0, |b| b.rows * b.cols) {
                    best = Some(found);
                }
            }
            stack.push(col);
        }
    }
    best
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    #[test]
    fn a_tilted_square_is_cropped() {
        // A diamond: its largest rectangle is a square of half the width.
        let dem =
            Grid::from_fn(
                21,
                21,
                |c| {
                    if c.row.abs_diff(10) + c.col.abs_diff(10) <= 10 { 1.0 } else { f32::NAN }
                },
            );
        let found = largest_full_rectangle(&dem).unwrap();
        assert_eq!(found.rows * found.cols, 11 * 11);
    }

    #[test]
    fn a_void_inside_does_not_count() {
        let mut dem = Grid::filled(6, 8, 1.0f32);
        dem.values_mut()[20] = f32::NAN;
        assert_eq!(largest_full_rectangle(&dem), Some(Rectangle { row: 0, col: 0, rows: 6, cols: 8 }));
        assert_eq!(largest_full_rectangle(&Grid::filled(3, 3, f32::NAN)), None);
    }

    proptest! {
        #[test]
        fn no_rectangle_is_larger(dem in any_terrain(7)) {
            let out = outside(&dem);
            let mut most = 0;
            for row in 0..dem.rows() {
                for col in 0..dem.cols() {
                    for rows in 1..=dem.rows() - row {
                        for cols in 1..=dem.cols() - col {
                            if out.window(row, col, rows, cols).values().iter().all(|o| !o) {
                                most = most.max(rows * cols);
                            }
                        }
                    }
                }
            }
            prop_assert_eq!(largest_full_rectangle(&dem).map_or(0, |r| r.rows * r.cols), most);
        }
    }
}
