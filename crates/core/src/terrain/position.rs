//! Topographic position: how far a place stands above what surrounds it.

use rayon::prelude::*;

use crate::monitor::{SharedPace, check};
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
    let reach = radius.floor() as usize;
    let widths: Vec<usize> = (0..=2 * reach)
        .map(|at| (radius * radius - at.abs_diff(reach).pow(2) as f64).max(0.0).sqrt().floor() as usize)
        .collect();
    // Elevations less a common one, so that the sums stay small.
    let base = dem.values().iter().copied().find(|z| !z.is_nan()).unwrap_or(0.0) as f64;
    let mut out = vec![f32::NAN; dem.len()];
    let pace = SharedPace::new(monitor, rows.div_ceil(BAND));
    out.par_chunks_mut((cols * BAND).max(1)).enumerate().try_for_each(|(band, out)| {
        pace.advance(1)?;
        let top = band * BAND;
        let from = top.saturating_sub(widths.len() / 2);
        let to = (top + out.len() / cols + widths.len() / 2).min(rows);
        let sums = Sums::of(&dem.values()[from * cols..to * cols], cols, base);
        let (mut sum, mut count) = (vec![0f64; cols], vec![0u32; cols]);
        for (at, out) in out.chunks_mut(cols).enumerate() {
            let row = top + at;
            check(monitor)?;
            sum.fill(0.0);
            count.fill(0);
            for (at, &half) in widths.iter().enumerate() {
                if let Some(r) = (row + at).checked_sub(reach).filter(|&r| r < rows) {
                    sums.add(r - from, half, &mut sum, &mut count);
                }
            }
            for (col, out) in out.iter_mut().enumerate() {
                let z = dem.values()[row * cols + col] as f64 - base;
                *out = (z - sum[col] / count[col] as f64) as f32;
            }
        }
        Ok::<(), crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, out))
}

/// Rows worked at a time: their sums stay in the cache.
const BAND: usize = 64;

/// Sums along rows from their beginning, of elevations and of how many there are.
struct Sums {
    cols: usize,
    sums: Vec<f64>,
    /// nothing where every cell has an elevation
    counts: Vec<u32>,
}

impl Sums {
    fn of(values: &[f32], cols: usize, base: f64) -> Self {
        let mut sums = vec![0f64; values.len() / cols * (cols + 1)];
        let with_voids = values.iter().any(|z| z.is_nan());
        let mut counts = vec![0u32; if with_voids { sums.len() } else { 0 }];
        for (row, z) in values.chunks(cols).enumerate() {
            let (mut sum, begin) = (0.0, row * (cols + 1) + 1);
            for (out, &z) in sums[begin..].iter_mut().zip(z) {
                sum += if z.is_nan() { 0.0 } else { z as f64 - base };
                *out = sum;
            }
            if with_voids {
                let mut count = 0;
                for (out, &z) in counts[begin..].iter_mut().zip(z) {
                    count += u32::from(!z.is_nan());
                    *out = count;
                }
            }
        }
        Self { cols, sums, counts }
    }

    /// Adds, for each column, what lies in a row within `half` columns.
    fn add(&self, row: usize, half: usize, sum: &mut [f64], count: &mut [u32]) {
        let cols = self.cols;
        let row = row * (cols + 1)..(row + 1) * (cols + 1);
        let sums = &self.sums[row.clone()];
        // Where the circle does not reach beyond the grid, one loop without a choice does it.
        let inner = half.min(cols)..cols.saturating_sub(half).max(half.min(cols));
        let edges = (0..inner.start).chain(inner.end..cols);
        let within = |col: usize| (col.saturating_sub(half), (col + half + 1).min(cols));
        for (to, (high, low)) in
            sum[inner.clone()].iter_mut().zip(sums[(inner.start + half + 1).min(cols)..].iter().zip(sums))
        {
            *to += high - low;
        }
        for col in edges.clone() {
            let (from, to) = within(col);
            sum[col] += sums[to] - sums[from];
        }
        let Some(counts) = self.counts.get(row) else {
            count[inner].iter_mut().for_each(|to| *to += 2 * half as u32 + 1);
            for col in edges {
                let (from, to) = within(col);
                count[col] += (to - from) as u32;
            }
            return;
        };
        for (to, (high, low)) in count[inner.clone()]
            .iter_mut()
            .zip(counts[(inner.start + half + 1).min(cols)..].iter().zip(counts))
        {
            *to += high - low;
        }
        for col in edges {
            let (from, to) = within(col);
            count[col] += counts[to] - counts[from];
        }
    }
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
