//! Sinks as objects: which lies in which, how large each is, where it spills and into what.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::monitor::{SharedPace, check};
use crate::{Area, Cell, Error, Frame, Grid, Monitor, Result};

/// A sink: all that lies below the level at which it overflows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Depression {
    /// from 0, parents after their children
    pub id: u32,
    /// the sink that it becomes part of once it is full and its neighbour is too; `None` where it
    /// spills to ground that drains
    pub parent: Option<u32>,
    /// the deepest cell (the first in row order of equals)
    pub bottom: Cell,
    /// elevation at which it overflows, metres
    pub spill_level_m: f32,
    /// the cell over which it overflows, the higher one of the pass
    pub spill: Cell,
    /// the cell on the other side of the pass
    pub beyond: Cell,
    /// the sink in whose basin that cell lies; `None` where water goes on to an outlet from there
    pub beyond_sink: Option<u32>,
    /// depth of the bottom below the spill level, metres
    pub depth_m: f32,
    /// cells below the spill level
    pub cells: u64,
    /// their area
    pub area: Area,
    /// volume below the spill level, cubic metres
    pub volume_m3: f64,
}

/// Lists all sinks of `dem` (elevation, metres, `NaN` for nodata, at `frame`), each with what it
/// holds and where it spills.
///
/// Two sinks that would spill into each other at the same pass are children of a third, which holds
/// both; so sinks form trees, whose roots spill to ground that drains. A root's cells, area and
/// volume are what filling raises there. `outlets` (cell numbers in row order, ascending) are bottoms
/// that stay open, as in [`fill_to_outlets`](super::fill_to_outlets).
///
/// Of equally low passes the one whose higher cell comes first in row order counts.
///
/// The cost is that of sorting the passes between neighbouring basins; see the table of speeds in
/// the documentation for how it compares with filling.
///
/// # Errors
/// [`Error::NoData`], [`Error::TooManyCells`], [`Error::Cancelled`].
///
/// # Source
/// Barnes, Callaghan and Wickert 2020, Earth Surface Dynamics 8, 431-445.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::sink_hierarchy};
/// // Two pits, 2 and 4 deep below the bar between them, in a hollow that spills to the east at 8.
/// let dem = Grid::from_vec(3, 6, vec![
///     9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
///     9.0, 1.0, 5.0, 3.0, 8.0, 0.0,
///     9.0, 9.0, 9.0, 9.0, 9.0, 9.0f32]);
/// let frame = Frame { rows: 3, cols: 6, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
/// let sinks = sink_hierarchy(&dem, &frame, &[], &Silent)?;
/// let depths: Vec<f32> = sinks.iter().map(|s| s.depth_m).collect();
/// assert_eq!(depths, [4.0, 2.0, 7.0]);
/// assert_eq!((sinks[0].parent, sinks[1].beyond_sink, sinks[2].parent), (Some(2), Some(0), None));
/// assert_eq!(sinks[2].volume_m3, 7.0 + 3.0 + 5.0);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn sink_hierarchy(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    monitor: &dyn Monitor,
) -> Result<Vec<Depression>> {
    dem.numbered()?;
    if dem.values().par_iter().all(|z| z.is_nan()) {
        return Err(Error::NoData);
    }
    let pace = SharedPace::new(monitor, 2 * dem.rows().div_ceil(BAND) + 4);
    let (label, bottoms) = basins(dem, outlets, &pace)?;
    let passes = passes(dem, &label, &pace)?;
    let mut trees = Trees::new(bottoms.len());
    for (number, pass) in passes.iter().enumerate() {
        if number.is_multiple_of(1 << 16) {
            check(monitor)?;
        }
        trees.take(pass);
    }
    pace.advance(1)?;
    let held = trees.hold(dem, &label, monitor)?;
    pace.advance(1)?;
    let sinks = trees.list(dem, frame, &bottoms, &held);
    monitor.progress(1.0);
    Ok(sinks)
}

