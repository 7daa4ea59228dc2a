//! The sinks of one tile that its rim has no part in.
//!
//! While two sinks of a tile are joined over a pass below any over which one of them reaches the tile's rim, what
//! lies beyond the rim cannot change that: so these are joined in the tile alone, on every core, and only what is
//! left of them, sinks that nothing in the tile holds, takes part in the graph of the whole grid.

use super::held::{Held, Recent};
use super::paths::{Paths, Way};
use super::skeleton::Tiling;
use super::tile::{OCEAN, Place, Tile};
use super::trees::{Bottom, NOBODY, Pass, Trees};
use crate::{Grid, Result, Silent};

/// The sinks of a tile.
pub(super) struct Nest {
    pub place: Place,
    /// the cell of each seed, as row and column in the whole grid
    seeds: Vec<(u32, u32)>,
    /// nodes by label, then those that hold two
    pub trees: Trees,
    /// the passes over which they were joined
    pub passes: Vec<Pass>,
    /// sinks that nothing in the tile holds
    pub tops: Vec<u32>,
    /// passes to the rim and what is joined to it; their basins are *ends*: labels of seeds, then tops
    pub open: Vec<Pass>,
    /// for each node its place among the tile's own sinks, [`NOBODY`] for none; tops are not among them
    pub rank: Vec<u32>,
    /// number of the tile's own sinks
    pub own: u32,
}

impl Nest {
    /// Joins what can be joined in a tile alone.
    pub(super) fn of(dem: &Grid<f32>, tile: Tile) -> Self {
        let (place, cols) = (tile.place, dem.cols());
        let width = place.right - place.left + 1;
        let cell = |at: u32| {
            let (row, col) = (at as usize / width, at as usize % width);
            ((place.top + row) * cols + place.left + col) as u32
        };
        let (labels, seeds) = (tile.drains.len(), tile.seeds.len());
        let bottom = |label: usize| match label < seeds {
            true => Bottom::NONE,
            false => {
                let cell = cell(tile.bottoms[label]);
                let lowest = dem.values()[cell as usize];
                Bottom { cell, lowest, filled: lowest }
            }
        };
        let bottoms: Vec<Bottom> = (0..labels).map(bottom).collect();
        let mut trees = Trees::new(&bottoms);
        let mut by_height: Vec<Pass> = tile
            .joins
            .iter()
            .map(|join| {
                let (high, low) = (cell(join.high), cell(join.low));
                let (level, lower) = (dem.values()[high as usize], dem.values()[low as usize]);
                let (high_basin, low_basin) = (join.high_label as u32, join.low_label as u32);
                Pass { level, lower, high, low, high_basin, low_basin }
            })
            .collect();
        by_height.sort_unstable_by(Pass::order);
        let mut reaches_rim = vec![false; labels];
        reaches_rim[..seeds].fill(true);
        let (mut passes, mut open) = (Vec::new(), Vec::new());
        for pass in by_height {
            let (a, b) = (trees.find(pass.high_basin), trees.find(pass.low_basin));
            if reaches_rim[a as usize] || reaches_rim[b as usize] {
                (reaches_rim[a as usize], reaches_rim[b as usize]) = (true, true);
                open.push(Pass { high_basin: a, low_basin: b, ..pass });
            } else {
                trees.join(passes.len() as u32, pass.level, a, b);
                passes.push(pass);
                reaches_rim.resize(trees.len(), false);
            }
        }
        // Tops follow the seeds; what is no top gets a rank where it is a sink.
        let mut rank = vec![NOBODY; trees.len()];
        let mut end = vec![NOBODY; trees.len()];
        end[..seeds].iter_mut().zip(0..).for_each(|(end, label)| *end = label);
        let (mut tops, mut own) = (Vec::new(), 0);
        for node in seeds as u32..trees.len() as u32 {
            if trees.find(node) == node {
                end[node as usize] = (seeds + tops.len()) as u32;
                tops.push(node);
            } else if trees.node(node).is_sink() {
                rank[node as usize] = own;
                own += 1;
            }
        }
        for pass in &mut open {
            (pass.high_basin, pass.low_basin) = (end[pass.high_basin as usize], end[pass.low_basin as usize]);
        }
        Self { place, seeds: tile.seeds, trees, passes, tops, open, rank, own }
    }

    /// The number in the graph of the whole grid of an end, where that of the tile's first top is `first`.
    pub(super) fn node(&self, tiling: &Tiling, first: u32, end: u32) -> u32 {
        match self.seeds.get(end as usize) {
            _ if end == OCEAN as u32 => super::trees::OCEAN,
            Some(&(row, col)) => tiling.node(row as usize, col as usize) as u32,
            None => first + end - self.seeds.len() as u32,
        }
    }

    /// The cells of the rim that are seeds: their node, and their number in the grid.
    pub(super) fn rim<'a>(
        &'a self,
        tiling: &'a Tiling,
        cols: usize,
    ) -> impl Iterator<Item = (usize, u32)> + 'a {
        self.seeds.iter().skip(1).map(move |&(row, col)| {
            let (row, col) = (row as usize, col as usize);
            (tiling.node(row, col), (row * cols + col) as u32)
        })
    }

    /// The largest of the tile's own sinks that holds a basin, by its place among them.
    pub(super) fn largest_own(&self, label: u16) -> Option<u32> {
        let up = std::iter::successors(Some(label as u32), |&node| {
            Some(self.trees.parent(node as usize)).filter(|&up| up != NOBODY)
        });
        up.map(|node| self.rank[node as usize]).filter(|&rank| rank != NOBODY).last()
    }
}

