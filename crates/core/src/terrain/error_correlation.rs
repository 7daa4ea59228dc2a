//! How far errors of a DEM are alike, estimated from where its ground is smoothest.

use rayon::prelude::*;

use crate::Grid;

/// Edge of a block, in cells.
const BLOCK: usize = 32;
/// Blocks that are needed.
const FEWEST: usize = 20;
/// Share of the blocks that count, the smoothest: ground that bends is alike over longer distances than its error.
const SMOOTHEST: f64 = 0.1;
/// Distances at which blocks are compared with themselves, in cells.
const LAGS: usize = 10;
/// What a quadratic surface takes away of errors that are alike over more than this share of a block can no longer be told.
const LONGEST: f64 = BLOCK as f64 / 5.0;

/// What is left of the ground where it is smoothest, once a quadratic surface is taken away from each block.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ErrorEstimate {
    /// its standard deviation, metres
    pub sd_m: f64,
    /// the distance at which its correlation has fallen to 1/e, in cells: 0 where neighbours have nothing in common
    pub correlation_cells: f64,
}

/// Estimates standard deviation and correlation length of the vertical error of a DEM (metres; `NaN` where there is none): in blocks of 32 x 32 cells a quadratic surface is taken
/// away, and what is left in the smoothest tenth of them is compared with itself at distances of 1 to 10 cells; the correlation `exp(-(d / length)²)` that fits it best, with
/// what the surface takes away of it, counts. `None` where there are too few blocks, and where errors are alike over more than a fifth of a block, or ground looks so.
///
/// Ground that is rough at this scale counts as error, so both are at most what is found, or more than there is.
///
/// # Source
/// Ours; that errors are described by deviation and correlation length follows Fisher and Tate 2006, Progress in Physical Geography 30, 467-489.
pub fn error_correlation(dem: &Grid<f32>) -> Option<ErrorEstimate> {
    let basis = Basis::new();
    let (rows, cols) = (dem.rows() / BLOCK, dem.cols() / BLOCK);
    let of_block = |block: usize| {
        let (top, left) = (block / cols * BLOCK, block % cols * BLOCK);
        let mut z = [[0f64; BLOCK]; BLOCK];
        for (row, line) in z.iter_mut().enumerate() {
            for (col, z) in line.iter_mut().enumerate() {
                *z = f64::from(dem.values()[(top + row) * dem.cols() + left + col]);
                if z.is_nan() {
                    return None;
                }
            }
        }
        let covariances = Covariances::of(&basis.left(&z));
        // Water and ground that was made level tell nothing of errors.
        (covariances.0[0] > 1e-8).then_some(covariances)
    };
    let mut found: Vec<Covariances> = (0..rows * cols).into_par_iter().filter_map(of_block).collect();
    if found.len() < FEWEST {
        return None;
    }
    found.sort_by(|a, b| a.0[0].total_cmp(&b.0[0]));
    found.truncate((found.len() as f64 * SMOOTHEST).ceil() as usize);
    // Each block weighs alike, whatever its variance.
    let mean = |lag: usize| found.iter().map(|c| c.0[lag] / c.0[0]).sum::<f64>() / found.len() as f64;
    let seen: Vec<f64> = (1..=LAGS).map(mean).collect();
    let misfit = |length: f64| {
        let expected = basis.expected(length);
        (1..=LAGS).map(|lag| (expected.0[lag] / expected.0[0] - seen[lag - 1]).powi(2)).sum::<f64>()
    };
    const STEPS: usize = 60;
    let length = |step: usize| 1.2 * LONGEST * step as f64 / STEPS as f64;
    let best = (0..=STEPS).map(|step| (misfit(length(step)), length(step)));
    let (_, correlation_cells) = best.min_by(|a, b| a.0.total_cmp(&b.0))?;
    if correlation_cells > LONGEST {
        return None;
    }
    // What the surface took away of the variance is put back.
    let variance = found.iter().map(|c| c.0[0]).sum::<f64>() / found.len() as f64;
    let sd_m = (variance / basis.expected(correlation_cells).0[0]).sqrt();
    Some(ErrorEstimate { sd_m, correlation_cells })
}

