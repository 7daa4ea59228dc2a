//! The constant drop: the mean drop of streams is the same for all orders, as long as all of them are channels.

use serde::{Deserialize, Serialize};

use crate::Threshold;
use crate::network::Network;

/// Whether the mean drop of first-order streams differs from that of higher orders.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct DropTest {
    /// streams of the first order, and of all higher ones
    pub streams: (u64, u64),
    /// their mean drops, metres
    pub mean_m: (f64, f64),
    /// Student's t of the difference, with pooled variance; `streams.0 + streams.1 - 2` degrees of freedom
    pub t: f64,
}

/// Compares the drops of Strahler streams (the reaches of one order that follow each other) of the first
/// order with those of higher orders by Student's t-test with pooled variance. `None` where there are fewer
/// than two of either, or none of them differs.
///
/// # Source
/// Broscoe 1959 (constant drop); Tarboton, Bras and Rodriguez-Iturbe 1991, Hydrological Processes 5, 81-100
/// (as a test for the threshold).
pub fn constant_drop(network: &Network) -> Option<DropTest> {
    of_streams(strahler_streams(network).into_iter())
}

/// Compares streams, told by order and drop (metres), in whatever order they come.
pub(super) fn of_streams(streams: impl Iterator<Item = (u8, f64)>) -> Option<DropTest> {
    let (first, higher): (Vec<_>, Vec<_>) = streams.partition(|s| s.0 == 1);
    let drops = |streams: Vec<(u8, f64)>| {
        let mut drops: Vec<f64> = streams.into_iter().map(|(_, drop)| drop).collect();
        // So that sums do not depend on the order.
        drops.sort_unstable_by(f64::total_cmp);
        drops
    };
    compare(&drops(first), &drops(higher))
}

/// Order and drop (metres) of each Strahler stream.
fn strahler_streams(network: &Network) -> Vec<(u8, f64)> {
    let mut whole: Vec<f64> = network.reaches.iter().map(|r| r.drop_m).collect();
    // A reach that goes on in one of its own order hands its drop down; upper ones come before in this order.
    let mut order: Vec<usize> = (0..whole.len()).collect();
    order.sort_unstable_by_key(|&r| (network.reaches[r].strahler, network.reaches[r].shreve));
    let mut streams = Vec::new();
    for at in order {
        let reach = &network.reaches[at];
        let next = reach.downstream.map(|id| id as usize - 1);
        match next.filter(|&n| network.reaches[n].strahler == reach.strahler) {
            Some(next) => whole[next] += whole[at],
            None => streams.push((reach.strahler, whole[at])),
        }
    }
    streams
}

fn compare(a: &[f64], b: &[f64]) -> Option<DropTest> {
    if a.len() < 2 || b.len() < 2 {
        return None;
    }
    let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len() as f64;
    let (mean_a, mean_b) = (mean(a), mean(b));
    let squares = |all: &[f64], mean: f64| all.iter().map(|v| (v - mean) * (v - mean)).sum::<f64>();
    let (n, m) = (a.len() as f64, b.len() as f64);
    let variance = (squares(a, mean_a) + squares(b, mean_b)) / (n + m - 2.0);
    let t = (mean_a - mean_b) / (variance * (1.0 / n + 1.0 / m)).sqrt();
    let test = DropTest { streams: (a.len() as u64, b.len() as u64), mean_m: (mean_a, mean_b), t };
    t.is_finite().then_some(test)
}

/// |t| from which mean drops count as different: about the 5 % level of Student's t with many degrees of freedom.
pub const DIFFERENT: f64 = 2.0;
/// Fewest streams of the first order, and of all higher ones, that a test needs to count. (Ours: means of fewer scatter so much that
/// almost nothing differs.)
pub const FEWEST_STREAMS: u64 = 10;
/// Share of the thresholds above at which drops may differ all the same: chance does that at the 5 % level.
const BY_CHANCE: f64 = 0.05;
/// Drops must stay constant up to this many times the contributing area. (Ours.)
const PERSISTS: f64 = 4.0;

/// What tests of drops say over a range of thresholds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ConstantDrop {
    /// drops are constant from a threshold to the last that was tested with streams enough
    From(Threshold, Threshold),
    /// they are so only at the end of the range, from the first to the second: too few thresholds lie above to tell
    AtTheEnd(Threshold, Threshold),
    /// they are so somewhere, first and last at the two told, and differ again further up, last at the third
    Passing(Threshold, Threshold, Threshold),
    /// they differ at every threshold
    Nowhere,
    /// at no threshold are there streams enough
    TooFew,
}

impl ConstantDrop {
    /// The smallest threshold from which drops stay constant.
    pub fn threshold(self) -> Option<Threshold> {
        match self {
            Self::From(threshold, _) => Some(threshold),
            _ => None,
        }
    }
}

