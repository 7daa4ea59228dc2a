//! Defects of a DEM for hydrology: level ground, the sea, spikes, steps of rounding.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::monitor::{SharedPace, check};
use crate::{Cell, Frame, Grid, Monitor, Result};

/// A cell that stands out from all its neighbours.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Spike {
    /// where
    pub at: Cell,
    /// how far above the median of its eight neighbours, metres; below where negative
    pub above_m: f32,
}

/// Connected level cells.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LevelPatch {
    /// its first cell in row order
    pub at: Cell,
    /// number of cells that are level with all their neighbours
    pub cells: u64,
    /// elevation, metres
    pub elevation_m: f32,
    /// whether it reaches the edge of the footprint
    pub touches_edge: bool,
}

/// Possible defects of a DEM.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Quality {
    /// number of spikes
    pub spikes: u64,
    /// the worst, worst first, at most ten thousand
    pub worst_spikes: Vec<Spike>,
    /// number of cells that are level with all their neighbours
    pub level_cells: u64,
    /// connected level cells, largest first, at most ten
    pub level_patches: Vec<LevelPatch>,
    /// the level patch that is taken for the sea, if any
    pub sea: Option<LevelPatch>,
    /// the step, metres, of which every elevation is a multiple
    pub step_m: Option<f64>,
}

const SPIKES_LISTED: usize = 10_000;
const PATCHES_LISTED: usize = 10;
/// Rows processed as one unit of work.
const BAND: usize = 64;
/// Patches of fewer level cells are neither listed nor taken for the sea.
const LEAST_PATCH: u64 = 25;
/// The sea stands so near to the datum, metres.
const SEA_WITHIN_M: f32 = 1.0;
/// Steps that rounding leaves, in units of the source.
const STEPS: [f64; 8] = [10.0, 5.0, 2.0, 1.0, 0.5, 0.25, 0.2, 0.1];

/// Looks for spikes, level ground, the sea and steps of rounding in a DEM (metres, at `frame`).
/// `unit_m` is the metres in one unit of the source's elevations, in which steps are sought.
///
/// - A *spike* is higher (or lower) than all eight neighbours by more than a quarter of a cell's edge, by more
///   than twice the range of the neighbours themselves, and by more than eight times what cells of this DEM
///   commonly differ from the median of their neighbours. The rule is ours.
/// - A cell is *level* where all its neighbours have its elevation to the bit. At the footprint's edge the
///   neighbours that exist decide.
/// - The *sea* is the largest level patch that reaches the footprint's edge within 1 m of the datum (common
///   practice: the sea is 0).
/// - The *step* is the largest of 10, 5, 2, 1, 0.5, 0.25, 0.2 and 0.1 units that every elevation is a
///   multiple of.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, terrain::examine};
/// let frame = Frame { rows: 20, cols: 20, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
/// let mut dem = Grid::from_fn(20, 20, |c| 0.013 * (c.row * c.row + c.col) as f32);
/// dem.values_mut()[5 * 20 + 7] += 30.0;
/// let found = examine(&dem, &frame, 1.0, &Silent)?;
/// assert_eq!((found.spikes, found.worst_spikes[0].at.row), (1, 5));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn examine(dem: &Grid<f32>, frame: &Frame, unit_m: f64, monitor: &dyn Monitor) -> Result<Quality> {
    let step_m = step(dem, unit_m, monitor)?;
    let least = least_spike(dem, frame);
    let cols = dem.cols();
    let bands: Vec<usize> = (0..dem.rows()).step_by(BAND).collect();
    let pace = SharedPace::new(monitor, bands.len());
    let looked: Vec<(Vec<Spike>, Vec<bool>)> = bands
        .par_iter()
        .map(|&top| {
            pace.advance(1)?;
            let bottom = (top + BAND).min(dem.rows());
            let mut spikes = Vec::new();
            let mut level = Vec::with_capacity((bottom - top) * cols);
            let mut bounds = Bounds::new(cols);
            for row in top..bottom {
                bounds.find(dem, row);
                let here = &dem.values()[row * cols..(row + 1) * cols];
                for (col, (&z, (&lowest, &highest))) in
                    here.iter().zip(bounds.lowest.iter().zip(&bounds.highest)).enumerate()
                {
                    level.push(lowest == z && highest == z);
                    if (z - highest).max(lowest - z) > least {
                        let at = Cell { row, col };
                        let around = Around::of(dem, dem.index(at));
                        spikes.extend(around.spike(z, least).map(|above_m| Spike { at, above_m }));
                    }
                }
            }
            Ok((spikes, level))
        })
        .collect::<Result<_>>()?;
    let mut spikes: Vec<Spike> = looked.iter().flat_map(|(spikes, _)| spikes.iter().copied()).collect();
    let level: Vec<bool> = looked.into_iter().flat_map(|(_, level)| level).collect();
    let count = spikes.len() as u64;
    spikes.sort_by(|a, b| b.above_m.abs().total_cmp(&a.above_m.abs()).then(a.at.cmp(&b.at)));
    spikes.truncate(SPIKES_LISTED);
    check(monitor)?;
    let level_cells = level.iter().filter(|&&l| l).count() as u64;
    let mut patches = patches(dem, level, monitor)?;
    patches.sort_by(|a, b| b.cells.cmp(&a.cells).then(a.at.cmp(&b.at)));
    let sea = patches.iter().copied().find(|p| p.touches_edge && p.elevation_m.abs() <= SEA_WITHIN_M);
    patches.truncate(PATCHES_LISTED);
    Ok(Quality { spikes: count, worst_spikes: spikes, level_cells, level_patches: patches, sea, step_m })
}

