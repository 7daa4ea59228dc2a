//! What was filled: each sink with its place, depth, area and volume.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::joined::root;
use crate::monitor::SharedPace;
use crate::{Area, Cell, Frame, Grid, Monitor, NEIGHBOURS, Result};

/// One filled sink: connected cells that were raised to one spill level.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sink {
    /// the deepest cell (the first in row order where several are equally deep)
    pub bottom: Cell,
    /// elevation at which the full sink overflows, metres
    pub spill_level_m: f32,
    /// greatest depth below the spill level, metres
    pub depth_m: f32,
    /// number of cells raised
    pub cells: u64,
    /// area of the cells raised
    pub area: Area,
    /// volume below the spill level, cubic metres
    pub volume_m3: f64,
}

/// Summary of the sinks that filling raised.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SinkReport {
    /// number of sinks
    pub sinks: u64,
    /// number of cells raised
    pub cells_raised: u64,
    /// number of cells in the footprint
    pub cells: u64,
    /// volume filled, cubic metres
    pub volume_m3: f64,
    /// the sinks with the largest volumes, largest first
    pub largest: Vec<Sink>,
    /// the deepest sink
    pub deepest: Option<Sink>,
    /// how many of the largest hold four fifths of the volume, and the share that they hold, from 0 to 1; none where
    /// nothing is filled
    #[serde(default)]
    pub holding_most: Option<(u64, f64)>,
}

/// Marks a cell of a sink that is not deep.
pub const SHALLOW: u8 = 1;
/// Marks a cell of a deep sink.
pub const DEEP: u8 = 2;

/// Lists the sinks that filling raised; the `keep` largest by volume in full.
///
/// `dem` and `filled` are elevations in metres on the same grid, `NaN` for nodata, and `filled` is what
/// [`fill`](super::fill()) or its kin made of `dem`: no cell at the footprint's edge is raised. Cells that
/// touch, corners included, and were raised to the same level are one sink. All cores share the work, and the
/// result does not depend on their number.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
pub fn list_sinks(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    frame: &Frame,
    keep: usize,
    monitor: &dyn Monitor,
) -> Result<SinkReport> {
    list_in_bands(dem, filled, frame, keep, BAND, monitor)
}

/// As [`list_sinks`]; besides it marks the cells of sinks: [`SHALLOW`], or [`DEEP`] where the sink is at least `deep_m`
/// deep; 0 where nothing was raised.
///
/// # Errors
/// Those of [`list_sinks`].
pub fn list_and_mark_sinks(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    frame: &Frame,
    keep: usize,
    deep_m: f32,
    monitor: &dyn Monitor,
) -> Result<(SinkReport, Grid<u8>)> {
    let report = list_sinks(dem, filled, frame, keep, monitor)?;
    let raised = |(&z, &level): (&f32, &f32)| if level > z { SHALLOW } else { 0 };
    let mut marks: Vec<u8> = dem.values().par_iter().zip(filled.values()).map(raised).collect();
    let steps = NEIGHBOURS.map(|n| n.rows * dem.cols() as isize + n.cols);
    let mut open = Vec::new();
    for start in 0..marks.len() {
        let level = filled.values()[start];
        if marks[start] != SHALLOW || level - dem.values()[start] < deep_m {
            continue;
        }
        marks[start] = DEEP;
        open.push(start);
        while let Some(index) = open.pop() {
            // A cell that was raised never lies at the edge, so that it has all neighbours.
            for n in steps.map(|step| index.wrapping_add_signed(step)) {
                if marks[n] == SHALLOW && filled.values()[n] == level {
                    marks[n] = DEEP;
                    open.push(n);
                }
            }
        }
    }
    Ok((report, Grid::from_vec(dem.rows(), dem.cols(), marks)))
}

/// Rows that are looked at together.
const BAND: usize = 256;

/// A sink, or what of it lies in a band.
#[derive(Clone, Copy)]
struct Piece {
    /// its deepest cell, the first in row order where several are equally deep, and its elevation
    bottom: usize,
    z: f32,
    cells: u64,
    /// sum of the depths of its cells, metres
    depths_m: f64,
}

impl Piece {
    fn add(&mut self, other: Self) {
        if (other.z, other.bottom) < (self.z, self.bottom) {
            (self.z, self.bottom) = (other.z, other.bottom);
        }
        self.cells += other.cells;
        self.depths_m += other.depths_m;
    }
}

/// The sinks of a band of rows.
struct Band {
    pieces: Vec<Piece>,
    /// for each cell of the first and of the last row the number of its piece, from 1; 0 for none
    rims: [Vec<u32>; 2],
    /// cells that have an elevation
    footprint: u64,
}

