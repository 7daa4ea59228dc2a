//! Topographic position: how far a place stands above what surrounds it.

use rayon::prelude::*;

use crate::monitor::check;
use crate::{Frame, Grid, Monitor, Result};

/// How wide a surrounding is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Radius {
    /// in cells
    Cells(f64),
    /// in metres
    Metres(f64),
}

/// Elevation of each cell minus the mean of all cells whose centres lie within the radius, itself
/// counted: metres, positive on ridges and banks, negative in valleys and ditches. `NaN` where `dem`
/// (metres, at `frame`) has no elevation; cells without one do not count.
///
/// The cost per cell grows with the radius, not with its square.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Weiss 2001, Topographic position and landforms analysis (a conference poster), with a full circle
/// in place of a ring.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, terrain::{Radius, topographic_position}};
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
/// let bank = Grid::from_vec(1, 5, vec![1.0, 1.0, 4.0, 1.0, 1.0]);
/// let position = topographic_position(&bank, &frame, Radius::Metres(2.0), &Silent)?;
/// assert_eq!(position.values(), [0.0, -1.0, 2.0, -1.0, 0.0]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn topographic_position(
    dem: &Grid<f32>,
    frame: &Frame,
    radius: Radius,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let radius = match radius {
        Radius::Cells(cells) => cells,
        Radius::Metres(metres) => metres / frame.cell_m(),
    }
    .clamp(0.0, (rows + cols) as f64);
    // Half widths of the rows of a circle.
    let reach = radius.floor() as isize;
    let widths: Vec<isize> = (-reach..=reach)
        .map(|dy| (radius * radius - (dy * dy) as f64).max(0.0).sqrt().floor() as isize)
        .collect();
    // Sums along rows from their beginning, over elevations less a common one, so that the sums stay
    // small; and counts of cells with an elevation.
    let base = dem.values().iter().copied().find(|z| !z.is_nan()).unwrap_or(0.0) as f64;
    let width = cols + 1;
    let mut sums = vec![(0f64, 0u32); rows * width];
    sums.par_chunks_mut(width).zip(dem.values().par_chunks(cols.max(1))).for_each(|(sums, z)| {
        for (col, &z) in z.iter().enumerate() {
            let (sum, count) = sums[col];
            sums[col + 1] = if z.is_nan() { (sum, count) } else { (sum + z as f64 - base, count + 1) };
        }
    });
    check(monitor)?;
    monitor.progress(0.1);
    let mut out = vec![f32::NAN; dem.len()];
    out.par_chunks_mut(cols.max(1)).enumerate().try_for_each(|(row, out)| {
        check(monitor)?;
        for (col, out) in out.iter_mut().enumerate() {
            let z = dem.values()[row * cols + col];
            if z.is_nan() {
                continue;
            }
            let (mut sum, mut count) = (0.0, 0);
            for (at, &half) in widths.iter().enumerate() {
                let Some(r) = row.checked_add_signed(at as isize - reach).filter(|&r| r < rows) else {
                    continue;
                };
                let from = r * width + col.saturating_sub(half as usize);
                let to = r * width + (col + half as usize + 1).min(cols);
                sum += sums[to].0 - sums[from].0;
                count += sums[to].1 - sums[from].1;
            }
            *out = (z as f64 - base - sum / count as f64) as f32;
        }
        Ok::<(), crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, out))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn equals_the_mean_by_definition(dem in any_terrain(12), radius in 0.0f64..6.0) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 5.0, unit_m: 1.0 };
            let fast = topographic_position(&dem, &frame, Radius::Cells(radius), &Silent).unwrap();
            let metres = topographic_position(&dem, &frame, Radius::Metres(radius * 5.0), &Silent).unwrap();
            for i in 0..dem.len() {
                let (own, z) = (dem.cell(i), dem.values()[i]);
                let within: Vec<f64> = (0..dem.len()).filter(|&j| {
                    let c = dem.cell(j);
                    let (dy, dx) = (c.row as f64 - own.row as f64, c.col as f64 - own.col as f64);
                    dx * dx + dy * dy <= radius * radius && !dem.values()[j].is_nan()
                }).map(|j| dem.values()[j] as f64).collect();
                if z.is_nan() {
                    prop_assert!(fast.values()[i].is_nan());
                    continue;
                }
                let expected = z as f64 - within.iter().sum::<f64>() / within.len() as f64;
                prop_assert!((fast.values()[i] as f64 - expected).abs() < 1e-4);
                prop_assert!((metres.values()[i] as f64 - expected).abs() < 1e-4 || (radius - radius.round()).abs() < 1e-9);
            }
        }
    }
}