/// The lowest and the highest neighbour of each cell of a row; infinite where there is none with an elevation.
struct Bounds {
    lowest: Vec<f32>,
    highest: Vec<f32>,
}

impl Bounds {
    fn new(cols: usize) -> Self {
        Self { lowest: vec![f32::INFINITY; cols], highest: vec![f32::NEG_INFINITY; cols] }
    }

    fn find(&mut self, dem: &Grid<f32>, row: usize) {
        let cols = dem.cols();
        self.lowest.fill(f32::INFINITY);
        self.highest.fill(f32::NEG_INFINITY);
        for near in row.saturating_sub(1)..(row + 2).min(dem.rows()) {
            let z = &dem.values()[near * cols..(near + 1) * cols];
            // To the right, to the left, and straight above or below. Minimum and maximum pass over NaN.
            self.take(0, &z[1..]);
            self.take(1, &z[..cols - 1]);
            if near != row {
                self.take(0, z);
            }
        }
    }

    fn take(&mut self, from: usize, z: &[f32]) {
        for (lowest, &z) in self.lowest[from..].iter_mut().zip(z) {
            *lowest = lowest.min(z);
        }
        for (highest, &z) in self.highest[from..].iter_mut().zip(z) {
            *highest = highest.max(z);
        }
    }
}

/// The neighbours of a cell that have an elevation.
struct Around {
    z: [f32; 8],
    count: usize,
    lowest: f32,
    highest: f32,
}

impl Around {
    fn of(dem: &Grid<f32>, index: usize) -> Self {
        let mut around = Self { z: [0.0; 8], count: 0, lowest: f32::INFINITY, highest: f32::NEG_INFINITY };
        for (_, n) in dem.neighbours(index) {
            let z = dem.values()[n];
            if !z.is_nan() {
                around.z[around.count] = z;
                around.count += 1;
                around.lowest = around.lowest.min(z);
                around.highest = around.highest.max(z);
            }
        }
        around
    }
    fn median(&self) -> f32 {
        let mut z = self.z;
        let z = &mut z[..self.count];
        z.sort_unstable_by(f32::total_cmp);
        (z[(self.count - 1) / 2] + z[self.count / 2]) / 2.0
    }
    /// How far a spike of elevation `z` stands above the median, if it is one.
    fn spike(&self, z: f32, least: f32) -> Option<f32> {
        if z.is_nan() || self.count < 5 {
            return None;
        }
        let clear = (z - self.highest).max(self.lowest - z);
        (clear > least && clear > 2.0 * (self.highest - self.lowest)).then(|| z - self.median())
    }
}

/// What a spike must exceed, metres.
fn least_spike(dem: &Grid<f32>, frame: &Frame) -> f32 {
    let every = dem.len().div_ceil(1 << 14).max(1);
    let mut common: Vec<f32> = (0..dem.len())
        .step_by(every)
        .filter_map(|index| {
            let around = Around::of(dem, index);
            (!dem.values()[index].is_nan() && around.count > 0)
                .then(|| (dem.values()[index] - around.median()).abs())
        })
        .collect();
    common.sort_unstable_by(f32::total_cmp);
    let common = common.get(common.len() / 2).copied().unwrap_or(0.0);
    (0.25 * frame.cell_m() as f32).max(8.0 * common)
}

