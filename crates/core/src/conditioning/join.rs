//! Joining the basins of a tile over their lowest passes, until each is joined to a seed.
//!
//! Cells are ordered by elevation, then by number, so that no two are equal; a pass is as high as
//! the higher of its two cells. All passes of one height then share that cell, and basins that choose
//! their lowest pass can form no ring but of two that choose each other.

use super::rows::{Passes, each_pass, lowest_beside};
use super::tile::{NONE, OCEAN, Pass};

/// Rounds in which the lowest passes are found from the cells themselves; most basins are joined after them.
const ROUNDS_OVER_CELLS: usize = 2;
/// Places for pairs of basins that were seen lately, as a power of two.
const SEEN_BITS: u32 = 11;

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

/// A pair of neighbouring basins: the number of its edge, and the level.
#[derive(Clone, Copy, Default)]
struct Seen {
    pair: u32,
    edge: u32,
    level: f32,
}

/// The cells of a tile, with one more all round.
pub(super) struct Cells<'a> {
    pub z: &'a [f32],
    /// the basin of each, and later the one that it was joined to
    pub label: &'a mut [u16],
    /// cells in a row
    pub width: usize,
}

/// Memory that is used again from tile to tile.
#[derive(Default)]
pub(super) struct Joining {
    passes: Passes,
    /// for each basin, the key of its lowest pass
    keys: Vec<u64>,
    path: Vec<u32>,
    edges: Vec<Edge>,
    /// pairs of basins seen lately; two may want the same place, and the later has it
    seen: Vec<Seen>,
    between_seeds: Vec<Edge>,
    /// for each basin its lowest pass: level, and the number of its higher cell or of its edge
    best: Vec<(f32, u32)>,
    other: Vec<u16>,
    root: Vec<u16>,
    /// for each basin, the cells of its lowest pass
    ends: Vec<(u32, u32)>,
    /// the passes over which basins were joined: higher and lower cell
    pub joins: Vec<(u32, u32)>,
}

impl Joining {
    /// Joins basins over their lowest passes until each is joined to a seed. The first `seeds` of
    /// `basins` labels are seeds. Returns, for each basin, the seed and the level that it fills to at
    /// least, and the passes between seeds.
    pub(super) fn join(
        &mut self,
        cells: Cells<'_>,
        seeds: usize,
        basins: usize,
    ) -> (Vec<(u16, f32)>, Vec<Pass>) {
        // What each basin was joined to, and over which level.
        let mut joined: Vec<(u16, f32)> = (0..basins).map(|b| (b as u16, f32::NEG_INFINITY)).collect();
        self.joins.clear();
        self.root.clear();
        self.root.extend((0..basins).map(|b| b as u16));
        self.other.clear();
        self.other.resize(basins, NONE);
        self.edges.clear();
        self.ends.clear();
        self.ends.resize(basins, (u32::MAX, u32::MAX));

        let mut open = basins - seeds;
        for _ in 0..ROUNDS_OVER_CELLS {
            self.find_best_over_cells(&cells, seeds, basins);
            open = self.contract(seeds, basins, &mut joined);
            for label in cells.label.iter_mut() {
                *label = self.root.get(*label as usize).copied().unwrap_or(NONE);
            }
        }
        self.list_edges(&cells);
        // Passes between seeds wait until all basins are joined.
        self.between_seeds.clear();
        loop {
            let Self { edges, between_seeds, root, .. } = self;
            edges.retain_mut(|e| {
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
        let passes = self.join_seeds(seeds);
        self.find_levels(seeds, &mut joined);
        (joined, passes)
    }

    /// Lists the lowest pass between each two basins that are neighbours, now and then one more.
    fn list_edges(&mut self, cells: &Cells<'_>) {
        let Self { edges, passes, seen, .. } = self;
        edges.clear();
        seen.clear();
        seen.resize(1 << SEEN_BITS, Seen::default());
        each_pass(cells.z, cells.label, cells.width, passes, |a, b, level, ends| {
            let (a, b) = (a.min(b), a.max(b));
            let pair = (a as u32) << 16 | b as u32;
            let seen = &mut seen[(pair.wrapping_mul(0x9E37_79B1) >> (32 - SEEN_BITS)) as usize];
            if seen.pair != pair {
                *seen = Seen { pair, edge: edges.len() as u32, level };
                edges.push(Edge { level, a, b, first_a: a, first_b: b, ends });
            } else if level <= seen.level {
                let edge = &mut edges[seen.edge as usize];
                if level < edge.level || ends < edge.ends {
                    (edge.level, edge.ends) = (level, ends);
                    seen.level = level;
                }
            }
        });
    }

    /// The seeds' own minimum spanning forest, by the same rounds.
    fn join_seeds(&mut self, seeds: usize) -> Vec<Pass> {
        self.edges.clear();
        self.edges.append(&mut self.between_seeds);
        for (b, root) in self.root.iter_mut().enumerate().take(seeds) {
            *root = b as u16;
        }
        let mut passes = Vec::with_capacity(seeds);
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
        passes
    }

    /// From what each basin was joined to, the seed that it drains to and its level: what a basin fills
    /// to is never below its way out.
    fn find_levels(&mut self, seeds: usize, joined: &mut [(u16, f32)]) {
        for b in seeds..joined.len() {
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
    }

    /// The lowest pass of each basin, from its cells.
    fn find_best_over_cells(&mut self, cells: &Cells<'_>, seeds: usize, basins: usize) {
        let (z, label, width) = (cells.z, &*cells.label, cells.width);
        self.keys.clear();
        self.keys.resize(basins, u64::MAX);
        // Seeds do not choose, and every other cell has eight neighbours in the tile.
        let rows = z.len() / width;
        for row in 2..rows.saturating_sub(2) {
            self.passes.of_row(z, label, width, row);
            let keys = &mut self.keys[..];
            let inner = 2..width.max(4) - 2;
            let labels = &label[row * width..][inner.clone()];
            for (&label, key) in labels.iter().zip(self.passes.keys(inner)) {
                // No branch, since which of the two is lower cannot be foretold.
                if let Some(lowest) = keys.get_mut(label as usize) {
                    *lowest = key.min(*lowest);
                }
            }
        }
        self.best.clear();
        self.best.resize(basins, (f32::INFINITY, u32::MAX));
        for basin in seeds..basins {
            let high = self.keys[basin] as u32;
            if self.keys[basin] >= Passes::NO_PASS {
                continue;
            }
            let own = label[high as usize] as usize == basin;
            let low = lowest_beside(z, width, high as usize, |n| {
                (label[n] as usize == basin) != own && label[n] != NONE
            });
            let beyond = if own { low } else { high };
            self.best[basin] = (z[high as usize], high);
            self.other[basin] = label[beyond as usize];
            self.ends[basin] = (high, low);
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
            self.joins.push(self.ends[basin]);
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
