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

/// The smallest tested threshold at which the drops are constant, that is, |t| is below 2; `None` if
/// there is none.
pub fn smallest_constant(tests: &[(Threshold, Option<DropTest>)]) -> Option<Threshold> {
    let constant = tests.iter().filter(|(_, test)| test.is_some_and(|test| test.t.abs() < 2.0));
    constant.map(|(threshold, _)| *threshold).min()
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

    #[test]
    fn the_smallest_threshold_with_constant_drops() {
        let test = |t: f64| Some(DropTest { streams: (9, 5), mean_m: (1.0, 1.0), t });
        let all = [(10, test(-5.0)), (20, test(-2.0)), (40, test(-1.9)), (80, test(0.3)), (160, None)];
        let all = all.map(|(cells, test)| (Threshold::cells(cells), test));
        assert_eq!(smallest_constant(&all), Some(Threshold::cells(40)));
        assert_eq!(smallest_constant(&all[..2]), None);
    }
}