/// The largest step that every elevation is a multiple of.
fn step(dem: &Grid<f32>, unit_m: f64, monitor: &dyn Monitor) -> Result<Option<f64>> {
    for step in STEPS {
        check(monitor)?;
        let step_m = step * unit_m;
        // Converted elevations carry the rounding of float32.
        let multiple = |z: &f32| {
            let times = *z as f64 / step_m;
            z.is_nan() || (times - times.round()).abs() <= 1e-6 * times.abs().max(1.0)
        };
        let mut known = dem.values().iter().filter(|z| !z.is_nan() && **z != 0.0);
        if known.clone().next().is_some()
            && known.by_ref().take(64).all(multiple)
            && dem.values().par_iter().all(multiple)
        {
            return Ok(Some(step_m));
        }
    }
    Ok(None)
}

/// Level cells that hang together.
fn patches(dem: &Grid<f32>, mut level: Vec<bool>, monitor: &dyn Monitor) -> Result<Vec<LevelPatch>> {
    let mut found = Vec::new();
    let mut open = Vec::new();
    for start in 0..level.len() {
        if start % (1 << 20) == 0 {
            check(monitor)?;
        }
        if !level[start] {
            continue;
        }
        level[start] = false;
        open.push(start);
        let (mut cells, mut touches_edge) = (0u64, false);
        while let Some(index) = open.pop() {
            cells += 1;
            if cells % (1 << 20) == 0 {
                check(monitor)?;
            }
            let mut beside = 0;
            for (_, n) in dem.neighbours(index) {
                beside += usize::from(!dem.values()[n].is_nan());
                if level[n] {
                    level[n] = false;
                    open.push(n);
                }
            }
            touches_edge |= beside < 8;
        }
        if cells >= LEAST_PATCH {
            let (at, elevation_m) = (dem.cell(start), dem.values()[start]);
            found.push(LevelPatch { at, cells, elevation_m, touches_edge });
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 4.0, unit_m: 1.0 }
    }

    #[test]
    fn a_coast_has_a_sea_and_a_lake_is_none() {
        let dem = Grid::from_fn(60, 60, |c| match (c.row, c.col) {
            (_, 0..=14) => 0.0,
            (20..=35, 30..=50) => 12.0,
            (r, c) => c as f32 * 1.3 + (r % 7) as f32 * 0.01,
        });
        let found = examine(&dem, &frame(60, 60), 1.0, &Silent).unwrap();
        let sea = found.sea.unwrap();
        // The last column of the sea has land beside it.
        assert_eq!((sea.cells, sea.elevation_m, sea.touches_edge), (60 * 14, 0.0, true));
        assert_eq!(found.level_patches.len(), 2);
        assert_eq!(found.level_patches[1].cells, 14 * 19);
        assert!(!found.level_patches[1].touches_edge);
        assert_eq!(found.level_cells, 60 * 14 + 14 * 19);
        assert_eq!(found.spikes, 0);
    }

    #[test]
    fn spikes_up_and_down_are_found_and_ridges_are_not() {
        let mut dem = Grid::from_fn(80, 80, |c| {
            let ridge = if c.row == 40 { 9.0 } else { 0.0 };
            0.3 * c.col as f32 + 0.1 * ((c.row * 7 + c.col * 13) % 5) as f32 + ridge
        });
        for (row, col, by) in [(10, 10, 25.0), (60, 33, -18.0), (0, 70, 12.0)] {
            dem.values_mut()[row * 80 + col] += by;
        }
        let found = examine(&dem, &frame(80, 80), 1.0, &Silent).unwrap();
        let at: Vec<_> = found.worst_spikes.iter().map(|s| (s.at.row, s.at.col)).collect();
        assert_eq!(at, [(10, 10), (60, 33), (0, 70)]);
        assert!(found.worst_spikes[1].above_m < -17.0);
    }

    #[test]
    fn steps_of_rounding_are_told() {
        let smooth = |step: f64| {
            Grid::from_fn(50, 50, |c| {
                let z = 40.0 + 0.037 * c.row as f64 + 0.11 * c.col as f64;
                ((z / step).round() * step) as f32
            })
        };
        for (step, unit, told) in [
            (1.0, 1.0, Some(1.0)),
            (0.5, 1.0, Some(0.5)),
            (0.1, 1.0, Some(0.1)),
            (0.3048, 0.3048, Some(0.3048)),
            (0.003, 1.0, None),
        ] {
            let found = examine(&smooth(step), &frame(50, 50), unit, &Silent).unwrap();
            assert_eq!(found.step_m, told, "{step}");
        }
    }
}
