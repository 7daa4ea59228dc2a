//! Whether mapped streams fit the ground: where they run uphill, and where they leave their valley.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::lines::Line;
use crate::{Cell, Connection, Frame, Grid, cells_along};

/// How well a mapped stream fits the ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StreamFit {
    /// which line, from 0
    pub line: usize,
    /// its length on the DEM, metres
    pub length_m: f64,
    /// the greatest rise of the low ground along it, above lower ground that it has passed, metres, in
    /// whichever of its two directions that is less
    pub rise_m: f64,
    /// where that rise ends, `[x, y]` in CRS units
    pub rise_at: [f64; 2],
    /// share of its cells beside which lower ground lies beyond their own accuracy
    pub off_share: f64,
    /// the most that such ground lies lower, metres
    pub off_m: f64,
    /// where
    pub off_at: [f64; 2],
    /// whether its direction, as drawn, leads up
    pub drawn_upwards: bool,
}

/// Examines how well each of `lines` fits `dem` (elevation in metres, `NaN` for nodata, at `frame`). Lines
/// with fewer than two cells with an elevation are left out.
///
/// Mapped streams are as accurate as `near_m`: what counts in each place is the lowest ground across the
/// stream within that distance. A cell is off its valley where ground beyond, but within twice the
/// distance, lies lower by more than `off_m`: such a stream makes a second valley when it is burned. A rise
/// that a barrier makes is a rise too.
///
/// The rule is ours.
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::stream_fits};
/// // A valley that falls to the east, with a bank of 3 m across it.
/// let dem = Grid::from_fn(9, 12, |c| {
///     let bank = if c.col == 6 { 3.0 } else { 0.0 };
///     20.0 - c.col as f32 + 2.0 * (c.row as f32 - 4.0).abs() + bank
/// });
/// let frame = Frame { rows: 9, cols: 12, left: 0.0, top: 9.0, cell_size: 1.0, unit_m: 1.0 };
/// let stream = vec![[0.5, 4.5], [11.5, 4.5]];
/// let fit = &stream_fits(&dem, &frame, &[stream], 2.0, 5.0)[0];
/// assert_eq!((fit.rise_m, fit.rise_at, fit.drawn_upwards), (2.0, [6.5, 4.5], false));
/// assert_eq!(fit.off_share, 0.0);
/// ```
pub fn stream_fits(
    dem: &Grid<f32>,
    frame: &Frame,
    lines: &[Line],
    near_m: f64,
    off_m: f64,
) -> Vec<StreamFit> {
    let reach = (near_m / frame.cell_m()).round().max(1.0) as usize;
    lines
        .par_iter()
        .enumerate()
        .filter_map(|(line, points)| {
            let cells: Vec<Cell> = cells_along(points, frame, Connection::Eight)
                .into_iter()
                .filter(|&c| dem.get(c).is_some_and(|z| !z.is_nan()))
                .collect();
            (cells.len() > 1).then(|| fit(dem, frame, line, &cells, reach, off_m))
        })
        .collect()
}

/// The greatest rise along elevations above the lowest that came before, and where.
fn greatest_rise(along: impl Iterator<Item = (usize, f32)>) -> (f32, usize) {
    let (mut lowest, mut rise, mut at) = (f32::INFINITY, 0f32, 0);
    for (i, z) in along {
        lowest = lowest.min(z);
        if z - lowest > rise {
            (rise, at) = (z - lowest, i);
        }
    }
    (rise, at)
}

