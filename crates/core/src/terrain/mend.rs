//! Mending a DEM before it is conditioned: spikes, steps of rounding, the sea.

use rayon::prelude::*;

use super::{LevelPatch, Spike};
use crate::monitor::{SharedPace, check};
use crate::{Grid, Monitor, Result};

/// Puts the median of its neighbours in place of each spike (see [`examine`](super::examine)). The spikes are
/// mended from the worst down, each with what the ones before have left.
///
/// ```
/// use bothros_core::{Cell, Grid, terrain::{Spike, mend_spikes}};
/// let mut dem = Grid::from_vec(3, 3, vec![1.0, 1.0, 2.0, 1.0, 90.0, 2.0, 1.0, 2.0, 2.0]);
/// mend_spikes(&mut dem, &[Spike { at: Cell { row: 1, col: 1 }, above_m: 88.5 }]);
/// assert_eq!(dem.values()[4], 1.5);
/// ```
pub fn mend_spikes(dem: &mut Grid<f32>, spikes: &[Spike]) {
    for spike in spikes {
        let index = dem.index(spike.at);
        let mut around: Vec<f32> =
            dem.neighbours(index).map(|(_, n)| dem.values()[n]).filter(|z| !z.is_nan()).collect();
        around.sort_unstable_by(f32::total_cmp);
        if let (Some(low), Some(high)) =
            (around.get((around.len().max(1) - 1) / 2), around.get(around.len() / 2))
        {
            dem.values_mut()[index] = (low + high) / 2.0;
        }
    }
}

/// Sweeps of [`soften_steps`].
const SWEEPS: usize = 160;
/// How far each sweep goes beyond the mean: more spreads slopes faster over wide steps.
const RELAXATION: f32 = 1.7;

/// Gives terraces, which rounding to multiples of `step_m` (metres) has left, a slope again: each cell
/// moves towards the mean of its four neighbours, but never by more than half a step from the elevation
/// that was given, so that rounding the result gives the DEM as it was. Cells without an elevation stay as
/// they are and do not count.
///
/// The number of sweeps is fixed; slopes spread about 150 cells into a level. Returns the number of cells
/// that moved by more than a hundredth of a step.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled); then `dem` is left half way.
///
/// # Source
/// Successive over-relaxation (textbook) of Laplace's equation with bounds; the use here is ours.
///
/// ```
/// use bothros_core::{Grid, Silent, terrain::soften_steps};
/// let mut dem = Grid::from_fn(4, 40, |c| (c.col / 10) as f32);
/// let given = dem.clone();
/// soften_steps(&mut dem, 1.0, &Silent)?;
/// assert!(dem.values().iter().zip(given.values()).all(|(z, g)| (z - g).abs() <= 0.5));
/// assert!(dem.values()[25] > dem.values()[22]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn soften_steps(dem: &mut Grid<f32>, step_m: f64, monitor: &dyn Monitor) -> Result<u64> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let half = (step_m / 2.0) as f32;
    let given = dem.values().to_vec();
    let mut now = given.clone();
    let mut next = given.clone();
    let pace = SharedPace::new(monitor, 2 * SWEEPS);
    for _ in 0..SWEEPS {
        // Cells of one colour depend on those of the other only, so that rows need not wait for each other.
        for colour in 0..2 {
            pace.advance(1)?;
            next.par_chunks_mut(cols.max(1)).enumerate().for_each(|(row, line)| {
                for (col, value) in line.iter_mut().enumerate() {
                    let at = row * cols + col;
                    if (row + col) % 2 != colour || now[at].is_nan() {
                        *value = now[at];
                        continue;
                    }
                    let (mut sum, mut count) = (0f32, 0f32);
                    let mut add = |z: f32| {
                        if !z.is_nan() {
                            sum += z - given[at];
                            count += 1.0;
                        }
                    };
                    if row > 0 {
                        add(now[at - cols]);
                    }
                    if row + 1 < rows {
                        add(now[at + cols]);
                    }
                    if col > 0 {
                        add(now[at - 1]);
                    }
                    if col + 1 < cols {
                        add(now[at + 1]);
                    }
                    let own = now[at] - given[at];
                    let moved = own + RELAXATION * (sum / count.max(1.0) - own) * f32::from(count > 0.0);
                    *value = given[at] + moved.clamp(-half, half);
                }
            });
            std::mem::swap(&mut now, &mut next);
        }
    }
    check(monitor)?;
    let least = 0.01 * step_m as f32;
    let moved = now.iter().zip(&given).filter(|(z, g)| (*z - *g).abs() > least).count() as u64;
    dem.values_mut().copy_from_slice(&now);
    Ok(moved)
}

