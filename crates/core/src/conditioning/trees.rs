//! The trees that sinks form: joined pass by pass, then asked what each holds and where it spills.

use rayon::prelude::*;

use super::hierarchy::{Depression, Nodes, OCEAN};
use super::paths::{Held, Paths, Recent};
use super::tile::Tile;
use crate::monitor::{SharedPace, check};
use crate::{Frame, Grid, Monitor, Result};

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

/// A node of the graph, or what holds two sinks.
#[derive(Debug, Clone, Copy)]
struct Node {
    parent: u32,
    /// its lowest cell, and the elevation there
    bottom: u32,
    lowest: f32,
    /// level of the pass over which it spills; below all where it does not
    level: f32,
    /// the number of that pass, by height
    spill: u32,
    /// the node on the other side, as it was then
    beyond: u32,
    /// whether the higher cell of the pass lies on that side
    high_beyond: bool,
}

/// Sinks while they are joined: first the nodes of the graph, then those that hold two sinks.
pub(super) struct Trees {
    /// for union and find, over nodes
    root: Vec<u32>,
    nodes: Vec<Node>,
    /// of those that hold two
    children: Vec<[u32; 2]>,
    basins: usize,
}

impl Trees {
    /// Nodes that are not joined yet, by their lowest cells.
    pub(super) fn new(dem: &Grid<f32>, bottoms: &[u32], monitor: &dyn Monitor) -> Result<Self> {
        let alone = |&bottom: &u32| Node {
            parent: NOBODY,
            bottom,
            lowest: dem.values().get(bottom as usize).copied().unwrap_or(f32::NEG_INFINITY),
            level: f32::NEG_INFINITY,
            spill: NOBODY,
            beyond: NOBODY,
            high_beyond: false,
        };
        // Room for as many again that hold two, so that nothing is copied on the way.
        let mut nodes = Vec::with_capacity(bottoms.len() * 2);
        let mut root = Vec::with_capacity(bottoms.len() * 2);
        for some in bottoms.chunks(1 << 20) {
            check(monitor)?;
            nodes.par_extend(some.par_iter().map(alone));
            root.extend(root.len() as u32..nodes.len() as u32);
        }
        Ok(Self { root, nodes, children: Vec::new(), basins: bottoms.len() })
    }

    fn find(&mut self, mut at: u32) -> u32 {
        while self.root[at as usize] != at {
            self.root[at as usize] = self.root[self.root[at as usize] as usize];
            at = self.root[at as usize];
        }
        at
    }

    /// Joins what a pass connects; passes come from the lowest up, each with its number.
    pub(super) fn take(&mut self, number: u32, pass: &Pass) {
        let (a, b) = (self.find(pass.high_basin), self.find(pass.low_basin));
        if a == b {
            return;
        }
        if a == OCEAN || b == OCEAN {
            let sink = a.max(b);
            self.spills(sink, number, pass.level, OCEAN, sink == b);
            self.root[sink as usize] = OCEAN;
            return;
        }
        let bottom_of = |node: u32| {
            let node = &self.nodes[node as usize];
            (node.lowest, node.bottom)
        };
        // What has no depth below the pass (a cell of a rim, a step on a flat) is no sink of its own.
        let (low, high) = if bottom_of(a) < bottom_of(b) { (a, b) } else { (b, a) };
        if bottom_of(high).0 >= pass.level {
            self.root[high as usize] = low;
            self.nodes[high as usize].parent = low;
            return;
        }
        let node = self.root.len() as u32;
        let (lowest, bottom) = bottom_of(low);
        self.spills(a, number, pass.level, b, false);
        self.spills(b, number, pass.level, a, true);
        self.nodes.push(Node {
            parent: NOBODY,
            bottom,
            lowest,
            level: f32::NEG_INFINITY,
            spill: NOBODY,
            beyond: NOBODY,
            high_beyond: false,
        });
        self.root.push(node);
        self.children.push([a, b]);
        for child in [a, b] {
            self.root[child as usize] = node;
            self.nodes[child as usize].parent = node;
        }
    }

    fn spills(&mut self, node: u32, spill: u32, level: f32, beyond: u32, high_beyond: bool) {
        let node = &mut self.nodes[node as usize];
        *node = Node { spill, level, beyond, high_beyond, ..*node };
    }

    /// Number of nodes.
    pub(super) fn len(&self) -> usize {
        self.nodes.len()
    }

    /// The level over which a node spills, below all where it does not.
    pub(super) fn level(&self, node: usize) -> f32 {
        self.nodes[node].level
    }

    /// What a node is joined to, [`NOBODY`] for the top of a tree.
    pub(super) fn parent(&self, node: usize) -> u32 {
        self.nodes[node].parent
    }

    /// Whether a node is no sink of its own but a part of another.
    pub(super) fn is_part(&self, node: usize) -> bool {
        let node = &self.nodes[node];
        node.spill == NOBODY && node.parent != NOBODY
    }

    /// The two sinks that a node holds, or none where it is a node of the graph.
    pub(super) fn children(&self, node: usize) -> Option<[u32; 2]> {
        self.children.get(node.checked_sub(self.basins)?).copied()
    }

