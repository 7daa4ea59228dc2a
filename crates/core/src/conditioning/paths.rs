//! Ways up the trees of sinks, laid out so that a sink of a wanted height is found at once.
//!
//! Each node that holds two goes on in the larger of them; so the trees fall into paths, of which at most
//! as many as the logarithm of the number of nodes lie above any basin. The levels of a path lie side by
//! side, and never fall on the way up.
//!
//! Source: Sleator and Tarjan 1983, Journal of Computer and System Sciences 26, 362-391 (heavy paths).

use super::trees::{NOBODY, Trees};
use crate::monitor::check;
use crate::{Monitor, Result};

/// A path from a basin up.
pub(super) struct Path {
    /// the place of its first node
    begin: u32,
    /// one past the place of its last node
    end: u32,
    /// what holds the last of them; [`NOBODY`] at the top of a tree
    above: u32,
    /// level of the last of them
    level: f32,
    /// level of the highest sink of the tree: nothing above it is covered
    pub highest: f32,
    /// level of its first node
    lowest: f32,
    /// where the index of a long path begins, and how many steps of it go to a metre; [`NOBODY`] for none
    index: u32,
    steps: f32,
}

/// Where the way up from a node enters a path, for the elevations that are covered there.
#[derive(Debug, Clone, Copy)]
pub(super) struct Way {
    /// the lowest such elevation, and the first that is too high
    pub low: f32,
    pub high: f32,
    path: u32,
    from: u32,
}

impl Way {
    /// No way is known yet.
    pub(super) const UNKNOWN: Self = Self { low: f32::INFINITY, high: f32::NEG_INFINITY, path: 0, from: 0 };
}

/// Paths of fewer nodes need no index.
const LONG: usize = 48;

impl Path {
    /// The step of a long path's index for an elevation; it never falls with it.
    fn step(&self, z: f32) -> usize {
        (((z - self.lowest) * self.steps) as usize).min((self.end - self.begin) as usize - 1)
    }
}

/// The paths of all trees.
pub(super) struct Paths {
    /// for each node itself, or the sink that it is no more than a part of
    pub sink: Vec<u32>,
    paths: Vec<Path>,
    /// for each node its path and its place
    path: Vec<u32>,
    place: Vec<u32>,
    /// level and node at each place
    levels: Vec<f32>,
    nodes: Vec<u32>,
    /// for each step of a long path the first place whose level belongs to it or a higher one, and one more
    index: Vec<u32>,
}