/// What the graph of the whole grid tells a tile.
pub(super) struct Known<'a> {
    pub tiling: &'a Tiling,
    pub trees: &'a Trees,
    pub paths: &'a Paths,
    /// the node of the tile's first top
    pub first: u32,
}

/// What the sinks of a tile hold.
pub(super) struct Holding {
    /// cells of each of the tile's nodes, and the sum of their elevations
    pub own: Vec<(u64, f64)>,
    /// ways up in the tile
    pub paths: Paths,
    /// what is held by nodes of the whole grid, by their places on its paths
    pub others: Vec<Held>,
}

impl Nest {
    /// Gives each cell of the tile to the first sink that covers it. Rims belong to the tile to the south or east.
    /// `labels` tells the basins of a row's cells; `put` is told each row with the levels up to which its cells are
    /// filled.
    pub(super) fn hold(
        &mut self,
        dem: &Grid<f32>,
        labels: &Grid<u16>,
        known: &Known<'_>,
        mut put: impl FnMut(usize, &[f32], &[f32]),
    ) -> Result<Holding> {
        let seeds = self.seeds.len();
        let count = self.tops.len();
        for top in 0..count {
            let level = known.trees.level(known.first as usize + top);
            self.trees.set_level(self.tops[top], level);
        }
        let paths = Paths::new(&self.trees, &Silent)?;
        let mut end = vec![NOBODY; self.trees.len()];
        self.tops.iter().zip(seeds as u32..).for_each(|(&top, at)| end[top as usize] = at);
        // For each label: the level of its own sink, of the top above it, of the highest sink above that; and the
        // sink that the top, or the cell of the rim, is in the whole grid.
        let of_label: Vec<(f32, f32, f32, u32)> = (0..self.trees.singles())
            .map(|label| {
                let (own, top, end) = match label < seeds {
                    true => (f32::NEG_INFINITY, f32::NEG_INFINITY, label as u32),
                    false => {
                        let top = self.trees.find(label as u32);
                        let own = self.trees.level(paths.sink[label] as usize);
                        (own, self.trees.level(top as usize), end[top as usize])
                    }
                };
                match self.node(known.tiling, known.first, end) {
                    super::trees::OCEAN => (own, top, f32::NEG_INFINITY, super::trees::OCEAN),
                    node => {
                        let sink = known.paths.sink[node as usize];
                        (own, top, known.paths.of(sink).highest, sink)
                    }
                }
            })
            .collect();
        // Most cells in a sink lie in that of their own basin.
        let mut by_label = vec![(0u64, 0f64); of_label.len()];
        let mut own = vec![(0u64, 0f64); self.trees.len()];
        let mut above = Vec::new();
        let (rows, cols) = known.tiling.own(self.place);
        let mut levels = Vec::new();
        for (at, row) in rows.enumerate() {
            let range = row * dem.cols() + cols.start..row * dem.cols() + cols.end;
            let (labels, heights) = (&labels.values()[range.clone()], &dem.values()[range]);
            levels.clear();
            for (&label, &z) in labels.iter().zip(heights) {
                let (level, top, highest, _) = of_label[label as usize];
                levels.push(highest);
                if z < level {
                    let held = &mut by_label[label as usize];
                    *held = (held.0 + 1, held.1 + z as f64);
                } else if z < top {
                    let held = &mut own[paths.covering(paths.sink[label as usize], z) as usize];
                    *held = (held.0 + 1, held.1 + z as f64);
                } else if z < highest {
                    above.push((z, label));
                }
            }
            put(at, heights, &levels);
        }
        let mut ways = vec![Way::UNKNOWN; of_label.len()];
        let mut recent = Recent::default();
        // From the lowest up, what is looked up lies side by side.
        for &(z, label) in &lowest_first(above) {
            // Cells of one basin go the same way, nearly always.
            let way = &mut ways[label as usize];
            if !(way.low <= z && z < way.high) {
                *way = known.paths.way(of_label[label as usize].3, z);
            }
            recent.add(known.paths.covering_place(way, z), z);
        }
        for (label, (cells, sum)) in by_label.into_iter().enumerate().skip(seeds) {
            let held = &mut own[paths.sink[label] as usize];
            *held = (held.0 + cells, held.1 + sum);
        }
        self.trees.add_up(&mut own, |_| Ok(()))?;
        let mut others = recent.all();
        for (&top, node) in self.tops.iter().zip(known.first..) {
            let (cells, sum) = own[top as usize];
            if cells > 0 {
                others.push(Held { place: known.paths.place_of(node), cells: cells as u32, sum });
            }
        }
        Ok(Holding { own, paths, others })
    }
}

/// Orders cells by elevation, roughly: those of one step in 4,096 stay as they came.
fn lowest_first(cells: Vec<(f32, u16)>) -> Vec<(f32, u16)> {
    const STEPS: usize = 4096;
    let (low, high) =
        cells.iter().fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), c| (l.min(c.0), h.max(c.0)));
    let steps = STEPS as f32 / (high - low);
    if cells.len() < 64 || !steps.is_finite() {
        return cells;
    }
    let step = |z: f32| (((z - low) * steps) as usize).min(STEPS - 1);
    let mut next = [0u32; STEPS];
    cells.iter().for_each(|c| next[step(c.0)] += 1);
    let mut before = 0;
    for next in &mut next {
        before += std::mem::replace(next, before);
    }
    let mut ordered = vec![(0.0, 0); cells.len()];
    for cell in cells {
        let next = &mut next[step(cell.0)];
        ordered[*next as usize] = cell;
        *next += 1;
    }
    ordered
}
