//! The trees that sinks form, joined pass by pass.

use rayon::prelude::*;

use super::paths::Paths;
use crate::Result;
use crate::joined::root;
use crate::{Monitor, monitor::check};

/// A pass between two nodes: its level, its higher cell and the cell on the other side.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pass {
    pub level: f32,
    /// elevation of the cell on the other side
    pub lower: f32,
    pub high: u32,
    pub low: u32,
    pub high_basin: u32,
    pub low_basin: u32,
}

impl Pass {
    /// Lower passes first, those of one level by their higher cells. A cell is joined first to where water goes on
    /// from it: its lowest neighbour.
    pub(super) fn order(&self, other: &Self) -> std::cmp::Ordering {
        let cells = self.level.total_cmp(&other.level).then(self.high.cmp(&other.high));
        cells.then(self.lower.total_cmp(&other.lower)).then(self.low.cmp(&other.low))
    }
}

/// No node, or no cell.
pub(super) const NOBODY: u32 = u32::MAX;
/// What drains without being filled.
pub(super) const OCEAN: u32 = 0;

/// Where a node is lowest, and up to where its parts fill it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Bottom {
    pub cell: u32,
    /// elevation there
    pub lowest: f32,
    /// the level up to which what it is made of holds it; of a single basin `lowest`
    pub filled: f32,
}

impl Bottom {
    /// Of what holds no water.
    pub(super) const NONE: Self = Self { cell: NOBODY, lowest: f32::NEG_INFINITY, filled: f32::NEG_INFINITY };
}

/// A basin, or what holds two sinks.
#[derive(Debug, Clone, Copy)]
pub(super) struct Node {
    pub parent: u32,
    pub bottom: Bottom,
    /// level of the pass over which it spills; below all where it does not
    pub level: f32,
    /// the number of that pass, by height
    pub spill: u32,
    /// the node on the other side, as it was then
    pub beyond: u32,
    /// whether the higher cell of the pass lies on that side
    pub high_beyond: bool,
}

impl Node {
    fn alone(bottom: Bottom) -> Self {
        let level = f32::NEG_INFINITY;
        Self { parent: NOBODY, bottom, level, spill: NOBODY, beyond: NOBODY, high_beyond: false }
    }

    /// Whether it is a sink by itself: it spills, and holds more than its parts do by then.
    pub(super) fn is_sink(&self) -> bool {
        self.spill != NOBODY && self.level > self.bottom.filled
    }
}

/// Sinks while they are joined: first single nodes, then those that hold two sinks.
pub(super) struct Trees {
    /// for union and find, over nodes
    root: Vec<u32>,
    nodes: Vec<Node>,
    /// of those that hold two
    children: Vec<[u32; 2]>,
    singles: usize,
}

impl Trees {
    /// Nodes that are not joined yet.
    pub(super) fn new(bottoms: &[Bottom]) -> Self {
        // Room for as many again that hold two, so that nothing is copied on the way.
        let mut nodes = Vec::with_capacity(bottoms.len() * 2);
        let mut root = Vec::with_capacity(bottoms.len() * 2);
        nodes.extend(bottoms.iter().map(|&bottom| Node::alone(bottom)));
        root.extend(0..nodes.len() as u32);
        Self { root, nodes, children: Vec::new(), singles: bottoms.len() }
    }

    /// The same of many, by all cores; Cancel is heard in between.
    pub(super) fn of_many(bottoms: &[Bottom], monitor: &dyn Monitor) -> Result<Self> {
        let mut nodes = Vec::with_capacity(bottoms.len() * 2);
        let mut root = Vec::with_capacity(bottoms.len() * 2);
        for some in bottoms.chunks(1 << 20) {
            check(monitor)?;
            nodes.par_extend(some.par_iter().map(|&bottom| Node::alone(bottom)));
            root.extend(root.len() as u32..nodes.len() as u32);
        }
        Ok(Self { root, nodes, children: Vec::new(), singles: bottoms.len() })
    }

    /// What a node is joined to by now.
    pub(super) fn find(&mut self, at: u32) -> u32 {
        root(&mut self.root, at)
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
        self.join(number, pass.level, a, b);
    }

    /// Joins two that a pass connects, `a` on the side of its higher cell.
    pub(super) fn join(&mut self, number: u32, level: f32, a: u32, b: u32) {
        let bottom_of = |node: u32| {
            let bottom = self.nodes[node as usize].bottom;
            (bottom.lowest, bottom.cell)
        };
        // What has no depth below the pass (a cell of a rim, a step on a flat) is no sink of its own.
        let (low, high) = if bottom_of(a) < bottom_of(b) { (a, b) } else { (b, a) };
        if bottom_of(high).0 >= level {
            self.root[high as usize] = low;
            self.nodes[high as usize].parent = low;
            return;
        }
        let node = self.root.len() as u32;
        let (lowest, cell) = bottom_of(low);
        self.spills(a, number, level, b, false);
        self.spills(b, number, level, a, true);
        self.nodes.push(Node::alone(Bottom { cell, lowest, filled: level }));
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

    /// A node.
    pub(super) fn node(&self, node: u32) -> &Node {
        &self.nodes[node as usize]
    }

    /// Sets the level over which a node spills.
    pub(super) fn set_level(&mut self, node: u32, level: f32) {
        self.nodes[node as usize].level = level;
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

    /// The two sinks that a node holds, or none where it is a single one.
    pub(super) fn children(&self, node: usize) -> Option<[u32; 2]> {
        self.children.get(node.checked_sub(self.singles)?).copied()
    }

    /// Number of nodes that hold no others.
    pub(super) fn singles(&self) -> usize {
        self.singles
    }

    /// Adds to each node that holds two what these hold.
    pub(super) fn add_up(&self, held: &mut [(u64, f64)], heard: impl Fn(usize) -> Result<()>) -> Result<()> {
        for node in self.singles..self.nodes.len() {
            heard(node)?;
            for child in self.children(node).into_iter().flatten() {
                let (cells, sum) = held[child as usize];
                held[node].0 += cells;
                held[node].1 += sum;
            }
        }
        Ok(())
    }

    /// The largest sink that holds a basin, up to the node `up_to` that holds it too; where there is none, the
    /// node at which it was looked for last. `is_sink` tells which nodes are sinks.
    pub(super) fn largest_sink(
        &self,
        basin: u32,
        mut up_to: u32,
        is_sink: impl Fn(u32) -> bool,
        paths: &Paths,
    ) -> std::result::Result<u32, u32> {
        let basin = paths.sink[basin as usize];
        while !is_sink(up_to) {
            if up_to == basin {
                return Err(basin);
            }
            up_to = paths.below(up_to, basin);
        }
        Ok(up_to)
    }
}
