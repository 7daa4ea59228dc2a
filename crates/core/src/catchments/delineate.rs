//! All that drains to a cell.

use rayon::prelude::*;

use super::polygon::{Outline, outline, perimeter_edges};
use super::upstream::{TILE, upstream_cells};
use crate::routing::{DIRECTION_NODATA, is_cut};
use crate::{Area, Cell, Error, Frame, Grid, Result};

/// The cells that drain to a pour point, itself included.
#[derive(Debug, Clone, PartialEq)]
pub struct Catchment {
    /// the pour point's cell
    pub outlet: Cell,
    /// number of cells
    pub cells: u64,
    /// cells of the catchment that lie at the edge of the footprint; where there are any, water
    /// from beyond the DEM may be missing
    pub edge_cells: u64,
    /// row of the mask's first row in the whole grid
    pub row: usize,
    /// column of the mask's first column in the whole grid
    pub col: usize,
    /// which cells belong to it, cut to its extent
    pub mask: Grid<bool>,
}

impl Catchment {
    /// Whether it reaches the edge of the footprint, so that its area may be cut short.
    pub fn touches_edge(&self) -> bool {
        self.edge_cells > 0
    }
    /// Its area.
    pub fn area(&self, frame: &Frame) -> Area {
        frame.area_of(self.cells)
    }
    /// Its outline along the edges of its cells, in CRS units.
    pub fn outline(&self, frame: &Frame) -> Outline {
        outline(&self.mask, &frame.window(self.row, self.col, self.mask.rows(), self.mask.cols()))
    }
    /// Length of its outline along the edges of cells, metres.
    pub fn perimeter_m(&self, frame: &Frame) -> f64 {
        perimeter_edges(&self.mask) as f64 * frame.cell_m()
    }
    /// The same catchment with a mask one cell larger on each side, as far as a grid of `rows` by `cols` reaches.
    pub fn with_margin(&self, rows: usize, cols: usize) -> Self {
        let (row, col) = (self.row.saturating_sub(1), self.col.saturating_sub(1));
        let end = |first: usize, count: usize, all: usize| (first + count + 1).min(all);
        let (last_row, last_col) =
            (end(self.row, self.mask.rows(), rows), end(self.col, self.mask.cols(), cols));
        let mask = Grid::from_fn(last_row - row, last_col - col, |c| {
            self.contains(Cell { row: row + c.row, col: col + c.col })
        });
        Self { row, col, mask, ..*self }
    }
    /// Whether a cell of the whole grid belongs to it.
    pub fn contains(&self, cell: Cell) -> bool {
        let inside = cell.row.checked_sub(self.row).zip(cell.col.checked_sub(self.col));
        inside.and_then(|(row, col)| self.mask.get(Cell { row, col })).copied().unwrap_or(false)
    }
}

/// Finds the catchment of `outlet` by going upstream from it.
///
/// `directions` holds D8 codes without cycles. The cost grows with the catchment, not with the
/// grid, and all cores share it.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the outlet has no direction.
///
/// ```
/// use bothros_core::{Cell, Grid, catchments::delineate};
/// let directions = Grid::from_vec(2, 3, vec![1, 4, 16, 1, 1, 0]);
/// let catchment = delineate(&directions, Cell { row: 0, col: 1 })?;
/// assert_eq!((catchment.cells, catchment.mask.rows(), catchment.mask.cols()), (3, 1, 3));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn delineate(directions: &Grid<u8>, outlet: Cell) -> Result<Catchment> {
    match directions.get(outlet) {
        Some(&code) if code != DIRECTION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(outlet)),
    }
    let found = upstream_cells(directions, &[directions.index(outlet) as u32], TILE);
    let (north, west) = (found.north, found.west);
    let (rows, cols) = (found.south - north + 1, found.east - west + 1);
    let mut mask = Grid::filled(rows, cols, false);
    mask.values_mut().par_chunks_mut(cols).enumerate().for_each(|(row, mask)| {
        let row = north + row;
        for at in west / TILE..=found.east / TILE {
            if let Some(tile) = found.tiles.get(&(row / TILE, at)) {
                let (from, to) = (tile.left.max(west), (tile.left + tile.cols).min(found.east + 1));
                tile.marked[row - tile.top].write(from - tile.left, &mut mask[from - west..to - west]);
            }
        }
    });
    Ok(Catchment { outlet, cells: found.cells, edge_cells: found.edge_cells, row: north, col: west, mask })
}