/// The lowest ground across a stream at its cell `i`, within `reach` cells to either side, and within twice
/// as many.
fn lowest_across(dem: &Grid<f32>, cells: &[Cell], i: usize, reach: usize) -> [f32; 2] {
    let (a, b) = (cells[i.saturating_sub(3)], cells[(i + 3).min(cells.len() - 1)]);
    let (down, right) = (b.row as f64 - a.row as f64, b.col as f64 - a.col as f64);
    let length = down.hypot(right).max(1e-9);
    // A quarter turn from the way the stream runs.
    let (rows, cols) = (-right / length, down / length);
    let mut lowest = [f32::INFINITY; 2];
    for step in -2 * reach as isize..=2 * reach as isize {
        let row = cells[i].row.checked_add_signed((rows * step as f64).round() as isize);
        let col = cells[i].col.checked_add_signed((cols * step as f64).round() as isize);
        let (Some(row), Some(col)) = (row, col) else { continue };
        let z = dem.get(Cell { row, col }).copied().unwrap_or(f32::NAN);
        lowest[1] = lowest[1].min(z);
        if step.unsigned_abs() <= reach {
            lowest[0] = lowest[0].min(z);
        }
    }
    lowest
}

fn fit(dem: &Grid<f32>, frame: &Frame, line: usize, cells: &[Cell], reach: usize, off_m: f64) -> StreamFit {
    let place = |i: usize| {
        let (x, y) = frame.centre(cells[i]);
        [x, y]
    };
    let length_m = cells
        .windows(2)
        .map(|w| if w[0].row != w[1].row && w[0].col != w[1].col { std::f64::consts::SQRT_2 } else { 1.0 })
        .sum::<f64>()
        * frame.cell_m();
    let across: Vec<[f32; 2]> = (0..cells.len()).map(|i| lowest_across(dem, cells, i, reach)).collect();
    let along = || across.iter().map(|low| low[0]).enumerate();
    let (down, up) = (greatest_rise(along()), greatest_rise(along().rev()));
    let drawn_upwards = up.0 < down.0;
    let (rise, rise_at) = if drawn_upwards { up } else { down };
    let (mut off, mut worst, mut worst_at) = (0usize, 0f64, 0);
    for (i, [near, far]) in across.iter().enumerate() {
        let above = (near - far) as f64;
        off += usize::from(above > off_m);
        if above > worst {
            (worst, worst_at) = (above, i);
        }
    }
    StreamFit {
        line,
        length_m,
        rise_m: rise as f64,
        rise_at: place(rise_at),
        off_share: off as f64 / cells.len() as f64,
        off_m: worst,
        off_at: place(worst_at),
        drawn_upwards,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: Frame = Frame { rows: 20, cols: 20, left: 0.0, top: 200.0, cell_size: 10.0, unit_m: 1.0 };

    /// A valley along the middle column that falls to the south.
    fn valley() -> Grid<f32> {
        Grid::from_fn(20, 20, |c| 50.0 - c.row as f32 + 4.0 * (c.col as f32 - 10.0).abs())
    }

    #[test]
    fn a_stream_in_its_valley_fits_whichever_way_it_is_drawn() {
        let down = vec![[105.0, 195.0], [105.0, 5.0]];
        let up = vec![down[1], down[0]];
        let fits = stream_fits(&valley(), &FRAME, &[down, up], 10.0, 3.0);
        for (fit, upwards) in fits.iter().zip([false, true]) {
            assert_eq!((fit.rise_m, fit.off_share, fit.drawn_upwards), (0.0, 0.0, upwards), "{fit:?}");
            assert_eq!(fit.length_m, 190.0);
        }
    }

    #[test]
    fn a_stream_over_a_ridge_is_told_with_its_place() {
        // Three columns beside the valley, then over its side and back.
        let beside = vec![[145.0, 195.0], [145.0, 5.0]];
        let across = vec![[45.0, 105.0], [165.0, 105.0]];
        let outside = vec![[900.0, 900.0], [901.0, 901.0]];
        let fits = stream_fits(&valley(), &FRAME, &[beside, across, outside], 20.0, 6.0);
        assert_eq!(fits.len(), 2);
        assert_eq!(fits[0].off_share, 1.0);
        assert!(fits[1].rise_m >= 20.0 && fits[1].rise_at[1] == 105.0, "{:?}", fits[1]);
    }
}
