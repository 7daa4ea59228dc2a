//! Sinks as objects: which lies in which, how large each is, where it spills and into what.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::fill::TILE;
use super::paths::Paths;
use super::skeleton::Tiling;
use super::tile::{Scratch, Tile};
use super::trees::{NOBODY, Pass, Trees};
use crate::monitor::{Later, SharedPace, check, gather};
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
/// Basins, and the passes that join them, are found tile by tile as in [`fill`](super::fill()); only
/// those passes are sorted, of which there are as many as basins.
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
    hierarchy_by_tiles(dem, frame, outlets, TILE, monitor)
}

fn hierarchy_by_tiles(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    size: usize,
    monitor: &dyn Monitor,
) -> Result<Vec<Depression>> {
    dem.numbered()?;
    if dem.values().par_iter().all(|z| z.is_nan()) {
        return Err(Error::NoData);
    }
    let tiling = Tiling::new(dem.rows(), dem.cols(), size);
    let pace = SharedPace::new(monitor, tiling.tiles() * 2);
    let mut labels = Later::new(vec![0u16; dem.len()]);
    let tiles = tiling
        .split(&mut labels)
        .into_par_iter()
        .enumerate()
        .map_init(Scratch::that_tells_joins, |scratch, (number, mut out)| {
            pace.advance(1)?;
            Ok(scratch.work(dem, tiling.place(number), outlets, |row, basins| {
                if let Some(out) = out.get_mut(row) {
                    out.copy_from_slice(&basins[..out.len()]);
                }
            }))
        })
        .collect::<Result<Vec<Tile>>>()?;
    let tiles = Later::new(tiles);
    let nodes = Nodes::new(tiling, &tiles, dem.cols());
    let count = tiles.iter().map(|tile| tile.joins.len()).sum();
    let passes = gather(&tiles, count, monitor, |number, tile| {
        let nodes = &nodes;
        tile.joins.iter().map(move |join| {
            let cell = nodes.cell(tile, join.high);
            Pass {
                level: dem.values()[cell as usize],
                high: cell,
                low: nodes.cell(tile, join.low),
                high_basin: nodes.of_label(number, tile, join.high_label),
                low_basin: nodes.of_label(number, tile, join.low_label),
            }
        })
    })?;
    let passes = Later::new(by_height(passes, monitor)?);
    let mut trees = Later::new(Trees::new(dem, &nodes.bottoms(&tiles, monitor)?, monitor)?);
    for (number, pass) in passes.iter().enumerate() {
        if number.is_multiple_of(1 << 16) {
            check(monitor)?;
        }
        trees.take(number as u32, pass);
    }
    let paths = Later::new(Paths::new(&trees, monitor)?);
    let held = Later::new(trees.hold(dem, &labels, &tiles, &nodes, &paths, &pace)?);
    let sinks = trees.list(dem, frame, &passes, &held, &paths, monitor)?;
    monitor.progress(1.0);
    Ok(sinks)
}

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
        part.par_sort_unstable_by(|a, b| {
            a.level.total_cmp(&b.level).then(a.high.cmp(&b.high)).then(a.low.cmp(&b.low))
        });
        Ok::<_, Error>(())
    })?;
    let mut all = Vec::with_capacity(count);
    for part in parts {
        check(monitor)?;
        all.extend(part);
    }
    Ok(all)
}

/// What drains without being filled.
pub(super) const OCEAN: u32 = 0;

/// Numbers for the nodes of the graph: the ocean, the cells of the tiles' rims, and all basins.
pub(super) struct Nodes {
    pub(super) tiling: Tiling,
    cols: usize,
    /// the number of each tile's first basin
    first: Vec<u32>,
    count: u32,
}

impl Nodes {
    fn new(tiling: Tiling, tiles: &[Tile], cols: usize) -> Self {
        let mut count = tiling.nodes() as u32;
        let first = tiles
            .iter()
            .map(|tile| {
                let first = count;
                count += (tile.drains.len() - tile.seeds.len()) as u32;
                first
            })
            .collect();
        Self { tiling, cols, first, count }
    }

    fn count(&self) -> usize {
        self.count as usize
    }

    /// The number in the whole grid of a cell of a tile.
    fn cell(&self, tile: &Tile, at: u32) -> u32 {
        let width = tile.place.right - tile.place.left + 1;
        let (row, col) = (at as usize / width, at as usize % width);
        ((tile.place.top + row) * self.cols + tile.place.left + col) as u32
    }

    /// The node of a label in a tile: a basin, or a cell of the rim.
    pub(super) fn of_label(&self, number: usize, tile: &Tile, label: u16) -> u32 {
        let label = label as usize;
        if label == 0 {
            OCEAN
        } else if let Some(&(row, col)) = tile.seeds.get(label) {
            self.tiling.node(row as usize, col as usize) as u32
        } else {
            self.first[number] + (label - tile.seeds.len()) as u32
        }
    }

    /// The lowest cell of each node, by number in the whole grid.
    fn bottoms(&self, tiles: &[Tile], monitor: &dyn Monitor) -> Result<Vec<u32>> {
        let mut bottoms = vec![NOBODY; self.count()];
        for (number, tile) in tiles.iter().enumerate() {
            check(monitor)?;
            for &(row, col) in tile.seeds.iter().skip(1) {
                let cell = (row as usize * self.cols + col as usize) as u32;
                bottoms[self.tiling.node(row as usize, col as usize)] = cell;
            }
            for (at, &bottom) in tile.bottoms.iter().skip(tile.seeds.len()).enumerate() {
                bottoms[self.first[number] as usize + at] = self.cell(tile, bottom);
            }
        }
        Ok(bottoms)
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
        fn roots_hold_what_filling_raises(dem in any_terrain(16), keep in 0u32..256, size in 1usize..9) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let outlets: Vec<u32> = (keep < dem.len() as u32 && !dem.values()[keep as usize].is_nan()).then_some(keep).into_iter().collect();
            let sinks = hierarchy_by_tiles(&dem, &frame, &outlets, size, &Silent).unwrap();
            // Cut into tiles or not, the sinks are the same.
            let whole = sink_hierarchy(&dem, &frame, &outlets, &Silent).unwrap();
            let facts = |sinks: &[Depression]| {
                let mut facts: Vec<_> = sinks.iter().map(|s| (s.bottom, s.cells, s.spill_level_m.to_bits(), s.depth_m.to_bits())).collect();
                facts.sort_unstable();
                facts
            };
            prop_assert_eq!(facts(&sinks), facts(&whole));
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
