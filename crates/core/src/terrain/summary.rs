//! The plain facts of a DEM: range, distribution, nodata, voids, whole metres.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::outside;
use crate::monitor::SharedPace;
use crate::{Cell, Error, Grid, Monitor, Result};

/// A void: connected cells without elevation inside the terrain.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Void {
    /// one of its cells (the first in row order)
    pub at: Cell,
    /// number of cells
    pub cells: u64,
}

/// The facts of a DEM.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    /// cells with an elevation
    pub cells: u64,
    /// cells without one, voids included
    pub nodata_cells: u64,
    /// lowest elevation, metres
    pub lowest_m: f32,
    /// highest elevation, metres
    pub highest_m: f32,
    /// mean elevation, metres
    pub mean_m: f64,
    /// elevation that 2 % of the cells lie below, metres, from an even sample
    pub percentile_2_m: f32,
    /// elevation that 98 % of the cells lie below, metres, from an even sample
    pub percentile_98_m: f32,
    /// whether every elevation is a whole number of the unit given
    pub whole_numbers: bool,
    /// number of voids
    pub voids: u64,
    /// cells in voids
    pub void_cells: u64,
    /// the largest voids, largest first, ten at most
    pub largest_voids: Vec<Void>,
}

/// Number of evenly spread cells that percentiles are estimated from.
const SAMPLE: usize = 1 << 18;
const VOIDS_LISTED: usize = 10;

/// Rows that are looked at together.
const ROWS: usize = 64;

/// What some rows hold.
struct Seen {
    cells: u64,
    sum: f64,
    lowest: f32,
    highest: f32,
    whole_numbers: bool,
    sample: Vec<f32>,
}

impl Seen {
    /// Looks at cells, the first of which has the number `from` in the grid; one in `every` goes into the sample.
    fn of(values: &[f32], from: usize, every: usize, unit_m: f64) -> Self {
        let mut seen = Self {
            cells: 0,
            sum: 0.0,
            lowest: f32::INFINITY,
            highest: f32::NEG_INFINITY,
            whole_numbers: true,
            sample: Vec::new(),
        };
        for &z in values.iter().filter(|z| !z.is_nan()) {
            seen.cells += 1;
            seen.sum += z as f64;
            seen.lowest = seen.lowest.min(z);
            seen.highest = seen.highest.max(z);
        }
        // Converted elevations carry the rounding of float32.
        let whole = |z: &f32| {
            let in_unit = *z as f64 / unit_m;
            z.is_nan() || (in_unit - in_unit.round()).abs() <= 1e-6 * in_unit.abs().max(1.0)
        };
        seen.whole_numbers = values.iter().all(whole);
        let first = from.next_multiple_of(every) - from;
        seen.sample.extend(values.iter().skip(first).step_by(every).filter(|z| !z.is_nan()));
        seen
    }

    fn and(mut self, mut next: Self) -> Self {
        self.cells += next.cells;
        self.sum += next.sum;
        self.lowest = self.lowest.min(next.lowest);
        self.highest = self.highest.max(next.highest);
        self.whole_numbers &= next.whole_numbers;
        self.sample.append(&mut next.sample);
        self
    }
}