/// Rows worked at a time by one thread.
const BAND: usize = 128;
/// Label of what drains without being filled.
const OCEAN: u32 = 0;

/// Labels each cell with its basin, from 1 ([`OCEAN`] for what drains to the footprint's edge or an
/// outlet); also the bottom of each basin, that of the ocean a dummy.
fn basins(dem: &Grid<f32>, outlets: &[u32], pace: &SharedPace<'_>) -> Result<(Vec<u32>, Vec<u32>)> {
    let (cols, z) = (dem.cols().max(1), dem.values());
    let mut lower: Vec<u32> = vec![0; dem.len()];
    lower.par_chunks_mut(BAND * cols).enumerate().try_for_each(|(band, out)| {
        pace.advance(1)?;
        for (i, lower) in out.iter_mut().enumerate() {
            let at = band * BAND * cols + i;
            *lower = at as u32;
            if z[at].is_nan() || dem.is_edge(at) || outlets.binary_search(&(at as u32)).is_ok() {
                continue;
            }
            let mut best = at;
            for (_, n) in dem.neighbours(at) {
                if (z[n], n) < (z[best], best) {
                    best = n;
                }
            }
            *lower = best as u32;
        }
        Ok::<(), Error>(())
    })?;
    let mut label = vec![u32::MAX; dem.len()];
    let mut bottoms = vec![u32::MAX];
    let mut path = Vec::new();
    for start in 0..dem.len() {
        let mut at = start;
        while label[at] == u32::MAX && lower[at] as usize != at {
            path.push(at as u32);
            at = lower[at] as usize;
        }
        if label[at] == u32::MAX {
            let drains = z[at].is_nan() || dem.is_edge(at) || outlets.binary_search(&(at as u32)).is_ok();
            label[at] = if drains {
                OCEAN
            } else {
                bottoms.push(at as u32);
                bottoms.len() as u32 - 1
            };
        }
        for passed in path.drain(..) {
            label[passed as usize] = label[at];
        }
    }
    Ok((label, bottoms))
}

/// A pass between two basins: its level, its higher cell and the cell on the other side.
#[derive(Debug, Clone, Copy)]
struct Pass {
    level: f32,
    high: u32,
    low: u32,
    high_basin: u32,
    low_basin: u32,
}

/// The lowest pass between each two neighbouring basins, lowest first.
fn passes(dem: &Grid<f32>, label: &[u32], pace: &SharedPace<'_>) -> Result<Vec<Pass>> {
    let (rows, cols, z) = (dem.rows(), dem.cols(), dem.values());
    let order = |p: &Pass| (p.level, p.high, p.low);
    let by_order = |a: &Pass, b: &Pass| {
        let ((l, h, o), (m, i, q)) = (order(a), order(b));
        l.total_cmp(&m).then(h.cmp(&i)).then(o.cmp(&q))
    };
    let pair = |p: &Pass| (p.high_basin.min(p.low_basin), p.high_basin.max(p.low_basin));
    let lowest_of_each = |all: &mut Vec<Pass>| {
        all.sort_unstable_by(|a, b| pair(a).cmp(&pair(b)).then_with(|| by_order(a, b)));
        all.dedup_by_key(|p| pair(p));
    };
    let bands: Vec<Vec<Pass>> = (0..rows.div_ceil(BAND))
        .into_par_iter()
        .map(|band| {
            pace.advance(1)?;
            let mut found = Vec::new();
            for at in band * BAND * cols..((band + 1) * BAND).min(rows) * cols {
                if z[at].is_nan() {
                    continue;
                }
                for (k, n) in dem.neighbours(at) {
                    // East, south-east, south, south-west: each pair once.
                    if k > 3 || label[n] == label[at] || z[n].is_nan() {
                        continue;
                    }
                    let (high, low) = if (z[at], at) > (z[n], n) { (at, n) } else { (n, at) };
                    found.push(Pass {
                        level: z[high],
                        high: high as u32,
                        low: low as u32,
                        high_basin: label[high],
                        low_basin: label[low],
                    });
                }
            }
            lowest_of_each(&mut found);
            Ok(found)
        })
        .collect::<Result<_>>()?;
    let mut all = bands.concat();
    all.par_sort_unstable_by(by_order);
    Ok(all)
}

