//! One tile of a DEM: its basins, the passes between them, and how high each basin fills.
//!
//! A tile is small enough to stay in a processor's cache. The cells of its rim are *seeds*: how
//! high they fill depends on other tiles, so each stands for itself. Every other cell drops to its
//! lowest neighbour, and so to a local minimum or a seed; cells that drop to the same place are a
//! basin. The lowest pass out of each basin is found, basins are joined over these passes, and so
//! on (minimum spanning forest, Borůvka 1926), until every basin is joined to a seed.

use super::rows::{each_pass, lowest_neighbours, lowest_pass, passes_of_row};
use crate::Grid;

/// Label of the cells where water leaves: the footprint's edge, kept sinks, and all outside.
pub(super) const OCEAN: u16 = 0;
/// Label of the cells round a tile, and of those that have none yet.
pub(super) const NONE: u16 = u16::MAX;
const ROUNDS_OVER_CELLS: usize = 2;

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
    /// basin of each cell, row by row
    pub basin: Vec<u16>,
    /// for each basin: the seed that it is joined to, and the level it fills to at least
    pub drains: Vec<(u16, f32)>,
    /// the cell of each seed as row and column in the whole grid; the ocean, label 0, has none
    pub seeds: Vec<(u32, u32)>,
    /// passes between seeds: a minimum spanning forest
    pub passes: Vec<Pass>,
    /// where it was asked for, the passes over which basins and seeds were joined, as the numbers of
    /// their higher and lower cells in the tile: a minimum spanning forest of all
    pub joins: Vec<(u32, u32)>,
    /// where it was asked for, the local minimum of each basin by its number in the tile; of seeds and
    /// the ocean nothing
    pub bottoms: Vec<u32>,
}

/// Memory that is used again from tile to tile.
#[derive(Default)]
pub(super) struct Scratch {
    /// elevations with one more cell all round; `NaN` beyond the grid
    z: Vec<f32>,
    label: Vec<u16>,
    /// for each cell, the cell that it drops to
    lower: Vec<u32>,
    /// for each cell of a row, the lowest pass from it to another basin
    over: Vec<f32>,
    path: Vec<u32>,
    edges: Vec<Edge>,
    best: Vec<(f32, u32)>,
    other: Vec<u16>,
    root: Vec<u16>,
    /// whether joins are to be told, and those so far, by number in the scratch memory
    tells_joins: bool,
    joins: Vec<(u32, u32)>,
    /// for each basin, the cells of its lowest pass
    ends: Vec<(u32, u32)>,
}

/// A pass between two basins: what they are joined to by now, and what they were at first.
#[derive(Clone, Copy)]
struct Edge {
    level: f32,
    a: u16,
    b: u16,
    first_a: u16,
    first_b: u16,
    /// its cells: the higher and the lower
    ends: (u32, u32),
}

impl Scratch {
    /// Memory that notes every join.
    pub(super) fn that_tells_joins() -> Self {
        Self { tells_joins: true, ..Self::default() }
    }

