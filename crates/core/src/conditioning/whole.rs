//! The graph of the whole grid: what tiles leave open, joined over the lines between them.

use rayon::prelude::*;

use super::held::Held;
use super::hierarchy::Depression;
use super::nests::{Holding, Nest};
use super::paths::Paths;
use super::skeleton::Tiling;
use super::trees::{Bottom, NOBODY, Node, OCEAN, Pass, Trees};
use crate::monitor::{Later, SharedPace, check, gather};
use crate::{Error, Frame, Grid, Monitor, Result};

/// Levels that passes are parted by before they are sorted, so that Cancel is heard in between.
const PARTS: usize = 128;

/// Sorts passes by level, then by their cells.
fn by_height(passes: Vec<Pass>, monitor: &dyn Monitor) -> Result<Vec<Pass>> {
    let mut bounds: Vec<f32> =
        passes.iter().step_by((passes.len() / (PARTS * 32)).max(1)).map(|p| p.level).collect();
    bounds.sort_unstable_by(f32::total_cmp);
    let bounds: Vec<f32> = bounds.iter().copied().step_by((bounds.len() / PARTS).max(1)).skip(1).collect();
    let count = passes.len();
    let mut parts: Vec<Vec<Pass>> = Vec::new();
    parts.resize_with(bounds.len() + 1, || Vec::with_capacity(count / (bounds.len() + 1)));
    for (number, pass) in passes.into_iter().enumerate() {
        if number.is_multiple_of(1 << 16) {
            check(monitor)?;
        }
        parts[bounds.partition_point(|bound| bound.total_cmp(&pass.level).is_le())].push(pass);
    }
    parts.par_iter_mut().try_for_each(|part| {
        check(monitor)?;
        part.par_sort_unstable_by(Pass::order);
        Ok::<_, Error>(())
    })?;
    let mut all = Vec::with_capacity(count);
    for part in parts {
        check(monitor)?;
        all.extend(part);
    }
    Ok(all)
}

/// The graph of the whole grid, joined: the ocean, the cells of the tiles' rims, and what the tiles hold without
/// them.
pub(super) struct Whole {
    pub tiling: Tiling,
    /// the node of each tile's first top
    pub first: Vec<u32>,
    passes: Vec<Pass>,
    pub trees: Trees,
    pub paths: Paths,
    /// the number of each tile's first sink
    first_sink: Vec<u32>,
    /// for each node the number of its sink, [`NOBODY`] for none
    id_of: Vec<u32>,
    /// number of all sinks
    pub count: u32,
}

impl Whole {
    pub(super) fn join(
        dem: &Grid<f32>,
        tiling: Tiling,
        nests: &[Nest],
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        let running = |from: u32, of: &dyn Fn(&Nest) -> u32| {
            let mut next = from;
            let mut first = Vec::with_capacity(nests.len());
            for nest in nests {
                first.push(next);
                next += of(nest);
            }
            (first, next)
        };
        let (first, nodes) = running(tiling.nodes() as u32, &|nest| nest.tops.len() as u32);
        let (first_sink, mut count) = running(0, &|nest| nest.own);
        let mut bottoms = vec![Bottom::NONE; nodes as usize];
        for (nest, &first) in nests.iter().zip(&first) {
            check(monitor)?;
            for (node, cell) in nest.rim(&tiling, dem.cols()) {
                let lowest = dem.values()[cell as usize];
                bottoms[node] = Bottom { cell, lowest, filled: lowest };
            }
            for (at, &top) in nest.tops.iter().enumerate() {
                bottoms[first as usize + at] = nest.trees.node(top).bottom;
            }
        }
        let open = nests.iter().map(|nest| nest.open.len()).sum();
        let passes = gather(nests, open, monitor, |number, nest| {
            let node = {
                let (tiling, first) = (&tiling, first[number]);
                move |end| nest.node(tiling, first, end)
            };
            nest.open.iter().map(move |pass| Pass {
                high_basin: node(pass.high_basin),
                low_basin: node(pass.low_basin),
                ..*pass
            })
        })?;
        let passes = by_height(passes, monitor)?;
        let mut trees = Trees::of_many(&bottoms, monitor)?;
        for (number, pass) in passes.iter().enumerate() {
            if number.is_multiple_of(1 << 16) {
                check(monitor)?;
            }
            trees.take(number as u32, pass);
        }
        let paths = Paths::new(&trees, monitor)?;
        let mut id_of = vec![NOBODY; trees.len()];
        for (node, id) in id_of.iter_mut().enumerate().skip(1) {
            if node.is_multiple_of(1 << 16) {
                check(monitor)?;
            }
            if trees.node(node as u32).is_sink() {
                *id = count;
                count += 1;
            }
        }
        Ok(Self { tiling, first, passes, trees, paths, first_sink, id_of, count })
    }