const NOBODY: u32 = u32::MAX;

/// Sinks while they are joined: nodes 1.. are basins, then those that hold two.
struct Trees {
    /// for union and find, over nodes
    root: Vec<u32>,
    parent: Vec<u32>,
    /// pass over which a node spills
    spill: Vec<Option<Pass>>,
    /// nodes on the other side of the spill, as they were then
    beyond: Vec<u32>,
    children: Vec<[u32; 2]>,
    basins: usize,
}

impl Trees {
    fn new(basins: usize) -> Self {
        Self {
            root: (0..basins as u32).collect(),
            parent: vec![NOBODY; basins],
            spill: vec![None; basins],
            beyond: vec![NOBODY; basins],
            children: vec![[NOBODY; 2]; basins],
            basins,
        }
    }

    fn find(&mut self, mut at: u32) -> u32 {
        while self.root[at as usize] != at {
            self.root[at as usize] = self.root[self.root[at as usize] as usize];
            at = self.root[at as usize];
        }
        at
    }

    /// Joins what a pass connects; passes come from the lowest up.
    fn take(&mut self, pass: &Pass) {
        let (a, b) = (self.find(pass.high_basin), self.find(pass.low_basin));
        if a == b {
            return;
        }
        for (one, other) in [(a, b), (b, a)] {
            if one != OCEAN {
                self.spill[one as usize] = Some(*pass);
                self.beyond[one as usize] = other;
            }
        }
        if a == OCEAN || b == OCEAN {
            self.root[a.max(b) as usize] = OCEAN;
            return;
        }
        let node = self.root.len() as u32;
        self.root.push(node);
        self.parent.push(NOBODY);
        self.spill.push(None);
        self.beyond.push(NOBODY);
        self.children.push([a, b]);
        for child in [a, b] {
            self.root[child as usize] = node;
            self.parent[child as usize] = node;
        }
    }

