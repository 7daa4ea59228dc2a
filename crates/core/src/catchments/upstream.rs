//! All cells that drain to some cells, tile by tile.

use std::collections::HashMap;

use rayon::prelude::*;

use crate::routing::{DIRECTION_NODATA, inflows_of_row};
use crate::{Grid, NEIGHBOURS};

/// Edge of the tiles, so small that a tile stays in a processor's cache.
pub(super) const TILE: usize = 256;

/// A tile that holds some of the cells found.
pub(super) struct Found {
    pub top: usize,
    pub left: usize,
    pub cols: usize,
    /// which of its cells are found, row by row
    pub marked: Vec<bool>,
    /// for each cell, a bit for each neighbour that drains to it, in the order of [`NEIGHBOURS`]
    inflows: Vec<u8>,
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
            .map_init(Vec::new, |stack, (place, found, cells)| {
                let mut found = found.unwrap_or_else(|| Found::new(directions, place, size));
                let beyond = found.climb(directions, &cells, stack);
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
        let mut inflows = vec![0; rows * cols];
        for (row, inflows) in inflows.chunks_mut(cols).enumerate() {
            inflows_of_row(directions, top + row, left, inflows);
        }
        Self {
            top,
            left,
            cols,
            marked: vec![false; rows * cols],
            inflows,
            cells: 0,
            edge_cells: 0,
            rows: (usize::MAX, 0),
            columns: (usize::MAX, 0),
        }
    }

    /// Goes upstream from `cells`; returns the cells of other tiles that drain into this one.
    fn climb(&mut self, directions: &Grid<u8>, cells: &[u32], stack: &mut Vec<u32>) -> Vec<u32> {
        let all_cols = directions.cols();
        let (cols, rows) = (self.cols, self.marked.len() / self.cols);
        let mut beyond = Vec::new();
        stack.clear();
        for &cell in cells {
            let (row, col) = (cell as usize / all_cols - self.top, cell as usize % all_cols - self.left);
            stack.push((row * cols + col) as u32);
        }
        let steps = NEIGHBOURS.map(|n| n.rows * cols as isize + n.cols);
        while let Some(cell) = stack.pop() {
            let at = cell as usize;
            // Directions without cycles lead to a cell once; starts may repeat.
            if std::mem::replace(&mut self.marked[at], true) {
                continue;
            }
            let mut inflows = self.inflows[at];
            let (row, col) = (at / cols, at % cols);
            let inside = row > 0 && col > 0 && row + 1 < rows && col + 1 < cols;
            while inflows != 0 {
                let k = inflows.trailing_zeros() as usize;
                inflows &= inflows - 1;
                let n = NEIGHBOURS[k];
                let in_tile = inside || {
                    let (row, col) = (row as isize + n.rows, col as isize + n.cols);
                    row >= 0 && col >= 0 && row < rows as isize && col < cols as isize
                };
                if in_tile {
                    stack.push(at.wrapping_add_signed(steps[k]) as u32);
                } else {
                    let whole = (self.top + row) * all_cols + self.left + col;
                    beyond.push(whole.wrapping_add_signed(n.rows * all_cols as isize + n.cols) as u32);
                }
            }
        }
        beyond
    }

    /// Counts what is marked.
    fn measure(&mut self, directions: &Grid<u8>) {
        let (all_rows, all_cols) = (directions.rows(), directions.cols());
        let (cols, rows) = (self.cols, self.marked.len() / self.cols);
        (self.cells, self.edge_cells) = (0, 0);
        (self.rows, self.columns) = ((usize::MAX, 0), (usize::MAX, 0));
        let (north, south) = (self.top.saturating_sub(1), (self.top + rows + 1).min(all_rows));
        let (west, east) = (self.left.saturating_sub(1), (self.left + cols + 1).min(all_cols));
        let any_outside = (north..south).any(|r| {
            directions.values()[r * all_cols + west..r * all_cols + east].contains(&DIRECTION_NODATA)
        });
        let at_border =
            self.top == 0 || self.left == 0 || self.top + rows == all_rows || self.left + cols == all_cols;
        for (row, marked) in self.marked.chunks(cols).enumerate() {
            let count = marked.iter().map(|&m| u64::from(m)).sum::<u64>();
            if count == 0 {
                continue;
            }
            self.cells += count;
            self.rows = (self.rows.0.min(row), row);
            self.columns.0 = self.columns.0.min(marked.iter().position(|&m| m).unwrap_or(0));
            self.columns.1 = self.columns.1.max(marked.iter().rposition(|&m| m).unwrap_or(0));
            if any_outside || at_border {
                let first = (self.top + row) * all_cols + self.left;
                for (col, _) in marked.iter().enumerate().filter(|(_, m)| **m) {
                    let mut beside = 0;
                    for (_, n) in directions.neighbours(first + col) {
                        beside += usize::from(directions.values()[n] != DIRECTION_NODATA);
                    }
                    self.edge_cells += u64::from(beside < 8);
                }
            }
        }
    }
}