    /// What each node holds by itself, from what tiles told by places.
    pub(super) fn sum_up<'a>(
        &self,
        told: impl Iterator<Item = &'a [Held]> + Clone + Sync + Send,
        pace: &SharedPace<'_>,
    ) -> Result<Vec<(u64, f64)>> {
        let mut by_place = Later::new(vec![(0u64, 0f64); self.trees.len()]);
        // Each thread has a stretch of places to itself, and adds in the order of tiles.
        let stretch = by_place.len().div_ceil(rayon::current_num_threads()).max(1);
        by_place.par_chunks_mut(stretch).enumerate().try_for_each(|(number, own)| {
            let first = (number * stretch) as u32;
            for some in told.clone() {
                pace.check()?;
                for one in some {
                    if let Some(all) = own.get_mut(one.place.wrapping_sub(first) as usize) {
                        *all = (all.0 + one.cells as u64, all.1 + one.sum);
                    }
                }
            }
            Ok::<_, Error>(())
        })?;
        let mut by_node = Vec::with_capacity(self.trees.len());
        for from in (0..self.trees.len() as u32).step_by(1 << 20) {
            pace.check()?;
            let to = (from + (1 << 20)).min(self.trees.len() as u32);
            let held = |node| by_place.get(self.paths.place_of(node) as usize).copied().unwrap_or_default();
            by_node.par_extend((from..to).into_par_iter().map(held));
        }
        Ok(by_node)
    }

    /// The sink that a node is, or the next one that holds it.
    fn sink_from(&self, mut node: u32) -> Option<u32> {
        while node != NOBODY && self.id_of[node as usize] == NOBODY {
            node = self.trees.parent(node as usize);
        }
        self.id_of.get(node as usize).copied()
    }

    /// The sinks that a tile holds by itself.
    pub(super) fn list_own(
        &self,
        dem: &Grid<f32>,
        frame: &Frame,
        number: usize,
        nest: &Nest,
        holding: &Holding,
    ) -> Vec<Depression> {
        let mut list = Vec::with_capacity(nest.own as usize);
        let id = |node: u32| {
            Some(nest.rank[node as usize]).filter(|&r| r != NOBODY).map(|r| self.first_sink[number] + r)
        };
        for at in 0..nest.trees.len() as u32 {
            let Some(own) = id(at) else { continue };
            let node = nest.trees.node(at);
            // Up to the next sink: in the tile, or beyond its top.
            let mut up = node.parent;
            while id(up).is_none() && nest.trees.parent(up as usize) != NOBODY {
                up = nest.trees.parent(up as usize);
            }
            let parent = id(up).or_else(|| {
                let top = nest.tops.binary_search(&up).ok()? as u32;
                self.sink_from(self.first[number] + top)
            });
            let spill = &nest.passes[node.spill as usize];
            let (beyond, basin) = match node.high_beyond {
                true => (spill.high, spill.high_basin),
                false => (spill.low, spill.low_basin),
            };
            let beyond_sink =
                nest.trees.largest_sink(basin, node.beyond, |n| id(n).is_some(), &holding.paths).ok();
            let beyond = (beyond, beyond_sink.and_then(id));
            list.push(depression(dem, frame, own, parent, node, spill, beyond, holding.own[at as usize]));
        }
        list
    }

    /// The sinks of the whole grid, after those that tiles hold by themselves.
    #[allow(clippy::too_many_arguments)]
    pub(super) fn list(
        &self,
        dem: &Grid<f32>,
        frame: &Frame,
        labels: &Grid<u16>,
        nests: &[Nest],
        held: &[(u64, f64)],
        sinks: &mut Vec<Depression>,
        monitor: &dyn Monitor,
    ) -> Result<()> {
        let is_sink = |node: u32| self.id_of[node as usize] != NOBODY;
        let all: Vec<u32> = (1..self.trees.len() as u32).filter(|&node| is_sink(node)).collect();
        for some in all.chunks(1 << 16) {
            check(monitor)?;
            sinks.par_extend(some.par_iter().map(|&number| {
                let node = self.trees.node(number);
                let spill = &self.passes[node.spill as usize];
                let (beyond, basin) = match node.high_beyond {
                    true => (spill.high, spill.high_basin),
                    false => (spill.low, spill.low_basin),
                };
                let beyond_sink = match node.beyond {
                    OCEAN | NOBODY => None,
                    up_to => match self.trees.largest_sink(basin, up_to, is_sink, &self.paths) {
                        Ok(node) => Some(self.id_of[node as usize]),
                        // What is no sink itself may hold some in its tile.
                        Err(top) if top == basin && top >= self.first[0] => {
                            let tile = self.tiling.of_cell(dem.cell(beyond as usize));
                            let rank = nests[tile].largest_own(labels.values()[beyond as usize]);
                            rank.map(|rank| self.first_sink[tile] + rank)
                        }
                        Err(_) => None,
                    },
                };
                let parent = self.sink_from(node.parent);
                let id = self.id_of[number as usize];
                depression(dem, frame, id, parent, node, spill, (beyond, beyond_sink), held[number as usize])
            }));
        }
        Ok(())
    }
}

#[allow(clippy::too_many_arguments)]
fn depression(
    dem: &Grid<f32>,
    frame: &Frame,
    id: u32,
    parent: Option<u32>,
    node: &Node,
    spill: &Pass,
    (beyond, beyond_sink): (u32, Option<u32>),
    (cells, sum): (u64, f64),
) -> Depression {
    Depression {
        id,
        parent,
        bottom: dem.cell(node.bottom.cell as usize),
        spill_level_m: node.level,
        spill: dem.cell(spill.high as usize),
        beyond: dem.cell(beyond as usize),
        beyond_sink,
        depth_m: node.level - node.bottom.lowest,
        cells,
        area: frame.area_of(cells),
        volume_m3: (node.level as f64 * cells as f64 - sum) * frame.cell_area().as_m2(),
    }
}