    /// For each node: how many cells lie below its spill level, and the sum of their elevations.
    fn hold(&self, dem: &Grid<f32>, label: &[u32], monitor: &dyn Monitor) -> Result<Vec<(u64, f64)>> {
        let mut held = vec![(0u64, 0f64); self.root.len()];
        for (at, (&z, &basin)) in dem.values().iter().zip(label).enumerate() {
            if at.is_multiple_of(1 << 20) {
                check(monitor)?;
            }
            // The first sink above the cell that covers it.
            let mut node = basin;
            while node != OCEAN && node != NOBODY {
                if self.spill[node as usize].is_some_and(|s| z < s.level) {
                    held[node as usize].0 += 1;
                    held[node as usize].1 += z as f64;
                    break;
                }
                node = self.parent[node as usize];
            }
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

    fn list(&self, dem: &Grid<f32>, frame: &Frame, bottoms: &[u32], held: &[(u64, f64)]) -> Vec<Depression> {
        let z = |cell: u32| dem.values()[cell as usize];
        let mut bottom = bottoms.to_vec();
        for node in self.basins..self.root.len() {
            let [a, b] = self.children[node].map(|c| bottom[c as usize]);
            bottom.push(if (z(a), a) < (z(b), b) { a } else { b });
        }
        // A sink without depth holds nothing: a step on a flat.
        let mut id_of = vec![NOBODY; self.root.len()];
        let mut ids = 0;
        for node in 1..self.root.len() {
            if self.spill[node].is_some_and(|s| s.level > z(bottom[node])) {
                id_of[node] = ids;
                ids += 1;
            }
        }
        let id = |node: u32| match node {
            OCEAN | NOBODY => None,
            node => Some(id_of[node as usize]).filter(|&id| id != NOBODY),
        };
        let cell_m2 = frame.cell_area().as_m2();
        (1..self.root.len())
            .filter_map(|node| {
                let spill = self.spill[node].filter(|_| id_of[node] != NOBODY)?;
                let (cells, sum) = held[node];
                Some(Depression {
                    id: id_of[node],
                    parent: id(self.parent[node]),
                    bottom: dem.cell(bottom[node] as usize),
                    spill_level_m: spill.level,
                    spill: dem.cell(spill.high as usize),
                    beyond: dem.cell(self.other_side(node as u32, &spill) as usize),
                    beyond_sink: id(self.beyond[node]),
                    depth_m: spill.level - z(bottom[node]),
                    cells,
                    area: frame.area_of(cells),
                    volume_m3: (spill.level as f64 * cells as f64 - sum) * cell_m2,
                })
            })
            .collect()
    }

    /// The cell of a pass that does not lie in a node's basins.
    fn other_side(&self, node: u32, pass: &Pass) -> u32 {
        let mut at = pass.high_basin;
        while at != node && at != OCEAN && at != NOBODY {
            at = self.parent[at as usize];
        }
        if at == node { pass.low } else { pass.high }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{fill, fill_to_outlets};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn roots_hold_what_filling_raises(dem in any_terrain(16), keep in 0u32..256) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let outlets: Vec<u32> = (keep < dem.len() as u32 && !dem.values()[keep as usize].is_nan()).then_some(keep).into_iter().collect();
            let sinks = sink_hierarchy(&dem, &frame, &outlets, &Silent).unwrap();
            let filled = fill_to_outlets(&dem, &outlets, &Silent).unwrap();
            let raised = dem.values().iter().zip(filled.values()).filter(|(z, f)| f > z);
            let (cells, volume) = raised.fold((0u64, 0f64), |(n, v), (z, f)| (n + 1, v + (f - z) as f64 * 9.0));
            let roots: Vec<&Depression> = sinks.iter().filter(|s| s.parent.is_none()).collect();
            prop_assert_eq!(roots.iter().map(|s| s.cells).sum::<u64>(), cells);
            let held: f64 = roots.iter().map(|s| s.volume_m3).sum();
            prop_assert!((held - volume).abs() < 1e-3 * (1.0 + volume));
            for sink in &sinks {
                let at = |c: Cell| dem.values()[dem.index(c)];
                prop_assert_eq!(at(sink.spill), sink.spill_level_m);
                prop_assert!(at(sink.beyond) <= sink.spill_level_m || sink.beyond == sink.spill);
                prop_assert_eq!(at(sink.bottom) + sink.depth_m, sink.spill_level_m);
                if let Some(parent) = sink.parent {
                    let parent = &sinks[parent as usize];
                    prop_assert!(parent.id > sink.id && parent.spill_level_m >= sink.spill_level_m);
                    prop_assert!(parent.cells >= sink.cells);
                } else {
                    // A root's bottom is filled to its spill level.
                    prop_assert_eq!(filled.values()[dem.index(sink.bottom)], sink.spill_level_m);
                }
            }
        }
    }

    #[test]
    fn a_slope_has_none_and_a_bowl_has_one() {
        let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
        let slope = Grid::from_fn(9, 9, |c| c.row as f32);
        assert!(sink_hierarchy(&slope, &frame, &[], &Silent).unwrap().is_empty());
        let bowl = Grid::from_fn(9, 9, |c| (c.row as f32 - 4.0).powi(2) + (c.col as f32 - 4.0).powi(2));
        let sinks = sink_hierarchy(&bowl, &frame, &[], &Silent).unwrap();
        assert_eq!(sinks.len(), 1);
        assert_eq!((sinks[0].bottom, sinks[0].spill_level_m), (Cell { row: 4, col: 4 }, 16.0));
        let filled = fill(&bowl, &Silent).unwrap();
        assert_eq!(
            sinks[0].cells,
            bowl.values().iter().zip(filled.values()).filter(|(z, f)| f > z).count() as u64
        );
    }
}