    /// For each node: how many cells lie below its spill level, and the sum of their elevations.
    pub(super) fn hold(
        &self,
        dem: &Grid<f32>,
        labels: &[u16],
        tiles: &[Tile],
        nodes: &Nodes,
        paths: &Paths,
        pace: &SharedPace<'_>,
    ) -> Result<Vec<(u64, f64)>> {
        let by_tile: Vec<Vec<Held>> = tiles
            .par_iter()
            .enumerate()
            .map(|(number, tile)| {
                pace.advance(1)?;
                Ok(self.hold_tile(dem, labels, number, tile, nodes, paths))
            })
            .collect::<Result<_>>()?;
        let mut held = vec![(0u64, 0f64); self.root.len()];
        for tile in by_tile {
            pace.check()?;
            for one in tile {
                let all = &mut held[one.node as usize];
                *all = (all.0 + one.cells as u64, all.1 + one.sum);
            }
        }
        for node in self.basins..self.root.len() {
            if node.is_multiple_of(1 << 16) {
                pace.check()?;
            }
            for child in self.children(node).into_iter().flatten() {
                let (cells, sum) = held[child as usize];
                held[node].0 += cells;
                held[node].1 += sum;
            }
        }
        Ok(held)
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
        paths: &Paths,
    ) -> Vec<Held> {
        let (rows, cols) = nodes.tiling.own(tile.place);
        // Node, its level, the level above which nothing covers.
        let of_label: Vec<(u32, f32, f32)> = (0..tile.drains.len())
            .map(|label| match nodes.of_label(number, tile, label as u16) {
                OCEAN => (OCEAN, f32::NEG_INFINITY, f32::NEG_INFINITY),
                node => {
                    let node = paths.sink[node as usize];
                    (node, self.nodes[node as usize].level, paths.of(node).highest)
                }
            })
            .collect();
        // Most cells in a sink lie in that of their own basin.
        let mut by_label = vec![(0u32, 0f64); of_label.len()];
        let mut recent = Recent::default();
        for row in rows {
            let own = row * dem.cols() + cols.start..row * dem.cols() + cols.end;
            for (&label, &z) in labels[own.clone()].iter().zip(&dem.values()[own]) {
                let (node, level, highest) = of_label[label as usize];
                if z < level {
                    let held = &mut by_label[label as usize];
                    *held = (held.0 + 1, held.1 + z as f64);
                } else if z < highest {
                    recent.add(paths.covering(node, z), z);
                }
            }
        }
        let mut held = recent.all();
        let own = by_label.iter().zip(&of_label).filter(|((cells, _), _)| *cells > 0);
        held.extend(own.map(|(&(cells, sum), &(node, ..))| Held { node, cells, sum }));
        held
    }

    /// Whether a node is a sink by itself: it spills, and holds more than its parts do by then.
    fn is_sink(&self, number: usize) -> bool {
        let node = &self.nodes[number];
        let filled_before = match self.children(number) {
            None => node.lowest,
            Some([child, _]) => self.nodes[child as usize].level,
        };
        node.spill != NOBODY && node.level > filled_before
    }

    /// The sinks among the nodes; `passes` are all, by height, and `held` what each node holds.
    pub(super) fn list(
        &self,
        dem: &Grid<f32>,
        frame: &Frame,
        passes: &[Pass],
        held: &[(u64, f64)],
        paths: &Paths,
        monitor: &dyn Monitor,
    ) -> Result<Vec<Depression>> {
        let mut id_of = vec![NOBODY; self.root.len()];
        let mut sinks = Vec::new();
        for (node, id) in id_of.iter_mut().enumerate().skip(1) {
            if node.is_multiple_of(1 << 16) {
                check(monitor)?;
            }
            if self.is_sink(node) {
                *id = sinks.len() as u32;
                sinks.push(node as u32);
            }
        }
        let cell_m2 = frame.cell_area().as_m2();
        let mut list = Vec::with_capacity(sinks.len());
        for some in sinks.chunks(1 << 16) {
            check(monitor)?;
            list.par_extend(some.par_iter().map(|&number| {
                let node = &self.nodes[number as usize];
                let spill = &passes[node.spill as usize];
                let (cells, sum) = held[number as usize];
                let mut parent = node.parent;
                while parent != NOBODY && id_of[parent as usize] == NOBODY {
                    parent = self.nodes[parent as usize].parent;
                }
                let (beyond, basin) = match node.high_beyond {
                    true => (spill.high, spill.high_basin),
                    false => (spill.low, spill.low_basin),
                };
                Depression {
                    id: id_of[number as usize],
                    parent: id_of.get(parent as usize).copied(),
                    bottom: dem.cell(node.bottom as usize),
                    spill_level_m: node.level,
                    spill: dem.cell(spill.high as usize),
                    beyond: dem.cell(beyond as usize),
                    beyond_sink: self.largest_sink(basin, node.beyond, &id_of, paths),
                    depth_m: node.level - node.lowest,
                    cells,
                    area: frame.area_of(cells),
                    volume_m3: (node.level as f64 * cells as f64 - sum) * cell_m2,
                }
            }));
        }
        Ok(list)
    }

    /// The largest sink that holds a basin, up to the node `up_to` that holds it too.
    fn largest_sink(&self, basin: u32, mut up_to: u32, id_of: &[u32], paths: &Paths) -> Option<u32> {
        while up_to != OCEAN && up_to != NOBODY {
            if id_of[up_to as usize] != NOBODY {
                return Some(id_of[up_to as usize]);
            }
            if up_to == paths.sink[basin as usize] {
                return None;
            }
            up_to = paths.below(up_to, paths.sink[basin as usize]);
        }
        None
    }
}