fn list_in_bands(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    frame: &Frame,
    keep: usize,
    rows: usize,
    monitor: &dyn Monitor,
) -> Result<SinkReport> {
    dem.same_shape(filled)?;
    let size = (rows * dem.cols()).max(1);
    let shared = SharedPace::new(monitor, dem.len().div_ceil(size));
    let bands = dem.values().par_chunks(size).zip(filled.values().par_chunks(size)).enumerate();
    let bands = bands
        .map(|(at, (dem_rows, filled_rows))| {
            shared.advance(1)?;
            Ok(band(dem_rows, filled_rows, dem.cols(), at * size))
        })
        .collect::<Result<Vec<Band>>>()?;
    let footprint = bands.iter().map(|b| b.footprint).sum();
    let pieces = joined(bands, filled, size);

    let (sinks, cells_raised) = (pieces.len() as u64, pieces.iter().map(|p| p.cells).sum());
    let cell_m2 = frame.cell_area().as_m2();
    let level = |piece: &Piece| filled.values()[piece.bottom];
    let depth = |piece: &Piece| level(piece) - piece.z;
    let told = |piece: &Piece| Sink {
        bottom: dem.cell(piece.bottom),
        spill_level_m: level(piece),
        depth_m: depth(piece),
        cells: piece.cells,
        area: frame.area_of(piece.cells),
        volume_m3: piece.depths_m * cell_m2,
    };
    let deeper = |a: &&Piece, b: &&Piece| depth(a).total_cmp(&depth(b)).then(b.bottom.cmp(&a.bottom));
    let deepest = pieces.par_iter().max_by(deeper).map(told);
    let depths_m: f64 = pieces.iter().map(|p| p.depths_m).sum();
    let mut pieces = pieces;
    pieces.par_sort_unstable_by(|a, b| b.depths_m.total_cmp(&a.depths_m).then(a.bottom.cmp(&b.bottom)));
    let holding_most = holding_most(pieces.iter().map(|p| p.depths_m), depths_m);
    let largest = pieces.iter().take(keep).map(told).collect();
    monitor.progress(1.0);
    let volume_m3 = depths_m * cell_m2;
    Ok(SinkReport { sinks, cells_raised, cells: footprint, volume_m3, largest, deepest, holding_most })
}

/// Finds the sinks of some rows, the first of whose cells has the number `from` in the whole grid.
fn band(dem: &[f32], filled: &[f32], cols: usize, from: usize) -> Band {
    let rows = dem.len() / cols;
    let mut seen = vec![false; dem.len()];
    let mut rims = [vec![0u32; cols], vec![0u32; cols]];
    let (mut pieces, mut open) = (Vec::new(), Vec::new());
    let mut footprint = 0;
    for start in 0..dem.len() {
        footprint += u64::from(!dem[start].is_nan());
        let level = filled[start];
        let raised = level > dem[start];
        if !raised || seen[start] {
            continue;
        }
        let mut piece = Piece { bottom: from + start, z: dem[start], cells: 0, depths_m: 0.0 };
        let number = pieces.len() as u32 + 1;
        seen[start] = true;
        open.push(start as u32);
        while let Some(index) = open.pop() {
            let index = index as usize;
            let (row, col) = (index / cols, index % cols);
            let z = dem[index];
            piece.add(Piece { bottom: from + index, z, cells: 1, depths_m: f64::from(level - z) });
            if row == 0 {
                rims[0][col] = number;
            }
            if row + 1 == rows {
                rims[1][col] = number;
            }
            // A cell that was raised never lies at the edge of the grid: it has neighbours to both sides.
            for near in row.saturating_sub(1)..(row + 2).min(rows) {
                let first = near * cols + col - 1;
                for n in first..first + 3 {
                    if !seen[n] && filled[n] == level && dem[n] < level {
                        seen[n] = true;
                        open.push(n as u32);
                    }
                }
            }
        }
        pieces.push(piece);
    }
    Band { pieces, rims, footprint }
}

/// Joins pieces of neighbouring bands that touch at the same level.
fn joined(bands: Vec<Band>, filled: &Grid<f32>, size: usize) -> Vec<Piece> {
    let cols = filled.cols();
    let mut all: Vec<Piece> = Vec::with_capacity(bands.iter().map(|b| b.pieces.len()).sum());
    let mut firsts = Vec::with_capacity(bands.len());
    for band in &bands {
        firsts.push(all.len() as u32);
        all.extend(&band.pieces);
    }
    let mut parents: Vec<u32> = (0..all.len() as u32).collect();
    for (at, pair) in bands.windows(2).enumerate() {
        let below = (at + 1) * size;
        let levels = &filled.values()[below - cols..below + cols];
        for (col, &upper) in pair[0].rims[1].iter().enumerate().filter(|(_, of)| **of > 0) {
            for next in col.saturating_sub(1)..(col + 2).min(cols) {
                let lower = pair[1].rims[0][next];
                if lower > 0 && levels[col] == levels[cols + next] {
                    let a = root(&mut parents, firsts[at] + upper - 1);
                    let b = root(&mut parents, firsts[at + 1] + lower - 1);
                    parents[a.max(b) as usize] = a.min(b);
                }
            }
        }
    }
    drop(bands);
    // The first piece of a sink takes in the others.
    for at in 0..all.len() {
        let of = root(&mut parents, at as u32) as usize;
        if of != at {
            let piece = all[at];
            all[of].add(piece);
        }
    }
    let mut at = 0;
    all.retain(|_| {
        at += 1;
        parents[at - 1] as usize == at - 1
    });
    all
}

