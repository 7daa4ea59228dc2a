//! What was filled: each sink with its place, depth, area and volume.

use serde::{Deserialize, Serialize};

use crate::monitor::Pace;
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
/// touch, corners included, and were raised to the same level are one sink.
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
    Ok(list_and_mark_sinks(dem, filled, frame, keep, f32::INFINITY, monitor)?.0)
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
    dem.same_shape(filled)?;
    let cell_m2 = frame.cell_area().as_m2();
    let mut pace = Pace::new(monitor, dem.len());
    let mut marks = vec![0u8; dem.len()];
    // The cells of the sink at hand; those from `at` on are still to be looked at.
    let mut cells: Vec<u32> = Vec::new();
    let mut all: Vec<Sink> = Vec::new();
    let mut footprint = 0u64;
    let steps = NEIGHBOURS.map(|n| n.rows * dem.cols() as isize + n.cols);

    for start in 0..dem.len() {
        pace.advance(1)?;
        footprint += u64::from(!dem.values()[start].is_nan());
        let level = filled.values()[start];
        let raised = level > dem.values()[start];
        if !raised || marks[start] != 0 {
            continue;
        }
        marks[start] = SHALLOW;
        let mut bottom = start;
        let mut depths = 0f64;
        cells.clear();
        cells.push(start as u32);
        let mut at = 0;
        while let Some(&index) = cells.get(at) {
            at += 1;
            let index = index as usize;
            let z = dem.values()[index];
            depths += (level - z) as f64;
            if (z, index) < (dem.values()[bottom], bottom) {
                bottom = index;
            }
            // A cell that was raised never lies at the edge, so that it has all neighbours.
            for step in steps {
                let n = index.wrapping_add_signed(step);
                if marks[n] == 0 && filled.values()[n] == level && dem.values()[n] < level {
                    marks[n] = SHALLOW;
                    cells.push(n as u32);
                }
            }
        }
        let depth_m = level - dem.values()[bottom];
        if depth_m >= deep_m {
            for &index in &cells {
                marks[index as usize] = DEEP;
            }
        }
        let cells = cells.len() as u64;
        all.push(Sink {
            bottom: dem.cell(bottom),
            spill_level_m: level,
            depth_m,
            cells,
            area: frame.area_of(cells),
            volume_m3: depths * cell_m2,
        });
    }

    let deepest =
        all.iter().max_by(|a, b| a.depth_m.total_cmp(&b.depth_m).then(b.bottom.cmp(&a.bottom))).cloned();
    let (sinks, cells_raised) = (all.len() as u64, all.iter().map(|s| s.cells).sum());
    let volume_m3 = all.iter().map(|s| s.volume_m3).sum();
    all.sort_by(|a, b| b.volume_m3.total_cmp(&a.volume_m3).then(a.bottom.cmp(&b.bottom)));
    let holding_most = holding_most(&all, volume_m3);
    all.truncate(keep);
    monitor.progress(1.0);
    let report =
        SinkReport { sinks, cells_raised, cells: footprint, volume_m3, largest: all, deepest, holding_most };
    Ok((report, Grid::from_vec(dem.rows(), dem.cols(), marks)))
}

/// How many of `sinks`, the largest first, hold four fifths of `volume_m3`, and the share that they hold.
fn holding_most(sinks: &[Sink], volume_m3: f64) -> Option<(u64, f64)> {
    let mut held = 0.0;
    for (sink, number) in sinks.iter().zip(1u64..) {
        held += sink.volume_m3;
        if held >= 0.8 * volume_m3 {
            return Some((number, (held / volume_m3).min(1.0)));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;

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
        let sink = |volume_m3: f64| Sink {
            bottom: Cell { row: 0, col: 0 },
            spill_level_m: 1.0,
            depth_m: 1.0,
            cells: 1,
            area: Area::m2(1.0),
            volume_m3,
        };
        let all: Vec<Sink> = [50.0, 25.0, 10.0, 10.0, 5.0].map(sink).into();
        assert_eq!(holding_most(&all, 100.0), Some((3, 0.85)));
        assert_eq!(holding_most(&[], 0.0), None);
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
