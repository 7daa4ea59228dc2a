//! The trees that sinks form: joined pass by pass, then asked what each holds and where it spills.

use rayon::prelude::*;

use super::hierarchy::{Depression, Nodes, OCEAN};
use super::tile::Tile;
use crate::monitor::SharedPace;
use crate::{Frame, Grid, Result};

/// A pass between two nodes: its level, its higher cell and the cell on the other side.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pass {
    pub level: f32,
    pub high: u32,
    pub low: u32,
    pub high_basin: u32,
    pub low_basin: u32,
}

/// No node, or no cell.
pub(super) const NOBODY: u32 = u32::MAX;

/// Sinks while they are joined: first the nodes of the graph, then those that hold two sinks.
pub(super) struct Trees {
    /// for union and find, over nodes
    root: Vec<u32>,
    parent: Vec<u32>,
    /// the lowest cell of each node
    bottom: Vec<u32>,
    /// pass over which a node spills, and its level; below all where it does not
    spill: Vec<Option<Pass>>,
    level: Vec<f32>,
    /// nodes on the other side of the spill, as they were then
    beyond: Vec<u32>,
    /// whether the higher cell of the pass lies on that side
    high_beyond: Vec<bool>,
    children: Vec<[u32; 2]>,
    basins: usize,
}

impl Trees {
    pub(super) fn new(bottom: Vec<u32>) -> Self {
        let nodes = bottom.len();
        Self {
            root: (0..nodes as u32).collect(),
            parent: vec![NOBODY; nodes],
            bottom,
            spill: vec![None; nodes],
            level: vec![f32::NEG_INFINITY; nodes],
            beyond: vec![NOBODY; nodes],
            high_beyond: vec![false; nodes],
            children: vec![[NOBODY; 2]; nodes],
            basins: nodes,
        }
    }

    fn find(&mut self, mut at: u32) -> u32 {
        while self.root[at as usize] != at {
            self.root[at as usize] = self.root[self.root[at as usize] as usize];
            at = self.root[at as usize];
        }
        at
    }

    /// The elevation and number of a node's lowest cell.
    fn lowest(&self, dem: &Grid<f32>, node: u32) -> (f32, u32) {
        let bottom = self.bottom[node as usize];
        (dem.values()[bottom as usize], bottom)
    }

    /// Joins what a pass connects; passes come from the lowest up.
    pub(super) fn take(&mut self, dem: &Grid<f32>, pass: &Pass) {
        let (a, b) = (self.find(pass.high_basin), self.find(pass.low_basin));
        if a == b {
            return;
        }
        if a != OCEAN && b != OCEAN {
            // What has no depth below the pass (a cell of a rim, a step on a flat) is no sink of its own.
            let (low, high) = if self.lowest(dem, a) < self.lowest(dem, b) { (a, b) } else { (b, a) };
            if self.lowest(dem, high).0 >= pass.level {
                self.root[high as usize] = low;
                self.parent[high as usize] = low;
                return;
            }
        }
        for (one, other) in [(a, b), (b, a)] {
            if one != OCEAN {
                self.spill[one as usize] = Some(*pass);
                self.level[one as usize] = pass.level;
                self.beyond[one as usize] = other;
                self.high_beyond[one as usize] = one == b;
            }
        }
        if a == OCEAN || b == OCEAN {
            self.root[a.max(b) as usize] = OCEAN;
            return;
        }
        let node = self.root.len() as u32;
        let lower = if self.lowest(dem, b) < self.lowest(dem, a) { b } else { a };
        self.root.push(node);
        self.parent.push(NOBODY);
        self.bottom.push(self.bottom[lower as usize]);
        self.spill.push(None);
        self.level.push(f32::NEG_INFINITY);
        self.beyond.push(NOBODY);
        self.high_beyond.push(false);
        self.children.push([a, b]);
        for child in [a, b] {
            self.root[child as usize] = node;
            self.parent[child as usize] = node;
        }
    }

