//! Sinks as objects: which lies in which, how large each is, where it spills and into what.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::fill::TILE;
use super::held::Held;
use super::nests::{Known, Nest};
use super::skeleton::Tiling;
use super::tile::Scratch;
use super::whole::Whole;
use crate::monitor::{Later, SharedPace};
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
/// Basins, and the passes that join them, are found tile by tile as in [`fill`](super::fill()); sinks that a tile
/// holds without its rim are joined there, and only the passes between what is left are sorted as a whole.
/// Sinks of one tile come first, tile by tile.
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
    Ok(hierarchy_by_tiles(dem, frame, outlets, TILE, false, monitor)?.0)
}

/// Lists all sinks and fills them, from one pass over the DEM: the results of [`sink_hierarchy`] and of
/// [`fill_to_outlets`](super::fill_to_outlets), in less time than both take one after the other.
///
/// # Errors
/// Those of [`sink_hierarchy`].
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::*};
/// let dem = Grid::from_vec(3, 4, vec![9.0, 9.0, 9.0, 9.0, 9.0, 2.0, 5.0, 4.0, 9.0, 9.0, 9.0, 9.0f32]);
/// let frame = Frame { rows: 3, cols: 4, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
/// let (sinks, filled) = sink_hierarchy_and_fill(&dem, &frame, &[], &Silent)?;
/// assert_eq!((sinks.len(), filled), (1, fill(&dem, &Silent)?));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn sink_hierarchy_and_fill(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    monitor: &dyn Monitor,
) -> Result<(Vec<Depression>, Grid<f32>)> {
    hierarchy_by_tiles(dem, frame, outlets, TILE, true, monitor)
}

/// The sinks, and the filled DEM where it is asked for; else an empty one.
fn hierarchy_by_tiles(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    size: usize,
    fills: bool,
    monitor: &dyn Monitor,
) -> Result<(Vec<Depression>, Grid<f32>)> {
    dem.numbered()?;
    if dem.values().par_iter().all(|z| z.is_nan()) {
        return Err(Error::NoData);
    }
    let tiling = Tiling::new(dem.rows(), dem.cols(), size);
    let pace = SharedPace::new(monitor, tiling.tiles() * 2);
    let mut labels = Later::new(Grid::from_vec(dem.rows(), dem.cols(), vec![0u16; dem.len()]));
    let mut nests = Later::new(
        tiling
            .split(labels.values_mut())
            .into_par_iter()
            .enumerate()
            .map_init(Scratch::that_tells_joins, |scratch, (number, mut out)| {
                pace.advance(1)?;
                let tile = scratch.work(dem, tiling.place(number), outlets, |row, basins| {
                    if let Some(out) = out.get_mut(row) {
                        out.copy_from_slice(&basins[..out.len()]);
                    }
                });
                Ok(Nest::of(dem, tile))
            })
            .collect::<Result<Vec<Nest>>>()?,
    );
    let whole = Whole::join(dem, tiling, &nests, monitor)?;
    let whole = Later::new(whole);

    let mut filled = Later::new(vec![0f32; if fills { dem.len() } else { 0 }]);
    let mut parts = match fills {
        true => tiling.split(&mut filled),
        false => (0..tiling.tiles()).map(|_| Vec::new()).collect(),
    };
    let held: Vec<(Vec<Depression>, Vec<Held>)> = nests
        .par_iter_mut()
        .zip(&mut parts)
        .enumerate()
        .map(|(number, (nest, out))| {
            pace.advance(1)?;
            let known = Known {
                tiling: &whole.tiling,
                trees: &whole.trees,
                paths: &whole.paths,
                first: whole.first[number],
            };
            let holding = nest.hold(dem, &labels, &known, |row, heights, levels| {
                if let Some(out) = out.get_mut(row) {
                    raise(out, heights, levels);
                }
            })?;
            Ok((whole.list_own(dem, frame, number, nest, &holding), holding.others))
        })
        .collect::<Result<_>>()?;
    let mut held = Later::new(held);
    let mut by_node = Later::new(whole.sum_up(held.iter().map(|(_, others)| &others[..]), &pace)?);
    let heard = |node: usize| if node.is_multiple_of(1 << 16) { pace.check() } else { Ok(()) };
    whole.trees.add_up(&mut by_node, heard)?;

    let mut sinks = Vec::with_capacity(whole.count as usize);
    for (own, _) in held.iter_mut() {
        pace.check()?;
        sinks.append(own);
    }
    whole.list(dem, frame, &labels, &nests, &by_node, &mut sinks, monitor)?;
    drop(parts);
    monitor.progress(1.0);
    let (rows, cols) = if fills { (dem.rows(), dem.cols()) } else { (0, 0) };
    Ok((sinks, Grid::from_vec(rows, cols, filled.keep())))
}

/// Raises cells to the levels that hold them.
fn raise(out: &mut [f32], heights: &[f32], levels: &[f32]) {
    for ((out, &z), &level) in out.iter_mut().zip(heights).zip(levels) {
        *out = if level > z { level } else { z };
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
        /// If no two cells are equally high, the result does not depend on whether sinks are joined within a tile
        /// or over the whole graph; only the sink beyond may differ, where a spill cell lies on a rim.
        #[test]
        fn tiles_of_any_size_tell_the_same(dem in any_terrain(18), size in 1usize..12) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let apart = dem.values().iter().enumerate().map(|(i, z)| z + i as f32 / 1024.0).collect();
            let dem = Grid::from_vec(dem.rows(), dem.cols(), apart);
            let mut heights: Vec<u32> = dem.values().iter().filter(|z| !z.is_nan()).map(|z| z.to_bits()).collect();
            heights.sort_unstable();
            prop_assume!(heights.windows(2).all(|w| w[0] != w[1]));
            let facts = |sinks: &[Depression]| {
                let known = |id: Option<u32>| id.map(|id| (sinks[id as usize].bottom, sinks[id as usize].cells));
                let mut facts: Vec<_> = sinks
                    .iter()
                    .map(|s| (s.bottom, s.cells, s.spill, known(s.parent)))
                    .collect();
                facts.sort_unstable();
                facts
            };
            let sinks = hierarchy_by_tiles(&dem, &frame, &[], size, false, &Silent).unwrap().0;
            prop_assert!(sinks.iter().enumerate().all(|(at, s)| s.id as usize == at));
            prop_assert_eq!(facts(&sinks), facts(&sink_hierarchy(&dem, &frame, &[], &Silent).unwrap()));
        }

        #[test]
        fn roots_hold_what_filling_raises(dem in any_terrain(16), keep in 0u32..256, size in 1usize..9) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let outlets: Vec<u32> = (keep < dem.len() as u32 && !dem.values()[keep as usize].is_nan()).then_some(keep).into_iter().collect();
            let (sinks, filled_too) = hierarchy_by_tiles(&dem, &frame, &outlets, size, true, &Silent).unwrap();
            // Cut into tiles or not, the sinks are the same.
            let whole = sink_hierarchy(&dem, &frame, &outlets, &Silent).unwrap();
            let facts = |sinks: &[Depression]| {
                let mut facts: Vec<_> = sinks.iter().map(|s| (s.bottom, s.cells, s.spill_level_m.to_bits(), s.depth_m.to_bits())).collect();
                facts.sort_unstable();
                facts
            };
            prop_assert_eq!(facts(&sinks), facts(&whole));
            let filled = fill_to_outlets(&dem, &outlets, &Silent).unwrap();
            for (a, b) in filled.values().iter().zip(filled_too.values()) {
                prop_assert_eq!(a.to_bits(), b.to_bits());
            }
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
