//! All cells that drain to some cells, tile by tile.

use std::collections::HashMap;

use rayon::prelude::*;

use super::bit_rows::{self, BitRow, outside_of_row, ways_of_row};
use crate::routing::DIRECTION_NODATA;
use crate::{Grid, NEIGHBOURS};

/// Edge of the tiles: as many cells as a row of bits holds.
pub(super) const TILE: usize = bit_rows::CELLS;

/// A tile that holds some of the cells found.
pub(super) struct Found {
    pub top: usize,
    pub left: usize,
    pub cols: usize,
    /// which of its cells are found, row by row
    pub marked: Vec<BitRow>,
    /// for each row, which of its cells drain to each neighbour, in the order of [`NEIGHBOURS`]
    ways: Vec<[BitRow; 8]>,
    /// number of cells found
    cells: u64,
    edge_cells: u64,
    /// first and last row and column of the cells found, in the tile
    rows: (usize, usize),
    columns: (usize, usize),
}

/// All cells found.
pub(super) struct Upstream {
    pub tiles: HashMap<(usize, usize), Found>,
    pub cells: u64,
    pub edge_cells: u64,
    pub north: usize,
    pub south: usize,
    pub west: usize,
    pub east: usize,
}

/// Finds `from` and all cells upstream of it, by number in row order.
///
/// Tiles that were reached go upstream side by side; what they pass on to other tiles is worked in
/// the next round, until nothing is passed on.
pub(super) fn upstream_cells(directions: &Grid<u8>, from: &[u32], size: usize) -> Upstream {
    let cols = directions.cols();
    let tile_of = |cell: u32| (cell as usize / cols / size, cell as usize % cols / size);
    let mut tiles: HashMap<(usize, usize), Found> = HashMap::new();
    let mut waiting: HashMap<(usize, usize), Vec<u32>> = HashMap::new();
    for &cell in from {
        waiting.entry(tile_of(cell)).or_default().push(cell);
    }
    while !waiting.is_empty() {
        let round: Vec<_> =
            waiting.drain().map(|(place, cells)| (place, tiles.remove(&place), cells)).collect();
        let done: Vec<_> = round
            .into_par_iter()
            .map(|(place, found, cells)| {
                let mut found = found.unwrap_or_else(|| Found::new(directions, place, size));
                let beyond = found.climb(directions, &cells);
                (place, found, beyond)
            })
            .collect();
        for (place, found, beyond) in done {
            tiles.insert(place, found);
            for cell in beyond {
                waiting.entry(tile_of(cell)).or_default().push(cell);
            }
        }
    }
    tiles.par_iter_mut().for_each(|(_, tile)| tile.measure(directions));
    let mut all =
        Upstream { tiles, cells: 0, edge_cells: 0, north: usize::MAX, south: 0, west: usize::MAX, east: 0 };
    for tile in all.tiles.values() {
        all.cells += tile.cells;
        all.edge_cells += tile.edge_cells;
        all.north = all.north.min(tile.top + tile.rows.0);
        all.south = all.south.max(tile.top + tile.rows.1);
        all.west = all.west.min(tile.left + tile.columns.0);
        all.east = all.east.max(tile.left + tile.columns.1);
    }
    all
}

impl Found {
    fn new(directions: &Grid<u8>, (row, col): (usize, usize), size: usize) -> Self {
        let (top, left) = (row * size, col * size);
        let rows = size.min(directions.rows() - top);
        let cols = size.min(directions.cols() - left);
        let mut ways = vec![[BitRow::default(); 8]; rows];
        let codes = |row: usize| &directions.values()[(top + row) * directions.cols() + left..][..cols];
        ways.iter_mut().enumerate().for_each(|(row, ways)| ways_of_row(codes(row), ways));
        Self {
            top,
            left,
            cols,
            marked: vec![BitRow::default(); rows],
            ways,
            cells: 0,
            edge_cells: 0,
            rows: (usize::MAX, 0),
            columns: (usize::MAX, 0),
        }
    }

    /// Goes upstream from `cells`; returns the cells of other tiles that drain into this one.
    fn climb(&mut self, directions: &Grid<u8>, cells: &[u32]) -> Vec<u32> {
        let all_cols = directions.cols();
        let rows = self.marked.len();
        let mut sides = BitRow::default();
        sides.set(0);
        sides.set(self.cols - 1);
        let mut beyond = Vec::new();
        // Rows in which or beside which something was found since they were looked at last.
        let mut open = BitRow::default();
        for &cell in cells {
            let (row, col) = (cell as usize / all_cols - self.top, cell as usize % all_cols - self.left);
            if !self.marked[row].has(col) {
                self.marked[row].set(col);
                self.beyond(directions, row, col, &mut beyond);
                (row.saturating_sub(1)..(row + 2).min(rows)).for_each(|row| open.set(row));
            }
        }
        let mut look = |row: usize, open: &mut BitRow| {
            let new = self.widen(row);
            // A row follows its own ways to their ends.
            open.clear(row);
            if new == BitRow::default() {
                return;
            }
            (row > 0).then(|| open.set(row - 1));
            (row + 1 < rows).then(|| open.set(row + 1));
            let on_rim = if row == 0 || row + 1 == rows { new } else { new.and(sides) };
            on_rim.cells().for_each(|col| self.beyond(directions, row, col, &mut beyond));
        };
        // Water runs far one way, and so do rows that are looked at in order: down, up, and down again.
        while open != BitRow::default() {
            let mut at = 0;
            while let Some(row) = open.first_from(at) {
                look(row, &mut open);
                at = row + 1;
            }
            while let Some(row) = open.last_before(at) {
                look(row, &mut open);
                at = row;
            }
        }
        beyond
    }