    /// Finds the basins of a tile of `dem` and joins them. `outlets` are cells that keep their
    /// elevation beyond those at the footprint's edge, by number in the whole grid, ascending.
    pub(super) fn work(&mut self, dem: &Grid<f32>, place: Place, outlets: &[u32]) -> Tile {
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
        let mut basin = Vec::with_capacity(rows * cols);
        for row in 1..=rows {
            basin.extend_from_slice(&self.label[row * width + 1..row * width + 1 + cols]);
        }
        self.joins.clear();
        let mut bottoms = Vec::new();
        // From numbers with one more cell all round to numbers in the tile.
        let inner = |at: u32| ((at as usize / width - 1) * cols + at as usize % width - 1) as u32;
        if self.tells_joins {
            bottoms.resize(basins, u32::MAX);
            for row in 2..rows.max(2) {
                for at in row * width + 2..row * width + cols.max(2) {
                    if self.lower[at] as usize == at && self.label[at] as usize >= seeds.len() {
                        bottoms[self.label[at] as usize] = inner(at as u32);
                    }
                }
            }
        }
        let (drains, passes) = self.join(rows, cols, seeds.len(), basins);
        let joins = self.joins.iter().map(|&(high, low)| (inner(high), inner(low))).collect();
        Tile { place, basin, drains, seeds, passes, joins, bottoms }
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
            for col in 1..=cols {
                // A sum is a number only where all nine are.
                let sum = above[col - 1] * 0.0
                    + above[col] * 0.0
                    + above[col + 1] * 0.0
                    + here[col - 1] * 0.0
                    + here[col] * 0.0
                    + here[col + 1] * 0.0
                    + below[col - 1] * 0.0
                    + below[col] * 0.0
                    + below[col + 1] * 0.0;
                if sum.is_nan() {
                    self.label[row * width + col] = OCEAN;
                }
            }
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

    /// Joins basins over their lowest passes until each is joined to a seed.
    fn join(
        &mut self,
        rows: usize,
        cols: usize,
        seeds: usize,
        basins: usize,
    ) -> (Vec<(u16, f32)>, Vec<Pass>) {
        // What each basin was joined to, and over which level.
        let mut joined: Vec<(u16, f32)> = (0..basins).map(|b| (b as u16, f32::NEG_INFINITY)).collect();
        self.root.clear();
        self.root.extend((0..basins).map(|b| b as u16));
        self.other.clear();
        self.other.resize(basins, NONE);
        self.edges.clear();
        self.ends.clear();
        self.ends.resize(basins, (u32::MAX, u32::MAX));

        // The first rounds read passes from the cells: most basins are gone after them.
        let mut open = basins - seeds;
        for _ in 0..ROUNDS_OVER_CELLS {
            self.find_best_over_cells(rows, cols, seeds, basins);
            open = self.contract(seeds, basins, &mut joined);
            for label in &mut self.label {
                *label = self.root.get(*label as usize).copied().unwrap_or(NONE);
            }
        }
        let mut passes = Vec::new();
        {
            let Self { z, label, edges, over, .. } = self;
            over.resize(cols + 2, f32::INFINITY);
            each_pass(z, label, rows, over, |a, b, level, ends| {
                edges.push(Edge { level, a, b, first_a: a, first_b: b, ends });
            });
        }
        // Passes between seeds wait until all basins are joined.
        let mut between_seeds: Vec<Edge> = Vec::new();
        loop {
            let root = &self.root;
            self.edges.retain_mut(|e| {
                (e.a, e.b) = (root[e.a as usize], root[e.b as usize]);
                let between = (e.a as usize) < seeds && (e.b as usize) < seeds;
                if between && e.a != e.b {
                    between_seeds.push(Edge { first_a: e.a, first_b: e.b, ..*e });
                }
                e.a != e.b && !between
            });
            if open == 0 {
                break;
            }
            self.find_best(basins, None);
            open = self.contract(seeds, basins, &mut joined);
        }
        self.edges.clear();
        self.edges.append(&mut between_seeds);

        // The seeds' own minimum spanning forest, by the same rounds.
        for (b, root) in self.root.iter_mut().enumerate().take(seeds) {
            *root = b as u16;
        }
        let mut rounds: Vec<(u16, f32)> = (0..seeds).map(|b| (b as u16, f32::NEG_INFINITY)).collect();
        while !self.edges.is_empty() {
            self.find_best(seeds, Some(&mut passes));
            self.contract(0, seeds, &mut rounds);
            let root = &self.root;
            self.edges.retain_mut(|e| {
                (e.a, e.b) = (root[e.a as usize], root[e.b as usize]);
                e.a != e.b
            });
        }

        // From the last joined to the first: what a basin fills to is never below its way out.
        for b in seeds..basins {
            let mut at = b as u16;
            self.path.clear();
            while at as usize >= seeds {
                self.path.push(at as u32);
                let (next, _) = joined[at as usize];
                if next == at {
                    break;
                }
                at = next;
            }
            let (mut seed, mut level) = (at, f32::NEG_INFINITY);
            if at as usize >= seeds {
                (seed, level) = (OCEAN, f32::NEG_INFINITY);
            }
            while let Some(passed) = self.path.pop() {
                // A basin resolved before points straight at its seed.
                level = level.max(joined[passed as usize].1);
                joined[passed as usize] = (seed, level);
            }
        }
        (joined, passes)
    }

    /// The lowest pass of each basin, from its cells.
    ///
    /// Cells are ordered by elevation, then by number, so that no two are equal; a pass is as high
    /// as the higher of its two cells. All passes of one height then share that cell, and basins
    /// that choose their lowest pass can form no ring but of two that choose each other.
    fn find_best_over_cells(&mut self, rows: usize, cols: usize, seeds: usize, basins: usize) {
        let width = cols + 2;
        self.best.clear();
        self.best.resize(basins, (f32::INFINITY, u32::MAX));
        self.over.clear();
        self.over.resize(width, f32::INFINITY);
        // Seeds do not choose, and every other cell has eight neighbours in the tile.
        for row in 2..rows.max(2) {
            let [above, here, below] = [row - 1, row, row + 1].map(|r| r * width..(r + 1) * width);
            let (z, label) = (&self.z, &self.label);
            let over = &mut self.over;
            passes_of_row(
                &z[above.clone()],
                &z[here.clone()],
                &z[below.clone()],
                &label[above],
                &label[here],
                &label[below],
                over,
            );
            let inner = row * width + 2..row * width + cols.max(2);
            let (over, labels) = (&self.over[2..], &self.label[inner.clone()]);
            let best = &mut self.best[..];
            for ((cell, &label), &level) in inner.zip(labels).zip(over) {
                let basin = label as usize;
                let so_far = best[basin];
                if level > so_far.0 || basin < seeds || level == f32::INFINITY {
                    continue;
                }
                let pass = |cell: usize| lowest_pass(&self.z, &self.label, width, cell).0;
                let first = level < so_far.0 || so_far.1 == u32::MAX;
                if first || pass(cell) < pass(so_far.1 as usize) {
                    best[basin] = (level, cell as u32);
                }
            }
        }
        for basin in seeds..basins {
            let (level, cell) = self.best[basin];
            if cell != u32::MAX {
                let (higher, lower) = lowest_pass(&self.z, &self.label, width, cell as usize);
                let beyond = if higher == cell { lower } else { higher };
                self.best[basin] = (level, higher);
                self.other[basin] = self.label[beyond as usize];
                self.ends[basin] = (higher, lower);
            }
        }
    }

    /// The lowest pass of each basin among the edges. With `chosen`, those that will join two are
    /// noted there by the seeds they lay between at first.
    fn find_best(&mut self, basins: usize, chosen: Option<&mut Vec<Pass>>) {
        self.best.clear();
        self.best.resize(basins, (f32::INFINITY, u32::MAX));
        for (number, e) in self.edges.iter().enumerate() {
            for (one, two) in [(e.a, e.b), (e.b, e.a)] {
                let best = &mut self.best[one as usize];
                // Equally low passes are ordered by their cells, so that both sides choose the same.
                let lower = e.level < best.0
                    || best.1 == u32::MAX
                    || (e.level == best.0 && e.ends < self.ends[one as usize]);
                if lower {
                    *best = (e.level, number as u32);
                    self.other[one as usize] = two;
                    self.ends[one as usize] = e.ends;
                }
            }
        }
        if let Some(chosen) = chosen {
            for basin in 0..basins {
                let (level, number) = self.best[basin];
                if number == u32::MAX {
                    continue;
                }
                let other = self.other[basin] as usize;
                // A pass that both ends choose is noted once.
                if self.best[other].1 != number || basin < other {
                    let e = &self.edges[number as usize];
                    chosen.push(Pass { a: e.first_a, b: e.first_b, level });
                }
            }
        }
    }

    /// Joins every basin from `seeds` on over its best pass; sets the roots; returns how many
    /// basins are still open.
    fn contract(&mut self, seeds: usize, basins: usize, joined: &mut [(u16, f32)]) -> usize {
        let mut open = 0;
        for (basin, joined) in joined.iter_mut().enumerate().take(basins).skip(seeds) {
            let (level, number) = self.best[basin];
            if self.root[basin] as usize != basin || number == u32::MAX {
                continue;
            }
            let other = self.other[basin] as usize;
            // Two that choose the same pass: the first becomes the root of both.
            let mutual = self.best[other].1 == number && self.other[other] as usize == basin;
            if other >= seeds && mutual && basin < other {
                open += 1;
                continue;
            }
            *joined = (other as u16, level);
            if self.tells_joins {
                self.joins.push(self.ends[basin]);
            }
            self.root[basin] = other as u16;
        }
        for basin in seeds..basins {
            let mut at = self.root[basin];
            while self.root[at as usize] != at {
                self.root[at as usize] = self.root[self.root[at as usize] as usize];
                at = self.root[at as usize];
            }
            self.root[basin] = at;
        }
        open
    }
}

/// The outlets in the rows of a tile; `outlets` are cell numbers in ascending order.
fn outlets_between(outlets: &[u32], cols: usize, place: Place) -> &[u32] {
    let from = outlets.partition_point(|&o| (o as usize) < place.top * cols);
    let to = outlets.partition_point(|&o| (o as usize) < (place.bottom + 1) * cols);
    &outlets[from..to]
}
