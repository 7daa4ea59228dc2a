//! Percentiles of contributing area, for drawing.

use super::ACCUMULATION_NODATA;
use crate::Grid;

/// 2 % and 98 % of the decimal logarithm of contributing area in cells, from an even sample.
pub fn log_percentiles(accumulation: &Grid<u32>) -> (f64, f64) {
    let every = accumulation.len().div_ceil(1 << 18).max(1);
    let mut sample: Vec<u32> =
        accumulation.values().iter().step_by(every).copied().filter(|&a| a != ACCUMULATION_NODATA).collect();
    sample.sort_unstable();
    let at = |p: f64| {
        sample.get((sample.len().saturating_sub(1) as f64 * p).round() as usize).copied().unwrap_or(0)
    };
    let log = |a: u32| (a as f64 + 1.0).log10();
    (log(at(0.02)), log(at(0.98)).max(log(at(0.02)) + 0.5))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_of_the_logarithm_and_never_meet() {
        // Areas of 1 to 1000 cells, evenly.
        let (low, high) = log_percentiles(&Grid::from_fn(1, 1000, |c| c.col as u32));
        assert!((low - 21f64.log10()).abs() < 0.03 && (high - 980f64.log10()).abs() < 0.01, "{low} {high}");
        let (low, high) = log_percentiles(&Grid::filled(2, 2, 9));
        assert_eq!((low, high), (1.0, 1.5));
        let nothing = log_percentiles(&Grid::filled(2, 2, ACCUMULATION_NODATA));
        assert_eq!(nothing, (0.0, 0.5));
    }
}