    /// Adds to the cells found in a row those that drain to cells found in it or beside it; returns what is new.
    fn widen(&mut self, row: usize) -> BitRow {
        let marked = self.marked[row];
        let [east, south_east, south, south_west, west, north_west, north, north_east] = &self.ways[row];
        let beside =
            |row: Option<usize>| row.and_then(|row| self.marked.get(row)).copied().unwrap_or_default();
        let (above, below) = (beside(row.checked_sub(1)), beside(Some(row + 1)));
        let found = marked
            .or(north.and(above))
            .or(north_west.and(above.eastward()))
            .or(north_east.and(above.westward()))
            .or(south.and(below))
            .or(south_west.and(below.eastward()))
            .or(south_east.and(below.westward()))
            .along_eastward(*west)
            .along_westward(*east);
        self.marked[row] = found;
        found.without(marked)
    }

    /// Adds the cells of other tiles that drain to a cell of this one, by number in the grid.
    fn beyond(&self, directions: &Grid<u8>, row: usize, col: usize, beyond: &mut Vec<u32>) {
        let (rows, cols) = (self.marked.len(), self.cols);
        for (k, n) in NEIGHBOURS.iter().enumerate() {
            let (row, col) = (row as isize + n.rows, col as isize + n.cols);
            if row >= 0 && col >= 0 && row < rows as isize && col < cols as isize {
                continue;
            }
            let place = self.top.checked_add_signed(row).zip(self.left.checked_add_signed(col));
            let Some((row, col)) =
                place.filter(|&(row, col)| row < directions.rows() && col < directions.cols())
            else {
                continue;
            };
            let at = row * directions.cols() + col;
            if directions.values()[at] == NEIGHBOURS[(k + 4) % 8].code {
                beyond.push(at as u32);
            }
        }
    }

    /// Counts what is marked.
    fn measure(&mut self, directions: &Grid<u8>) {
        self.cells = self.marked.iter().map(|row| u64::from(row.count())).sum();
        let ends = |row: &BitRow| row.ends();
        let found =
            || self.marked.iter().enumerate().filter_map(|(at, row)| ends(row).map(|ends| (at, ends)));
        self.rows = found().fold((usize::MAX, 0), |(first, last), (at, _)| (first.min(at), last.max(at)));
        self.columns =
            found().fold((usize::MAX, 0), |(first, last), (_, (from, to))| (first.min(from), last.max(to)));
        self.edge_cells = 0;
        let mut near =
            [self.near_outside(directions, None), self.near_outside(directions, Some(0)), BitRow::default()];
        for (row, marked) in self.marked.iter().enumerate() {
            near[2] = self.near_outside(directions, Some(row + 1));
            self.edge_cells += u64::from(marked.and(near[0].or(near[1]).or(near[2])).count());
            near = [near[1], near[2], BitRow::default()];
        }
    }

    /// Of a row of the tile, of the one above it (`None`) or the one below it: the cells that are outside the footprint, or beside one
    /// in that row that is.
    fn near_outside(&self, directions: &Grid<u8>, row: Option<usize>) -> BitRow {
        let cols = directions.cols();
        let row = match row {
            Some(row) => Some(self.top + row).filter(|&row| row < directions.rows()),
            None => self.top.checked_sub(1),
        };
        let codes = row.map(|row| &directions.values()[row * cols..][..cols]);
        let of_tile = |codes: &[u8]| outside_of_row(&codes[self.left..][..self.cols]);
        let outside = codes.map_or_else(|| outside_of_row(&vec![DIRECTION_NODATA; self.cols]), of_tile);
        let mut near = outside.or(outside.eastward()).or(outside.westward());
        let is_outside = |col: Option<usize>| {
            let code = codes.zip(col).and_then(|(codes, col)| codes.get(col));
            code.is_none_or(|&code| code == DIRECTION_NODATA)
        };
        if is_outside(self.left.checked_sub(1)) {
            near.set(0);
        }
        if is_outside(Some(self.left + self.cols)) {
            near.set(self.cols - 1);
        }
        near
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{at_edge, downstream, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn tiles_of_any_size_find_the_same(dem in any_terrain(24), pick in 0usize..576, size in prop_oneof![1usize..9, Just(TILE)]) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let outlet = pick % dem.len();
            prop_assume!(!dem.values()[outlet].is_nan());
            let found = upstream_cells(&directions, &[outlet as u32], size);
            let passes = |start: usize| {
                std::iter::successors(Some(start), |&at| downstream(&directions, at)).any(|at| at == outlet)
            };
            let inside: Vec<usize> = (0..dem.len()).filter(|&start| passes(start)).collect();
            let mut marked: Vec<usize> = Vec::new();
            for tile in found.tiles.values() {
                for (row, cells) in tile.marked.iter().enumerate() {
                    marked.extend(cells.cells().map(|col| (tile.top + row) * dem.cols() + tile.left + col));
                }
            }
            marked.sort_unstable();
            prop_assert_eq!(&marked, &inside);
            prop_assert_eq!(found.cells, inside.len() as u64);
            prop_assert_eq!(found.edge_cells, inside.iter().filter(|&&at| at_edge(&directions, at)).count() as u64);
            let rows = inside.iter().map(|at| at / dem.cols());
            let cols = inside.iter().map(|at| at % dem.cols());
            let extent = [rows.clone().min(), rows.max(), cols.clone().min(), cols.max()];
            prop_assert_eq!([found.north, found.south, found.west, found.east].map(Some), extent);
        }
    }
}