/// Means of products of values that lie so many cells apart, along rows and columns.
struct Covariances([f64; LAGS + 1]);

impl Covariances {
    fn of(z: &[[f64; BLOCK]; BLOCK]) -> Self {
        let mut out = [0.0; LAGS + 1];
        for (lag, out) in out.iter_mut().enumerate() {
            let along = |a: &[f64; BLOCK], b: &[f64; BLOCK]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
            let rows = z.iter().map(|row| row.iter().zip(&row[lag..]).map(|(a, b)| a * b).sum::<f64>());
            let columns = z.iter().zip(&z[lag..]).map(|(above, below)| along(above, below));
            let sum = rows.sum::<f64>() + columns.sum::<f64>();
            *out = sum / (2 * BLOCK * (BLOCK - lag)) as f64;
        }
        Self(out)
    }
}

/// Polynomials of the second degree that are orthonormal over a block, as products of those along rows and columns.
struct Basis {
    along: [[f64; BLOCK]; 3],
}

/// Degrees along rows and columns of the six terms.
const TERMS: [(usize, usize); 6] = [(0, 0), (0, 1), (1, 0), (1, 1), (0, 2), (2, 0)];

impl Basis {
    fn new() -> Self {
        let mut along = [[0.0; BLOCK]; 3];
        for degree in 0..3 {
            let mut v: [f64; BLOCK] =
                std::array::from_fn(|i| (i as f64 / (BLOCK - 1) as f64 - 0.5).powi(degree as i32));
            for before in &along[..degree] {
                let dot: f64 = v.iter().zip(before).map(|(a, b)| a * b).sum();
                v.iter_mut().zip(before).for_each(|(a, b)| *a -= dot * b);
            }
            let norm = v.iter().map(|a| a * a).sum::<f64>().sqrt();
            along[degree] = v.map(|a| a / norm);
        }
        Self { along }
    }

    /// What is left of a block without the quadratic surface that fits it best.
    fn left(&self, z: &[[f64; BLOCK]; BLOCK]) -> [[f64; BLOCK]; BLOCK] {
        let mut left = *z;
        for (a, b) in TERMS {
            let (down, across) = (&self.along[a], &self.along[b]);
            let share: f64 =
                (0..BLOCK).map(|r| down[r] * z[r].iter().zip(across).map(|(z, c)| z * c).sum::<f64>()).sum();
            for (line, d) in left.iter_mut().zip(down) {
                line.iter_mut().zip(across).for_each(|(v, c)| *v -= share * d * c);
            }
        }
        left
    }

