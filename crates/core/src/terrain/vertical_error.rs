//! The vertical error of a DEM, estimated from where its ground is smoothest.

use rayon::prelude::*;

use crate::Grid;

/// Edge of a block, in cells.
const BLOCK: usize = 16;
/// Blocks that are needed.
const FEWEST: usize = 20;
/// The estimate is that of a quarter of the blocks or less: ground that bends adds to others.
const SMOOTHEST: f64 = 0.25;
/// Share of a block's cells that must tell something.
const TELLS: f64 = 0.5;

/// Estimates the standard deviation of the error of single cells, metres: in blocks of 16 x 16 cells from a difference of second differences, which neither a
/// plane nor ground that bends one way changes; the block a quarter from the smoothest counts. Cells that stand in level surroundings (water, ground that was
/// rounded) tell nothing. `None` where there are too few blocks.
///
/// Ground that is rough at the scale of cells adds to it; error that neighbours share, and error that was smoothed away, is not seen.
///
/// # Source
/// Immerkær 1996, Computer Vision and Image Understanding 64, 300-302 (the difference and its mean over a picture); that it is taken by blocks, and which block
/// counts, is ours.
///
/// ```
/// use bothros_core::{Grid, terrain::vertical_error};
/// let slope = Grid::from_fn(100, 100, |c| 0.5 * c.row as f32 + 0.25 * c.col as f32);
/// assert!(vertical_error(&slope).unwrap() < 1e-5);
/// ```
pub fn vertical_error(dem: &Grid<f32>) -> Option<f64> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let z = dem.values();
    let across = cols.saturating_sub(2) / BLOCK;
    let blocks = rows.saturating_sub(2) / BLOCK * across;
    let of_block = |block: usize| {
        let (top, left) = (block / across * BLOCK + 1, block % across * BLOCK + 1);
        let (mut sum, mut count) = (0.0, 0usize);
        for row in top..top + BLOCK {
            for at in row * cols + left..row * cols + left + BLOCK {
                let v = |i: usize| z[i] as f64;
                let (n, s) = (at - cols, at + cols);
                let beside = [z[at - 1], z[at + 1], z[n], z[s]];
                if beside.iter().all(|&b| b == z[at]) {
                    continue;
                }
                let corners = v(n - 1) + v(n + 1) + v(s - 1) + v(s + 1);
                let difference = corners - 2.0 * beside.iter().map(|&b| b as f64).sum::<f64>() + 4.0 * v(at);
                if difference.is_finite() {
                    sum += difference.abs();
                    count += 1;
                }
            }
        }
        // A normally distributed value is off by sqrt(2 / pi) of its deviation on the average; the weights' squares add up to 36.
        let tells = count as f64 >= TELLS * (BLOCK * BLOCK) as f64;
        tells.then(|| (std::f64::consts::PI / 2.0).sqrt() / 6.0 * sum / count as f64)
    };
    let mut found: Vec<f64> = (0..blocks).into_par_iter().filter_map(of_block).collect();
    if found.len() < FEWEST {
        return None;
    }
    let at = (found.len() as f64 * SMOOTHEST) as usize;
    Some(*found.select_nth_unstable_by(at, f64::total_cmp).1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_error_that_was_put_in_is_found() {
        // Rolling ground with valleys, and normally distributed errors (sums of twelve).
        let mut state = 7u64;
        let mut even = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as f64 / (1u64 << 31) as f64
        };
        for error in [0.05, 0.2, 0.5] {
            let dem = Grid::from_fn(400, 300, |c| {
                let (x, y) = (c.col as f64 / 40.0, c.row as f64 / 55.0);
                // A sharp valley along a slanting line, too.
                let valley = (c.col as f64 - 150.0 - 0.3 * c.row as f64).abs() * 0.4;
                let ground = 6.0 * x.sin() + 9.0 * y.cos() + valley;
                let normal: f64 = (0..12).map(|_| even()).sum::<f64>() - 6.0;
                (ground + error * normal) as f32
            });
            let found = vertical_error(&dem).unwrap();
            assert!((found - error).abs() < 0.15 * error, "{found} of {error}");
        }
    }

    #[test]
    fn level_or_little_ground_tells_nothing() {
        assert_eq!(vertical_error(&Grid::filled(160, 160, 3.0)), None);
        assert_eq!(vertical_error(&Grid::filled(160, 160, f32::NAN)), None);
        for (rows, cols) in [(1, 1), (2, 40), (40, 17)] {
            assert_eq!(vertical_error(&Grid::from_fn(rows, cols, |c| c.row as f32)), None);
        }
    }
}