    /// For each node: how many cells lie below its spill level, and the sum of their elevations.
    pub(super) fn hold(
        &self,
        dem: &Grid<f32>,
        labels: &[u16],
        tiles: &[Tile],
        nodes: &Nodes,
        ancestors: &Ancestors,
        pace: &SharedPace<'_>,
    ) -> Result<Vec<(u64, f64)>> {
        let by_tile: Vec<Vec<(u32, u64, f64)>> = tiles
            .par_iter()
            .enumerate()
            .map(|(number, tile)| {
                pace.advance(1)?;
                Ok(self.hold_tile(dem, labels, number, tile, nodes, ancestors))
            })
            .collect::<Result<_>>()?;
        let mut held = vec![(0u64, 0f64); self.root.len()];
        for (node, cells, sum) in by_tile.into_iter().flatten() {
            held[node as usize].0 += cells;
            held[node as usize].1 += sum;
        }
        for node in self.basins..self.root.len() {
            for child in self.children[node] {
                let (cells, sum) = held[child as usize];
                held[node].0 += cells;
                held[node].1 += sum;
            }
        }
        Ok(held)
    }

    /// For each node an ancestor so far up that, taking it or the parent, any ancestor is reached in
    /// steps that grow as the logarithm of their distance; a node without a parent has itself.
    ///
    /// Source: Myers 1983, Information Processing Letters 17, 241-244 (skew-binary jumps).
    pub(super) fn ancestors(&self) -> Ancestors {
        let mut far = vec![NOBODY; self.root.len()];
        let mut top = self.level.clone();
        let mut depth = vec![0u32; self.root.len()];
        let mut path = Vec::new();
        for start in (0..self.root.len()).rev() {
            let mut at = start;
            while far[at] == NOBODY {
                path.push(at);
                match self.parent[at] {
                    NOBODY => break,
                    parent => at = parent as usize,
                }
            }
            while let Some(node) = path.pop() {
                far[node] = match self.parent[node] {
                    NOBODY => node as u32,
                    parent => {
                        let (parent, jump) = (parent as usize, far[parent as usize] as usize);
                        top[node] = top[parent];
                        depth[node] = depth[parent] + 1;
                        let (first, second) =
                            (depth[parent] - depth[jump], depth[jump] - depth[far[jump] as usize]);
                        if first == second { far[jump] } else { parent as u32 }
                    }
                };
            }
        }
        Ancestors { far, depth, top }
    }

    /// The first sink from a node up that covers an elevation.
    #[inline]
    fn covering(&self, mut at: u32, z: f32, far: &[u32]) -> u32 {
        // Levels never fall on the way up.
        while z >= self.level[at as usize] {
            let jump = far[at as usize];
            if jump != at && z >= self.level[jump as usize] {
                at = jump;
            } else {
                at = self.parent[at as usize];
                if at == NOBODY {
                    break;
                }
            }
        }
        at
    }

    /// The cells of a tile, each given to the first sink above it that covers it. Rims belong to the
    /// tile to the south or east.
    fn hold_tile(
        &self,
        dem: &Grid<f32>,
        labels: &[u16],
        number: usize,
        tile: &Tile,
        nodes: &Nodes,
        ancestors: &Ancestors,
    ) -> Vec<(u32, u64, f64)> {
        let (rows, cols) = nodes.tiling.own(tile.place);
        let of_label: Vec<(u32, f32, f32)> = (0..tile.drains.len())
            .map(|label| match nodes.of_label(number, tile, label as u16) {
                OCEAN => (OCEAN, f32::NEG_INFINITY, f32::NEG_INFINITY),
                node => (node, self.level[node as usize], ancestors.top[node as usize]),
            })
            .collect();
        // Most cells in a sink lie in that of their own basin.
        let mut by_label = vec![(0u64, 0f64); of_label.len()];
        let mut held = Vec::new();
        let (mut run, mut cells, mut sum) = (NOBODY, 0u64, 0f64);
        for row in rows {
            let own = row * dem.cols() + cols.start..row * dem.cols() + cols.end;
            for (&label, &z) in labels[own.clone()].iter().zip(&dem.values()[own]) {
                let (node, level, top) = of_label[label as usize];
                if z < level {
                    let held = &mut by_label[label as usize];
                    *held = (held.0 + 1, held.1 + z as f64);
                } else if z < top {
                    let node = self.covering(node, z, &ancestors.far);
                    if node != run {
                        if cells > 0 {
                            held.push((run, cells, sum));
                        }
                        (run, cells, sum) = (node, 0, 0.0);
                    }
                    cells += 1;
                    sum += z as f64;
                }
            }
        }
        if cells > 0 {
            held.push((run, cells, sum));
        }
        let own = by_label.iter().zip(&of_label).filter(|((cells, _), _)| *cells > 0);
        held.extend(own.map(|(&(cells, sum), &(node, ..))| (node, cells, sum)));
        held
    }