/// Reads tests of drops, from the smallest threshold up: whether there is one from which on they stay constant.
///
/// Only tests with at least [`FEWEST_STREAMS`] of both kinds count. From the smallest threshold on |t| must stay below [`DIFFERENT`], but for one
/// test in twenty, up to the last that counts, and that must be at least four times as large.
///
/// # Source
/// Tarboton, Bras and Rodriguez-Iturbe 1991: the smallest threshold at which |t| is below 2. That it must persist, and over how many streams, is
/// ours.
pub fn persistent_drop(tests: &[(Threshold, Option<DropTest>)]) -> ConstantDrop {
    let counts = |test: &DropTest| test.streams.0.min(test.streams.1) >= FEWEST_STREAMS;
    let tests: Vec<(Threshold, bool)> = tests
        .iter()
        .filter_map(|(threshold, test)| {
            let test = test.as_ref().filter(|test| counts(test))?;
            Some((*threshold, test.t.abs() < DIFFERENT))
        })
        .collect();
    let Some(&(last, _)) = tests.last() else { return ConstantDrop::TooFew };
    let persists = |at: usize| {
        let above = &tests[at..];
        let differ = above.iter().filter(|(_, constant)| !constant).count();
        above[0].1 && differ as f64 <= BY_CHANCE * above.len() as f64
    };
    let constant = |(_, constant): &&(Threshold, bool)| *constant;
    let (Some(first), Some(final_)) = (tests.iter().find(constant), tests.iter().rev().find(constant)) else {
        return ConstantDrop::Nowhere;
    };
    match (0..tests.len()).find(|&at| persists(at)) {
        Some(at) if last.as_cells() as f64 >= PERSISTS * tests[at].0.as_cells() as f64 => {
            ConstantDrop::From(tests[at].0, last)
        }
        // What is small lower down does not last; that is told rather than the end, where that is all there is.
        Some(at) if first.0 >= tests[at].0 => ConstantDrop::AtTheEnd(tests[at].0, last),
        _ => {
            let differs = tests.iter().rev().find(|(_, constant)| !constant);
            ConstantDrop::Passing(first.0, final_.0, differs.map_or(last, |(t, _)| *t))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn students_t_of_a_textbook_kind() {
        // Worked by hand: means 4 and 7, squares 10 and 10, pooled variance 20 / 8 = 2.5, t = -3 / sqrt(2.5 x 0.4) = -3.
        let test = compare(&[2.0, 3.0, 4.0, 5.0, 6.0], &[5.0, 6.0, 7.0, 8.0, 9.0]).unwrap();
        assert_eq!((test.mean_m, test.streams), ((4.0, 7.0), (5, 5)));
        assert!((test.t + 3.0).abs() < 1e-12);
        assert!(compare(&[1.0], &[1.0, 2.0]).is_none() && compare(&[1.0, 1.0], &[1.0, 1.0]).is_none());
    }

    /// Tests at thresholds that rise by a tenth of a power of ten, from 100 cells, with so many streams.
    fn tests(t: &[f64], streams: u64) -> Vec<(Threshold, Option<DropTest>)> {
        let test = |t: f64| DropTest { streams: (streams, streams), mean_m: (1.0, 1.0), t };
        let at = |n: usize| Threshold::cells((100.0 * 10f64.powf(n as f64 / 10.0)).round() as u32);
        t.iter().enumerate().map(|(n, &t)| (at(n), Some(test(t)))).collect()
    }

    #[test]
    fn drops_are_constant_where_that_lasts() {
        let at = |n: usize| tests(&[0.0; 30], 50)[n].0;
        // Falls below 2 at the fourth, and stays there over more than four times the area.
        let lasting: Vec<f64> = [-5.0, -3.0, -2.0].into_iter().chain([-1.9; 10]).collect();
        assert_eq!(persistent_drop(&tests(&lasting, 50)), ConstantDrop::From(at(3), at(12)));
        assert_eq!(persistent_drop(&tests(&lasting, 9)), ConstantDrop::TooFew);
        // One in twenty may differ by chance; two may not.
        let mut chance: Vec<f64> = vec![0.3; 25];
        chance[0] = 4.0;
        chance[9] = 2.1;
        assert_eq!(persistent_drop(&tests(&chance, 50)), ConstantDrop::From(at(1), at(24)));
        chance[10] = -2.4;
        assert_eq!(persistent_drop(&tests(&chance, 50)), ConstantDrop::From(at(11), at(24)));
        // Small in passing, then different up to where few streams are left.
        let passing = [6.0, 1.5, 1.9, 2.3, 3.0, 5.7, 4.0, 3.0, 2.5, 0.4, 0.2];
        assert_eq!(persistent_drop(&tests(&passing, 50)), ConstantDrop::Passing(at(1), at(10), at(8)));
        // Only the last of the range.
        let end = [6.0, 5.0, 4.0, 3.0, 2.2, 0.4, 0.2];
        assert_eq!(persistent_drop(&tests(&end, 50)), ConstantDrop::AtTheEnd(at(5), at(6)));
        assert_eq!(persistent_drop(&tests(&[3.0; 9], 50)), ConstantDrop::Nowhere);
        assert_eq!(persistent_drop(&[]), ConstantDrop::TooFew);
        assert_eq!(ConstantDrop::Nowhere.threshold(), None);
    }
}