/// Cells of a catchment at the edge of the footprint, by the side on which there is no more land: north, east, south, west. A cell
/// in a corner counts on both sides.
///
/// ```
/// use bothros_core::{Cell, Grid, catchments::{delineate, edge_sides}};
/// // Three rows that fall eastwards; the catchment of the last cell of the first row touches the north, its head the west too.
/// let directions = Grid::from_vec(3, 3, vec![1, 1, 0, 1, 1, 0, 1, 1, 0]);
/// let catchment = delineate(&directions, Cell { row: 0, col: 1 })?;
/// assert_eq!(edge_sides(&directions, &catchment), [2, 0, 0, 1]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn edge_sides(directions: &Grid<u8>, catchment: &Catchment) -> [u64; 4] {
    let mut sides = [0; 4];
    let land = |row: Option<usize>, col: Option<usize>| {
        let cell = row.zip(col).map(|(row, col)| Cell { row, col });
        cell.and_then(|cell| directions.get(cell)).is_some_and(|&code| code != DIRECTION_NODATA)
    };
    for cell in edge_cells(directions, catchment) {
        let Cell { row, col } = directions.cell(cell as usize);
        let beside = [
            (row.checked_sub(1), Some(col)),
            (Some(row), Some(col + 1)),
            (Some(row + 1), Some(col)),
            (Some(row), col.checked_sub(1)),
        ];
        for (side, (row, col)) in sides.iter_mut().zip(beside) {
            *side += u64::from(!land(row, col));
        }
    }
    sides
}

/// Cells of a catchment at the edge of the footprint, by number in row order: beside nodata or the border of the raster, corners
/// included.
pub(super) fn edge_cells(directions: &Grid<u8>, catchment: &Catchment) -> Vec<u32> {
    let cols = directions.cols();
    let of_row = |(at, inside): (usize, &[bool])| {
        let row = catchment.row + at;
        let cols_inside =
            inside.iter().zip(catchment.col..).filter(|(inside, _)| **inside).map(|(_, col)| col);
        let cut = cols_inside.filter(|&col| is_cut(directions, row, col));
        cut.map(|col| (row * cols + col) as u32).collect::<Vec<_>>()
    };
    let mask = &catchment.mask;
    mask.values().par_chunks(mask.cols().max(1)).enumerate().flat_map_iter(of_row).collect()
}

/// A raster that names, for each cell, the innermost of the catchments that hold it; 0 outside all.
///
/// Catchments either nest or are apart, so the smallest that holds a cell is the innermost.
pub fn innermost(rows: usize, cols: usize, catchments: &[(u32, &Catchment)]) -> Grid<u32> {
    let mut largest_first: Vec<_> = catchments.to_vec();
    largest_first.sort_by_key(|(id, c)| (std::cmp::Reverse(c.cells), *id));
    let mut ids = Grid::filled(rows, cols, 0);
    for (id, catchment) in largest_first {
        for row in 0..catchment.mask.rows() {
            for col in 0..catchment.mask.cols() {
                if catchment.mask.values()[row * catchment.mask.cols() + col] {
                    let at = ids.index(Cell { row: row + catchment.row, col: col + catchment.col });
                    ids.values_mut()[at] = id;
                }
            }
        }
    }
    ids
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{downstream, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    #[test]
    fn nested_catchments_keep_the_inner() {
        let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
        let inner = delineate(&directions, Cell { row: 0, col: 2 }).unwrap();
        let outer = delineate(&directions, Cell { row: 0, col: 4 }).unwrap();
        let ids = innermost(1, 6, &[(1, &inner), (2, &outer)]);
        assert_eq!(ids.values(), [1, 1, 1, 2, 2, 0]);
        assert!(outer.contains(Cell { row: 0, col: 0 }) && !inner.contains(Cell { row: 0, col: 3 }));
        assert!(inner.touches_edge());
    }

    #[test]
    fn a_catchment_inside_does_not_touch_the_edge() {
        let directions = Grid::from_fn(5, 5, |c| if c.col == 4 { 0 } else { 1 });
        let catchment = delineate(&directions, Cell { row: 2, col: 3 }).unwrap();
        assert_eq!((catchment.cells, catchment.edge_cells), (4, 1), "only its western end");
        let mut hole = directions.clone();
        hole.values_mut()[10] = DIRECTION_NODATA;
        hole.values_mut()[11] = DIRECTION_NODATA;
        let catchment = delineate(&hole, Cell { row: 2, col: 3 }).unwrap();
        assert_eq!((catchment.cells, catchment.edge_cells), (2, 1), "beside nodata");
    }

    #[test]
    fn outside_the_footprint_is_refused() {
        let directions = Grid::from_vec(1, 2, vec![0, DIRECTION_NODATA]);
        assert!(delineate(&directions, Cell { row: 0, col: 1 }).is_err());
        assert!(delineate(&directions, Cell { row: 3, col: 0 }).is_err());
    }

    proptest! {
        #[test]
        fn holds_exactly_the_cells_that_pass_the_outlet(dem in any_terrain(12), pick in 0usize..144) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let outlet = pick % dem.len();
            prop_assume!(!dem.values()[outlet].is_nan());
            let catchment = delineate(&directions, dem.cell(outlet)).unwrap();
            let mut cells = 0;
            for start in 0..dem.len() {
                let (mut at, mut passes) = (Some(start), false);
                while let Some(index) = at {
                    passes |= index == outlet;
                    at = downstream(&directions, index);
                }
                prop_assert_eq!(passes, catchment.contains(dem.cell(start)));
                cells += u64::from(passes);
            }
            prop_assert_eq!(cells, catchment.cells);
        }
    }
}