/// How many of the largest hold four fifths, and their share.
fn holding_most(volumes: impl Iterator<Item = f64>, all: f64) -> Option<(u64, f64)> {
    let mut held = 0.0;
    for (volume, number) in volumes.zip(1u64..) {
        held += volume;
        if held >= 0.8 * all {
            return Some((number, (held / all).min(1.0)));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use proptest::prelude::*;

    #[test]
    fn only_sinks_that_are_deep_enough_are_marked_and_all_of_their_cells() {
        #[rustfmt::skip]
        let dem = Grid::from_vec(4, 7, vec![
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
            9.0, 2.0, 6.5, 8.0, 6.8, 9.0, 9.0,
            9.0, 9.0, 9.0, 8.0, 9.0, 7.0, 6.9,
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
        ]);
        let filled = fill(&dem, &Silent).unwrap();
        let marked = |least: f32| -> Vec<usize> {
            let frame = Frame { rows: 4, cols: 7, left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let (report, marks) = list_and_mark_sinks(&dem, &filled, &frame, 9, least, &Silent).unwrap();
            assert_eq!(report.cells_raised, marks.values().iter().filter(|&&m| m != 0).count() as u64);
            (0..dem.len()).filter(|&i| marks.values()[i] == DEEP).collect()
        };
        // The left one is 6 m deep at its bottom and 1.5 m beside it; the right one 0.2 m.
        assert_eq!(marked(2.0), [8, 9]);
        assert_eq!(marked(0.1), [8, 9, 11]);
        assert!(marked(7.0).is_empty());
    }

    #[test]
    fn few_hold_most_of_the_volume_and_all_are_counted() {
        let all = [50.0, 25.0, 10.0, 10.0, 5.0];
        assert_eq!(holding_most(all.into_iter(), 100.0), Some((3, 0.85)));
        assert_eq!(holding_most(std::iter::empty(), 0.0), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]
        #[test]
        fn bands_make_no_difference(seed in any::<u64>(), rows in 1usize..24, cols in 1usize..12) {
            let mut rng = seed | 1;
            let mut next = || {
                rng ^= rng << 13;
                rng ^= rng >> 7;
                rng ^= rng << 17;
                rng
            };
            // Few levels, so that lakes are large and flat, and some cells of nodata.
            let dem = Grid::from_fn(rows, cols, |_| match next() % 17 {
                0 => f32::NAN,
                z => (z % 5) as f32,
            });
            let Ok(filled) = fill(&dem, &Silent) else { return Ok(()) };
            let frame = Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let whole = list_in_bands(&dem, &filled, &frame, 9, rows, &Silent).unwrap();
            for band in [1, 2, 3, 7] {
                prop_assert_eq!(&list_in_bands(&dem, &filled, &frame, 9, band, &Silent).unwrap(), &whole);
            }
        }
    }

    #[test]
    fn two_sinks_are_told_apart_and_measured() {
        #[rustfmt::skip]
        let dem = Grid::from_vec(4, 7, vec![
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
            9.0, 2.0, 3.0, 8.0, 5.0, 9.0, 9.0,
            9.0, 9.0, 9.0, 8.0, 6.0, 7.0, 7.0,
            9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0,
        ]);
        let frame = Frame { rows: 4, cols: 7, left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
        let filled = fill(&dem, &Silent).unwrap();
        let report = list_sinks(&dem, &filled, &frame, 10, &Silent).unwrap();
        assert_eq!((report.sinks, report.cells_raised, report.cells), (2, 4, 28));
        let west = &report.largest[0];
        assert_eq!(west.bottom, Cell { row: 1, col: 1 });
        assert_eq!((west.spill_level_m, west.depth_m, west.cells), (8.0, 6.0, 2));
        assert_eq!(west.volume_m3, (6.0 + 5.0) * 4.0);
        assert_eq!(west.area, Area::m2(8.0));
        assert_eq!(report.largest[1].spill_level_m, 7.0);
        assert_eq!(report.volume_m3, (11.0 + 2.0 + 1.0) * 4.0);
        assert_eq!(report.deepest.as_ref(), Some(west));
    }

    #[test]
    fn a_slope_has_no_sink() {
        let dem = Grid::from_fn(6, 6, |c| c.row as f32);
        let frame = Frame { rows: 6, cols: 6, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
        let report = list_sinks(&dem, &dem, &frame, 10, &Silent).unwrap();
        assert_eq!((report.sinks, report.cells_raised, report.deepest), (0, 0, None));
    }
}
