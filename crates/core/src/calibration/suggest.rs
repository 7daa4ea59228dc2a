//! Thresholds suggested by scores over a range.

use serde::{Deserialize, Serialize};

use super::Scores;
use crate::Threshold;

/// A threshold that a line of evidence suggests, and a range of them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Suggested {
    /// the one
    pub best: Threshold,
    /// the smallest and largest that are as good
    pub range: (Threshold, Threshold),
}

/// Thresholds whose agreement comes this close to the best count as equally good. (Ours.)
const AS_GOOD: f64 = 0.05;

/// Where modelled and mapped streams agree best, and the smallest and largest threshold that come within five
/// points of it; `None` where nothing agrees.
///
/// ```
/// use bothros_core::{Threshold, calibration::{Scores, by_agreement}};
/// // 12 m modelled, of which so many are matched, and 10 m mapped, all of them found.
/// let scores = |cells, matched_m| Scores {
///     threshold: Threshold::cells(cells), modelled_m: 12.0, matched_m, mapped_m: 10.0, found_m: 10.0, headwaters: 1, away_m: None, length_m: 12.0,
/// };
/// let found = by_agreement(&[scores(10, 6.0), scores(20, 11.5), scores(40, 12.0), scores(80, 9.0)]).unwrap();
/// assert_eq!((found.best.as_cells(), found.range.0.as_cells(), found.range.1.as_cells()), (40, 20, 40));
/// ```
pub fn by_agreement(scores: &[Scores]) -> Option<Suggested> {
    let best = scores.iter().max_by(|a, b| a.agreement().total_cmp(&b.agreement()))?;
    if best.agreement() <= 0.0 {
        return None;
    }
    let good = |s: &&Scores| s.agreement() >= best.agreement() - AS_GOOD;
    let all: Vec<Threshold> = scores.iter().filter(good).map(|s| s.threshold).collect();
    Some(Suggested { best: best.threshold, range: (*all.iter().min()?, *all.iter().max()?) })
}

/// Where modelled streams are as dense as mapped ones; `None` without either.
pub fn by_density(scores: &[Scores]) -> Option<Threshold> {
    let known = |s: &&Scores| s.modelled_m > 0.0 && s.mapped_m > 0.0;
    let away = |s: &Scores| (s.modelled_m / s.mapped_m).ln().abs();
    let found = scores.iter().filter(known).min_by(|a, b| away(a).total_cmp(&away(b)))?;
    Some(found.threshold)
}

/// This many thresholds, spread evenly over the logarithm of contributing area from 20 cells up to a third of
/// the largest; fewer where several coincide.
pub fn thresholds_up_to(largest_cells: u32, count: usize) -> Vec<Threshold> {
    let (low, high) = (20f64.min(largest_cells as f64), (largest_cells as f64 / 3.0).max(1.0));
    let last = count.saturating_sub(1).max(1) as f64;
    let at = |n: usize| low * (high / low).max(1.0).powf(n as f64 / last);
    let mut all: Vec<u32> = (0..count).map(|n| at(n).round().max(1.0) as u32).collect();
    all.dedup();
    all.into_iter().map(Threshold::cells).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scores(cells: u32, modelled_m: f64, matched_m: f64, found_m: f64) -> Scores {
        let threshold = Threshold::cells(cells);
        Scores {
            threshold,
            modelled_m,
            matched_m,
            mapped_m: 100.0,
            found_m,
            headwaters: 1,
            away_m: None,
            length_m: modelled_m,
        }
    }

    #[test]
    fn lines_of_evidence_suggest() {
        let all = vec![
            scores(10, 400.0, 100.0, 100.0),
            scores(20, 140.0, 90.0, 95.0),
            scores(40, 105.0, 90.0, 82.0),
            scores(80, 80.0, 70.0, 78.0),
            scores(160, 20.0, 18.0, 20.0),
        ];
        // 0.840 at 40 cells, 0.825 at 80, 0.766 at 20.
        let found = by_agreement(&all).unwrap();
        assert_eq!((found.best.as_cells(), found.range.0.as_cells(), found.range.1.as_cells()), (40, 40, 80));
        assert_eq!(by_density(&all).unwrap().as_cells(), 40);
        let nothing = [scores(10, 0.0, 0.0, 0.0)];
        assert_eq!((by_agreement(&nothing), by_density(&nothing)), (None, None));
    }

    #[test]
    fn thresholds_cover_the_range() {
        let all = thresholds_up_to(300_000, 60);
        assert_eq!((all.len(), all[0].as_cells(), all[59].as_cells()), (60, 20, 100_000));
        assert_eq!(thresholds_up_to(1, 60), [Threshold::cells(1)]);
        assert!(thresholds_up_to(50, 60).windows(2).all(|w| w[0] < w[1]));
    }
}