    /// Whether a node is a sink by itself: it spills, and holds more than its parts do by then.
    fn is_sink(&self, dem: &Grid<f32>, node: usize) -> bool {
        let filled_before = match self.children[node] {
            [NOBODY, _] => match self.bottom[node] {
                NOBODY => return false,
                bottom => dem.values()[bottom as usize],
            },
            [child, _] => self.level[child as usize],
        };
        self.spill[node].is_some() && self.level[node] > filled_before
    }

    pub(super) fn list(
        &self,
        dem: &Grid<f32>,
        frame: &Frame,
        held: &[(u64, f64)],
        ancestors: &Ancestors,
    ) -> Vec<Depression> {
        let mut id_of = vec![NOBODY; self.root.len()];
        let mut ids = 0;
        for (node, id) in id_of.iter_mut().enumerate().skip(1) {
            if self.is_sink(dem, node) {
                *id = ids;
                ids += 1;
            }
        }
        let cell_m2 = frame.cell_area().as_m2();
        (1..self.root.len())
            .filter(|&node| id_of[node] != NOBODY)
            .filter_map(|node| {
                let spill = self.spill[node]?;
                let (cells, sum) = held[node];
                let mut parent = self.parent[node];
                while parent != NOBODY && id_of[parent as usize] == NOBODY {
                    parent = self.parent[parent as usize];
                }
                let (beyond, basin) = match self.high_beyond[node] {
                    true => (spill.high, spill.high_basin),
                    false => (spill.low, spill.low_basin),
                };
                Some(Depression {
                    id: id_of[node],
                    parent: id_of.get(parent as usize).copied(),
                    bottom: dem.cell(self.bottom[node] as usize),
                    spill_level_m: spill.level,
                    spill: dem.cell(spill.high as usize),
                    beyond: dem.cell(beyond as usize),
                    beyond_sink: self.largest_sink(basin, self.beyond[node], &id_of, ancestors),
                    depth_m: spill.level - dem.values()[self.bottom[node] as usize],
                    cells,
                    area: frame.area_of(cells),
                    volume_m3: (spill.level as f64 * cells as f64 - sum) * cell_m2,
                })
            })
            .collect()
    }

    /// The largest sink that holds a basin, up to the node `up_to` that holds it too.
    fn largest_sink(&self, basin: u32, mut up_to: u32, id_of: &[u32], ancestors: &Ancestors) -> Option<u32> {
        while up_to != OCEAN && up_to != NOBODY {
            if id_of[up_to as usize] != NOBODY {
                return Some(id_of[up_to as usize]);
            }
            if up_to == basin {
                return None;
            }
            // On the way down to the basin.
            up_to = ancestors.at_depth(self, basin, ancestors.depth[up_to as usize] + 1);
        }
        None
    }
}

/// Ways up the trees that skip most of them.
pub(super) struct Ancestors {
    far: Vec<u32>,
    depth: Vec<u32>,
    /// the level of the highest ancestor: nothing above it is covered
    top: Vec<f32>,
}

impl Ancestors {
    /// The ancestor of a node that lies so many parents below its root; itself where it lies higher.
    fn at_depth(&self, trees: &Trees, mut node: u32, depth: u32) -> u32 {
        while self.depth[node as usize] > depth {
            let far = self.far[node as usize];
            node = if self.depth[far as usize] >= depth { far } else { trees.parent[node as usize] };
        }
        node
    }
}