impl Paths {
    pub(super) fn new(trees: &Trees, monitor: &dyn Monitor) -> Result<Self> {
        let count = trees.len();
        let heard = |node: usize| if node.is_multiple_of(1 << 16) { check(monitor) } else { Ok(()) };
        let mut sink: Vec<u32> = (0..count as u32).collect();
        let mut size = vec![1u32; count];
        for node in 0..count {
            heard(node)?;
            if let Some([a, b]) = trees.children(node) {
                size[node] = size[a as usize] + size[b as usize];
            }
        }
        let larger = |node: usize| {
            let [a, b] = trees.children(node)?;
            Some(if size[b as usize] > size[a as usize] { b } else { a })
        };
        let mut paths: Vec<Path> = Vec::new();
        let mut path = vec![NOBODY; count];
        let mut place = vec![NOBODY; count];
        let mut levels = vec![0f32; count];
        let mut nodes = vec![NOBODY; count];
        let mut used = 0u32;
        let mut chain = Vec::new();
        for top in (0..count).rev() {
            heard(top)?;
            // What holds two comes after them.
            if path[top] != NOBODY || trees.is_part(top) {
                continue;
            }
            chain.clear();
            let mut at = Some(top as u32);
            while let Some(node) = at {
                chain.push(node);
                at = larger(node as usize);
            }
            let number = paths.len() as u32;
            for &node in chain.iter().rev() {
                path[node as usize] = number;
                place[node as usize] = used;
                levels[used as usize] = trees.level(node as usize);
                nodes[used as usize] = node;
                used += 1;
            }
            let (level, above) = (trees.level(top), trees.parent(top));
            let highest = match path.get(above as usize) {
                Some(&path) => paths[path as usize].highest,
                None => level,
            };
            let begin = used - chain.len() as u32;
            let lowest = levels[begin as usize];
            paths.push(Path { begin, end: used, above, level, highest, lowest, index: NOBODY, steps: 0.0 });
        }
        let mut index = Vec::new();
        for path in paths.iter_mut().filter(|path| (path.end - path.begin) as usize >= LONG) {
            let own = &levels[path.begin as usize..path.end as usize];
            let (lowest, highest) = (own[0], own[own.len() - 1]);
            let steps = own.len() as f32 / (highest - lowest);
            // Levels that are all alike, or below all, need none.
            if !(steps.is_finite() && lowest.is_finite()) {
                continue;
            }
            (path.index, path.steps) = (index.len() as u32, steps);
            let mut filled = 0;
            for (at, &level) in own.iter().enumerate() {
                heard(at)?;
                let step = path.step(level);
                while filled <= step {
                    index.push(path.begin + at as u32);
                    filled += 1;
                }
            }
            index.resize(path.index as usize + own.len() + 1, path.end);
        }
        for node in 0..count {
            heard(node)?;
            let mut at = node as u32;
            while trees.is_part(at as usize) {
                at = sink[trees.parent(at as usize) as usize];
            }
            // Whoever comes later goes on from here.
            sink[node] = at;
        }
        Ok(Self { sink, paths, path, place, levels, nodes, index })
    }

    /// The path of a node that is a sink of its own.
    pub(super) fn of(&self, node: u32) -> &Path {
        &self.paths[self.path[node as usize] as usize]
    }

    /// The first sink from a node up that covers an elevation, which lies below the highest level.
    pub(super) fn covering(&self, node: u32, z: f32) -> u32 {
        self.node_at(self.covering_place(&self.way(node, z), z))
    }

    /// The way up from a node for an elevation, which lies below the highest level.
    pub(super) fn way(&self, node: u32, z: f32) -> Way {
        let (mut path, mut from) = (self.path[node as usize], self.place[node as usize]);
        let mut low = f32::NEG_INFINITY;
        loop {
            let own = &self.paths[path as usize];
            if z < own.level {
                return Way { low, high: own.level, path, from };
            }
            low = own.level;
            from = self.place[own.above as usize];
            path = self.path[own.above as usize];
        }
    }

    /// The place of the first sink on a way that covers an elevation.
    pub(super) fn covering_place(&self, way: &Way, z: f32) -> u32 {
        let path = &self.paths[way.path as usize];
        let (mut from, mut end) = (way.from as usize, path.end as usize);
        if path.index != NOBODY && z > path.lowest {
            let step = path.index as usize + path.step(z);
            from = from.max(self.index[step] as usize);
            end = end.min(self.index[step + 1] as usize + 1).max(from);
        }
        (from + self.levels[from..end].partition_point(|&level| level <= z)) as u32
    }

    /// The place of a node that is a sink of its own.
    pub(super) fn place_of(&self, node: u32) -> u32 {
        self.place[node as usize]
    }

    /// The node at a place.
    pub(super) fn node_at(&self, place: u32) -> u32 {
        self.nodes[place as usize]
    }

    /// Of the two that a node holds, the one that holds a sink further down.
    pub(super) fn below(&self, node: u32, sink: u32) -> u32 {
        let own = self.path[node as usize];
        let mut at = sink;
        loop {
            let path = self.path[at as usize];
            if path == own {
                return self.nodes[self.place[node as usize] as usize - 1];
            }
            let path = &self.paths[path as usize];
            if path.above == node {
                return self.nodes[path.end as usize - 1];
            }
            at = path.above;
        }
    }
}