    /// What covariances of unit variance and this correlation length become, on the average, once the surface is taken away.
    ///
    /// Along one axis the correlation is a matrix `K`, and that of a block the product of two. With `P` the projection onto the surface what is left is `C - PC - CP + PCP`;
    /// the terms of `P` are products along the axes, so that all of it comes from small matrices.
    fn expected(&self, length: f64) -> Covariances {
        let k: Vec<[f64; BLOCK]> = (0..BLOCK)
            .map(|i| {
                std::array::from_fn(|j| {
                    let apart = i.abs_diff(j) as f64;
                    if length > 0.0 { (-(apart / length).powi(2)).exp() } else { f64::from(u8::from(i == j)) }
                })
            })
            .collect();
        // K v for each polynomial, and what two of them have in common.
        let kv: [[f64; BLOCK]; 3] = std::array::from_fn(|d| {
            std::array::from_fn(|i| k[i].iter().zip(&self.along[d]).map(|(a, b)| a * b).sum())
        });
        let vkv: [[f64; 3]; 3] = std::array::from_fn(|a| {
            std::array::from_fn(|b| self.along[a].iter().zip(&kv[b]).map(|(x, y)| x * y).sum())
        });
        let mut out = [0.0; LAGS + 1];
        for (lag, out) in out.iter_mut().enumerate() {
            let n = BLOCK - lag;
            // Sums over pairs that lie so far apart along an axis, and over all places along the other.
            let apart = |x: &[f64; BLOCK], y: &[f64; BLOCK]| (0..n).map(|i| x[i] * y[i + lag]).sum::<f64>();
            let at = |x: &[f64; BLOCK], y: &[f64; BLOCK]| x.iter().zip(y).map(|(a, b)| a * b).sum::<f64>();
            let whole = (n * BLOCK) as f64 * k[0][lag];
            let mut once = 0.0;
            for (a, b) in TERMS {
                let (va, vb) = (&self.along[a], &self.along[b]);
                // Pairs along rows, then along columns; both orders of PC and CP.
                once += apart(vb, &kv[b]) * at(va, &kv[a]) + apart(&kv[b], vb) * at(va, &kv[a]);
                once += apart(va, &kv[a]) * at(vb, &kv[b]) + apart(&kv[a], va) * at(vb, &kv[b]);
            }
            let mut twice = 0.0;
            for (a, b) in TERMS {
                for (c, d) in TERMS {
                    let common = vkv[a][c] * vkv[b][d];
                    let (va, vb, vc, vd) = (&self.along[a], &self.along[b], &self.along[c], &self.along[d]);
                    twice += common * (apart(vb, vd) * at(va, vc) + apart(va, vc) * at(vb, vd));
                }
            }
            *out = (2.0 * whole - once + twice) / (2 * n * BLOCK) as f64;
        }
        Covariances(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Frame;
    use crate::uncertainty::DemError;

    const SIZE: usize = 512;

    fn with_error(sd_m: f64, cells: f64, ground: impl Fn(f64, f64) -> f64) -> Grid<f32> {
        let frame = Frame { rows: SIZE, cols: SIZE, left: 0.0, top: 0.0, cell_size: 5.0, unit_m: 1.0 };
        let dem = Grid::from_fn(SIZE, SIZE, |c| ground(c.col as f64, c.row as f64) as f32);
        DemError { sd_m, correlation_m: 5.0 * cells }.realise(&dem, &frame, 11, 0)
    }

    #[test]
    fn what_was_put_in_is_found_on_level_and_on_rolling_ground() {
        let rolling = |x: f64, y: f64| 12.0 * (x / 60.0).sin() + 9.0 * (y / 80.0).cos() + 0.03 * x;
        for (sd, cells) in [(0.3, 0.0), (0.3, 2.0), (0.5, 4.0)] {
            for ground in [&(|_: f64, _: f64| 50.0) as &dyn Fn(f64, f64) -> f64, &rolling] {
                let found = error_correlation(&with_error(sd, cells, ground)).unwrap();
                let off = (found.correlation_cells - cells).abs();
                assert!(off <= 0.25 * cells + 0.5, "{found:?} of {cells} cells");
                assert!((found.sd_m / sd - 1.0).abs() < 0.3, "{found:?} of {sd} m");
            }
        }
    }

    #[test]
    fn what_cannot_be_told_is_not() {
        // Alike over most of a block; no error at all; too little ground.
        assert_eq!(error_correlation(&with_error(0.5, 14.0, |_, _| 50.0)), None);
        assert_eq!(error_correlation(&Grid::filled(400, 400, 7.0)), None);
        assert_eq!(error_correlation(&Grid::filled(40, 40, 7.0)), None);
    }

    /// Without correlation a surface of six terms takes six of a block's 1,024 degrees of freedom.
    #[test]
    fn what_the_surface_takes_away_is_known() {
        let white = Basis::new().expected(0.0);
        assert!((white.0[0] - (1.0 - 6.0 / 1024.0)).abs() < 1e-9, "{}", white.0[0]);
        // Errors that are alike all over the block are taken away whole.
        assert!(Basis::new().expected(1e4).0[0] < 1e-6);
    }
}
