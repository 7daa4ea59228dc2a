//! Coarser views of a raster.

use rayon::prelude::*;

use super::Grid;

/// How coarser views of a raster are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Coarser {
    /// means, e.g. of elevations
    Mean,
    /// greatest values, so that streams do not break when seen from afar
    Greatest,
    /// one of the values, for codes that cannot be averaged
    First,
}

/// A value from a mean.
pub trait FromMean {
    /// Rounds down where it must.
    fn from_mean(mean: f64) -> Self;
}
macro_rules! from_mean {
    ($($t:ty),*) => { $(impl FromMean for $t { fn from_mean(mean: f64) -> Self { mean as $t } })* };
}
from_mean!(f32, f64, u8, u32);

/// Halves rows and columns of a raster, on all cores. Cells of `nodata`, and those that are NaN, do not count; cells at the
/// far rims may stand for fewer than four.
///
/// ```
/// use bothros_core::{Coarser, Grid, coarsen};
/// let fine = Grid::from_vec(2, 3, vec![1.0, 3.0, 5.0, f32::NAN, 8.0, 7.0f32]);
/// assert_eq!(coarsen(&fine, f32::NAN, Coarser::Mean).values(), [4.0, 6.0]);
/// ```
pub fn coarsen<T: Copy + PartialOrd + Into<f64> + FromMean + Send + Sync>(
    fine: &Grid<T>,
    nodata: T,
    kind: Coarser,
) -> Grid<T> {
    let (rows, cols) = (fine.rows().div_ceil(2), fine.cols().div_ceil(2));
    let is_nodata = |v: T| v == nodata || v.into().is_nan();
    let one = |four: [Option<T>; 4]| {
        let known = four.into_iter().flatten().filter(|&v| !is_nodata(v));
        match kind {
            Coarser::Mean => {
                let (sum, count) = known.fold((0.0, 0), |(sum, count), v| (sum + v.into(), count + 1));
                if count > 0 { T::from_mean(sum / f64::from(count)) } else { nodata }
            }
            Coarser::Greatest => {
                let greater = |a: T, b: T| if b > a { b } else { a };
                known.reduce(greater).unwrap_or(nodata)
            }
            Coarser::First => { known }.next().unwrap_or(nodata),
        }
    };
    let mut coarse = vec![nodata; rows * cols];
    let pairs = coarse.par_chunks_mut(cols.max(1)).zip(fine.values().par_chunks(2 * fine.cols().max(1)));
    pairs.for_each(|(out, pair)| {
        let (upper, lower) = pair.split_at(fine.cols());
        if lower.is_empty() {
            for (out, upper) in out.iter_mut().zip(upper.chunks(2)) {
                *out = one([upper.first(), upper.get(1), None, None].map(|v| v.copied()));
            }
            return;
        }
        let both = upper.chunks_exact(2).zip(lower.chunks_exact(2));
        for (out, (upper, lower)) in out.iter_mut().zip(both) {
            *out = one([upper[0], upper[1], lower[0], lower[1]].map(Some));
        }
        if fine.cols() % 2 == 1
            && let (Some(out), Some(&above), Some(&below)) = (out.last_mut(), upper.last(), lower.last())
        {
            *out = one([Some(above), None, Some(below), None]);
        }
    });
    Grid::from_vec(rows, cols, coarse)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn four_cells_become_one_and_the_rims_stand_for_fewer() {
        let none = f32::NAN;
        let fine = Grid::from_vec(3, 3, vec![1.0, 3.0, 5.0, none, 8.0, 7.0, 2.0, none, none]);
        let halved = |kind| coarsen(&fine, none, kind).values().to_vec();
        let means = halved(Coarser::Mean);
        assert_eq!(means[..3], [4.0, 6.0, 2.0]);
        assert!(means[3].is_nan());
        assert_eq!(halved(Coarser::Greatest)[..3], [8.0, 7.0, 2.0]);
        assert_eq!(halved(Coarser::First)[..3], [1.0, 5.0, 2.0]);
        let codes = Grid::from_vec(2, 2, vec![255u8, 4, 1, 2]);
        assert_eq!(coarsen(&codes, 255, Coarser::First).values(), [4]);
        let sums = Grid::from_vec(2, 3, vec![1u32, 7, 5, 3, u32::MAX, 9]);
        assert_eq!(coarsen(&sums, u32::MAX, Coarser::Greatest).values(), [7, 9]);
        assert_eq!(coarsen(&sums, u32::MAX, Coarser::Mean).values(), [3, 7]);
        assert_eq!(coarsen(&Grid::from_vec(1, 1, vec![7u8]), 255, Coarser::Mean).values(), [7]);
    }
}