/// Summarises a DEM. `unit_m` is the metres in one unit of the source's elevations, so that whole
/// feet are found as well as whole metres.
///
/// Nodata that is connected to the border, over edges of cells, is outside; the rest is voids.
///
/// # Errors
/// [`Error::NoData`] where no cell has an elevation, [`Error::Cancelled`].
///
/// ```
/// use bothros_core::{Grid, Silent, terrain::summarise};
/// let dem = Grid::from_vec(1, 3, vec![1.0, 2.0, 6.0]);
/// let facts = summarise(&dem, 1.0, &Silent)?;
/// assert_eq!((facts.lowest_m, facts.highest_m, facts.mean_m), (1.0, 6.0, 3.0));
/// assert!(facts.whole_numbers);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn summarise(dem: &Grid<f32>, unit_m: f64, monitor: &dyn Monitor) -> Result<Summary> {
    let every = dem.len().div_ceil(SAMPLE).max(1);
    let band = (ROWS * dem.cols()).max(1);
    let shared = SharedPace::new(monitor, dem.len().div_ceil(band));
    let bands = dem.values().par_chunks(band).enumerate().map(|(at, values)| {
        shared.advance(1)?;
        Ok(Seen::of(values, at * band, every, unit_m))
    });
    // Bands are put together in their order, so that sums do not depend on threads.
    let all = bands.collect::<Result<Vec<Seen>>>()?.into_iter().reduce(Seen::and);
    let Seen { cells, sum, lowest, highest, whole_numbers, mut sample } = all.ok_or(Error::NoData)?;
    if cells == 0 {
        return Err(Error::NoData);
    }
    if sample.is_empty() {
        sample.extend([lowest, highest]);
    }
    sample.sort_unstable_by(f32::total_cmp);
    let percentile = |p: f64| sample[((sample.len() - 1) as f64 * p).round() as usize];
    let nodata_cells = dem.len() as u64 - cells;
    let mut voids = if nodata_cells == 0 { Vec::new() } else { voids(dem) };
    let (count, void_cells) = (voids.len() as u64, voids.iter().map(|v| v.cells).sum());
    voids.sort_by(|a, b| b.cells.cmp(&a.cells).then(a.at.cmp(&b.at)));
    voids.truncate(VOIDS_LISTED);
    Ok(Summary {
        cells,
        nodata_cells,
        lowest_m: lowest,
        highest_m: highest,
        mean_m: sum / cells as f64,
        percentile_2_m: percentile(0.02),
        percentile_98_m: percentile(0.98),
        whole_numbers,
        voids: count,
        void_cells,
        largest_voids: voids,
    })
}

fn voids(dem: &Grid<f32>) -> Vec<Void> {
    let mut seen = outside(dem);
    let mut found = Vec::new();
    let mut open = Vec::new();
    for start in 0..dem.len() {
        if !dem.values()[start].is_nan() || seen.values()[start] {
            continue;
        }
        seen.values_mut()[start] = true;
        open.push(start);
        let mut cells = 0;
        while let Some(index) = open.pop() {
            cells += 1;
            for (_, n) in dem.neighbours(index) {
                if dem.values()[n].is_nan() && !seen.values()[n] {
                    seen.values_mut()[n] = true;
                    open.push(n);
                }
            }
        }
        found.push(Void { at: dem.cell(start), cells });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;

    #[test]
    fn voids_are_told_from_the_outside() {
        let n = f32::NAN;
        #[rustfmt::skip]
        let dem = Grid::from_vec(5, 6, vec![
            n,   1.0, 1.0, 1.0, 1.0, 1.0,
            n,   1.0, n,   n,   1.0, 1.0,
            1.0, 1.0, 1.0, 1.0, n,   1.0,
            1.0, n,   1.0, 1.0, 1.0, 1.0,
            1.0, 1.0, 1.0, 1.0, 1.0, 1.5,
        ]);
        let facts = summarise(&dem, 1.0, &Silent).unwrap();
        assert_eq!((facts.cells, facts.nodata_cells), (24, 6));
        assert_eq!((facts.voids, facts.void_cells), (2, 4));
        assert_eq!(facts.largest_voids[0], Void { at: Cell { row: 1, col: 2 }, cells: 3 });
        assert!(!facts.whole_numbers);
    }

    #[test]
    fn whole_feet_are_whole() {
        let foot = 0.3048;
        let dem = Grid::from_fn(9, 9, |c| ((c.row * 37 + c.col) as f64 * foot) as f32);
        assert!(summarise(&dem, foot, &Silent).unwrap().whole_numbers);
        assert!(!summarise(&dem, 1.0, &Silent).unwrap().whole_numbers);
    }

    #[test]
    fn percentiles_of_an_even_ramp() {
        let dem = Grid::from_fn(101, 1, |c| c.row as f32);
        let facts = summarise(&dem, 1.0, &Silent).unwrap();
        assert_eq!((facts.percentile_2_m, facts.percentile_98_m), (2.0, 98.0));
    }
}
