//! One tile of a DEM: its basins, the passes between them, and how high each basin fills.
//!
//! A tile is small enough to stay in a processor's cache. The cells of its rim are *seeds*: how
//! high they fill depends on other tiles, so each stands for itself. Every other cell drops to its
//! lowest neighbour, and so to a local minimum or a seed; cells that drop to the same place are a
//! basin. The lowest pass out of each basin is found, basins are joined over these passes, and so
//! on (minimum spanning forest, Borůvka 1926), until every basin is joined to a seed.

use super::join::{Cells, Joining};
use super::rows::{label_beside_nodata, lowest_neighbours};
use crate::Grid;

/// Label of the cells where water leaves: the footprint's edge, kept sinks, and all outside.
pub(super) const OCEAN: u16 = 0;
/// Label of the cells round a tile, and of those that have none yet.
pub(super) const NONE: u16 = u16::MAX;

/// Where a tile lies: rows and columns, both ends included.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Place {
    pub top: usize,
    pub bottom: usize,
    pub left: usize,
    pub right: usize,
}

impl Place {
    fn rows(&self) -> usize {
        self.bottom - self.top + 1
    }
    fn cols(&self) -> usize {
        self.right - self.left + 1
    }
}

/// A pass between two seeds of a tile: their labels, and the lowest elevation over which water
/// gets from one to the other inside the tile, metres.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Pass {
    pub a: u16,
    pub b: u16,
    pub level: f32,
}

/// What a tile knows once its own basins are joined.
pub(super) struct Tile {
    pub place: Place,
    /// for each basin: the seed that it is joined to, and the level it fills to at least
    pub drains: Vec<(u16, f32)>,
    /// the cell of each seed as row and column in the whole grid; the ocean, label 0, has none
    pub seeds: Vec<(u32, u32)>,
    /// passes between seeds: a minimum spanning forest
    pub passes: Vec<Pass>,
    /// where it was asked for, the passes over which basins and seeds were joined: a minimum spanning
    /// forest of all
    pub joins: Vec<Join>,
    /// where it was asked for, the local minimum of each basin by its number in the tile; of seeds and
    /// the ocean nothing
    pub bottoms: Vec<u32>,
}

/// A pass over which two basins were joined: its cells by their numbers in the tile, and their labels.
#[derive(Debug, Clone, Copy)]
pub(super) struct Join {
    pub high: u32,
    pub low: u32,
    pub high_label: u16,
    pub low_label: u16,
}

/// Memory that is used again from tile to tile.
#[derive(Default)]
pub(super) struct Scratch {
    /// elevations with one more cell all round; `NaN` beyond the grid
    z: Vec<f32>,
    /// the basin of each cell, and later the one that it was joined to
    label: Vec<u16>,
    /// for each cell, the cell that it drops to
    lower: Vec<u32>,
    /// whether joins are to be told; then the basin of each cell at first
    tells_joins: bool,
    first_label: Vec<u16>,
    joining: Joining,
}

impl Scratch {
    /// Memory that notes every join.
    pub(super) fn that_tells_joins() -> Self {
        Self { tells_joins: true, ..Self::default() }
    }

    /// Finds the basins of a tile of `dem` and joins them. `outlets` are cells that keep their
    /// elevation beyond those at the footprint's edge, by number in the whole grid, ascending.
    /// `put` is told each row of the tile with the basins of its cells.
    pub(super) fn work(
        &mut self,
        dem: &Grid<f32>,
        place: Place,
        outlets: &[u32],
        mut put: impl FnMut(usize, &[u16]),
    ) -> Tile {
        let (rows, cols) = (place.rows(), place.cols());
        let width = cols + 2;
        let any_nodata = self.load(dem, place);
        self.label.clear();
        self.label.resize((rows + 2) * width, NONE);
        self.mark_ocean(rows, cols, any_nodata);
        for &outlet in outlets_between(outlets, dem.cols(), place) {
            let (row, col) = (outlet as usize / dem.cols(), outlet as usize % dem.cols());
            if col >= place.left && col <= place.right {
                self.label[(row - place.top + 1) * width + col - place.left + 1] = OCEAN;
            }
        }
        let mut seeds = vec![(u32::MAX, u32::MAX)];
        for row in 0..rows {
            let rim_row = row == 0 || row + 1 == rows;
            let step = if rim_row || cols == 1 { 1 } else { cols - 1 };
            for col in (0..cols).step_by(step) {
                let at = (row + 1) * width + col + 1;
                if self.label[at] == NONE {
                    self.label[at] = seeds.len() as u16;
                    seeds.push(((place.top + row) as u32, (place.left + col) as u32));
                }
            }
        }
        let basins = self.drop_all(rows, cols, seeds.len());
        for row in 0..rows {
            put(row, &self.label[(row + 1) * width + 1..][..cols]);
        }
        // From numbers with one more cell all round to numbers in the tile.
        let inner = |at: u32| ((at as usize / width - 1) * cols + at as usize % width - 1) as u32;
        let mut bottoms = Vec::new();
        if self.tells_joins {
            self.first_label.clone_from(&self.label);
            bottoms.resize(basins, u32::MAX);
            for row in 2..rows.max(2) {
                for at in row * width + 2..row * width + cols.max(2) {
                    if self.lower[at] as usize == at && self.label[at] as usize >= seeds.len() {
                        bottoms[self.label[at] as usize] = inner(at as u32);
                    }
                }
            }
        }
        let cells = Cells { z: &self.z, label: &mut self.label, width };
        let (drains, passes) = self.joining.join(cells, seeds.len(), basins);
        let label = |at: u32| self.first_label[at as usize];
        let mut joins = Vec::new();
        if self.tells_joins {
            joins.extend(self.joining.joins.iter().map(|&(high, low)| Join {
                high: inner(high),
                low: inner(low),
                high_label: label(high),
                low_label: label(low),
            }));
        }
        Tile { place, drains, seeds, passes, joins, bottoms }
    }