/// Declares a level patch, and the cells round it that have its elevation, as outside. Returns their number.
///
/// ```
/// use bothros_core::{Cell, Grid, terrain::{LevelPatch, remove_level}};
/// let mut coast = Grid::from_vec(1, 4, vec![0.0, 0.0, 1.0, 0.0]);
/// let sea = LevelPatch { at: Cell { row: 0, col: 0 }, cells: 1, elevation_m: 0.0, touches_edge: true };
/// assert_eq!(remove_level(&mut coast, &sea), 2);
/// assert!(coast.values()[1].is_nan() && coast.values()[3] == 0.0);
/// ```
pub fn remove_level(dem: &mut Grid<f32>, patch: &LevelPatch) -> u64 {
    let mut open = vec![dem.index(patch.at)];
    let mut removed = 0;
    while let Some(index) = open.pop() {
        if dem.values()[index] != patch.elevation_m {
            continue;
        }
        dem.values_mut()[index] = f32::NAN;
        removed += 1;
        let beside: Vec<usize> = dem.neighbours(index).map(|(_, n)| n).collect();
        open.extend(beside.into_iter().filter(|&n| dem.values()[n] == patch.elevation_m));
    }
    removed
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;

    #[test]
    fn terraces_fall_again_and_round_to_what_was_given() {
        // A gentle slope in whole metres: treads of forty cells.
        let truth = |row: usize, col: usize| 10.0 + 0.025 * col as f64 + 0.002 * row as f64;
        let given = Grid::from_fn(60, 400, |c| truth(c.row, c.col).round() as f32);
        let mut dem = given.clone();
        let moved = soften_steps(&mut dem, 1.0, &Silent).unwrap();
        assert!(moved > 12_000);
        let (mut error, mut before) = (0.0, 0.0);
        for row in 0..60 {
            for col in 0..400 {
                let i = row * 400 + col;
                assert!((dem.values()[i] - given.values()[i]).abs() <= 0.5);
                // The ends of the strip know no slope beyond.
                if (30..370).contains(&col) {
                    error += (dem.values()[i] as f64 - truth(row, col)).abs();
                    before += (given.values()[i] as f64 - truth(row, col)).abs();
                }
            }
        }
        assert!(error < 0.4 * before, "{error} against {before}");
    }

    #[test]
    fn any_number_of_threads_gives_the_same() {
        let dem = Grid::from_fn(97, 61, |c| ((c.row * c.row / 40 + c.col * 3) / 9) as f32);
        let of = |threads: usize| {
            let mut copy = dem.clone();
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| soften_steps(&mut copy, 1.0, &Silent).unwrap());
            copy.into_vec().into_iter().map(f32::to_bits).collect::<Vec<_>>()
        };
        assert_eq!(of(1), of(5));
    }

    #[test]
    fn voids_stay() {
        let mut dem = Grid::from_vec(2, 3, vec![1.0, f32::NAN, 2.0, 1.0, 1.0, 2.0]);
        soften_steps(&mut dem, 1.0, &Silent).unwrap();
        assert!(dem.values()[1].is_nan() && dem.values()[0] >= 1.0);
    }
}