    /// Copies the elevations; whether there is nodata or the border among them.
    fn load(&mut self, dem: &Grid<f32>, place: Place) -> bool {
        let (rows, cols) = (place.rows(), place.cols());
        let width = cols + 2;
        self.z.clear();
        self.z.resize((rows + 2) * width, f32::NAN);
        let from = place.left.saturating_sub(1);
        let to = (place.right + 2).min(dem.cols());
        let shift = from + 1 - place.left;
        for row in place.top.saturating_sub(1)..(place.bottom + 2).min(dem.rows()) {
            let at = (row + 1 - place.top) * width + shift;
            self.z[at..at + to - from]
                .copy_from_slice(&dem.values()[row * dem.cols() + from..row * dem.cols() + to]);
        }
        self.z.iter().fold(false, |any, z| any | z.is_nan())
    }

    /// Cells that are nodata or beside it belong to the ocean.
    fn mark_ocean(&mut self, rows: usize, cols: usize, any_nodata: bool) {
        if !any_nodata {
            return;
        }
        let width = cols + 2;
        for row in 1..=rows {
            let line = |r: usize| &self.z[r * width..(r + 1) * width];
            let (above, here, below) = (line(row - 1), line(row), line(row + 1));
            let labels = &mut self.label[row * width..][..width];
            label_beside_nodata(above, here, below, labels, OCEAN);
        }
    }

    /// Drops every cell to its lowest neighbour, on to a local minimum or a labelled cell, and
    /// labels it; returns the number of labels. Among equals the first in row order is lower.
    fn drop_all(&mut self, rows: usize, cols: usize, seeds: usize) -> usize {
        let width = cols + 2;
        let inner = 2..rows.max(2);
        self.lower.clear();
        self.lower.extend(0..self.label.len() as u32);
        for row in inner.clone() {
            let line = |r: usize| &self.z[r * width..][..width];
            let first = (row * width) as u32;
            let lower = &mut self.lower[row * width..][..width];
            lowest_neighbours(line(row - 1), line(row), line(row + 1), first, lower);
        }
        // Labelled cells stay where they are.
        for (at, (lower, &label)) in self.lower.iter_mut().zip(&self.label).enumerate() {
            *lower = if label == NONE { *lower } else { at as u32 };
        }
        // Each goes on to where the one below it has got to, there and back, until all have arrived.
        let (first, last) = (inner.start * width, (inner.end * width).min(self.lower.len()));
        let lower = &mut self.lower[..];
        loop {
            let mut moved = 0;
            for at in first..last {
                let next = lower[lower[at] as usize];
                moved |= next ^ lower[at];
                lower[at] = next;
            }
            if moved == 0 {
                break;
            }
            for at in (first..last).rev() {
                lower[at] = lower[lower[at] as usize];
            }
        }
        let (lower, label) = (&self.lower[..], &mut self.label[..]);
        let mut labels = seeds;
        for row in inner.clone() {
            for at in row * width + 2..row * width + cols.max(2) {
                if lower[at] as usize == at && label[at] == NONE {
                    label[at] = labels as u16;
                    labels += 1;
                }
            }
        }
        for row in inner {
            for at in row * width + 2..row * width + cols.max(2) {
                label[at] = label[lower[at] as usize];
            }
        }
        labels
    }
}

/// The outlets in the rows of a tile; `outlets` are cell numbers in ascending order.
fn outlets_between(outlets: &[u32], cols: usize, place: Place) -> &[u32] {
    let from = outlets.partition_point(|&o| (o as usize) < place.top * cols);
    let to = outlets.partition_point(|&o| (o as usize) < (place.bottom + 1) * cols);
    &outlets[from..to]
}
