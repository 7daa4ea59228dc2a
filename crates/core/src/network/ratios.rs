//! Horton's laws: how number, length and area of streams change from order to order.

use serde::{Deserialize, Serialize};

use super::Network;
use crate::Area;

/// The streams of one order. A stream is the reaches of one order that follow each other.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct OrderTotals {
    /// Strahler order
    pub order: u8,
    /// number of streams
    pub streams: u64,
    /// number of reaches
    pub reaches: u64,
    /// length of all, metres
    pub length_m: f64,
    /// mean drop of a stream, metres
    pub mean_drop_m: f64,
    /// mean contributing area at the lower ends
    pub mean_area: Area,
}

impl OrderTotals {
    /// Mean length of a stream, metres.
    pub fn mean_length_m(&self) -> f64 {
        self.length_m / self.streams.max(1) as f64
    }
}

/// How much from one order to the next.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct HortonRatios {
    /// number of streams of an order to that of the next higher
    pub bifurcation: f64,
    /// mean length of the next higher order to that of an order
    pub length: f64,
    /// mean contributing area of the next higher order to that of an order
    pub area: f64,
}

/// Totals of each order, from the first up.
pub fn totals_by_order(network: &Network) -> Vec<OrderTotals> {
    let mut out: Vec<OrderTotals> = (1..=network.highest_order())
        .map(|order| OrderTotals {
            order,
            streams: 0,
            reaches: 0,
            length_m: 0.0,
            mean_drop_m: 0.0,
            mean_area: Area::m2(0.0),
        })
        .collect();
    for reach in &network.reaches {
        let of = &mut out[reach.strahler as usize - 1];
        of.reaches += 1;
        of.length_m += reach.length_m;
        of.mean_drop_m += reach.drop_m;
        let next = reach.downstream.map(|id| &network.reaches[id as usize - 1]);
        if next.is_none_or(|next| next.strahler != reach.strahler) {
            of.streams += 1;
            of.mean_area = Area::m2(of.mean_area.as_m2() + reach.contributing.as_m2());
        }
    }
    for of in &mut out {
        let streams = of.streams.max(1) as f64;
        of.mean_drop_m /= streams;
        of.mean_area = Area::m2(of.mean_area.as_m2() / streams);
    }
    out
}

/// The ratios, by a line through the logarithms over order; `None` with fewer than two orders. The highest
/// order is often cut short by the edge of the DEM or by where its outlet happens to lie: with four orders or
/// more its length is left out of the ratio of lengths.
///
/// # Source
/// Horton 1945, Bulletin of the Geological Society of America 56, 275-370 (numbers and lengths); Schumm 1956,
/// the same 67, 597-646 (areas); slopes of the lines as usual since then. Leaving out the highest order is common
/// practice.
///
/// ```
/// use bothros_core::{Area, network::{OrderTotals, horton_ratios}};
/// // 64, 16, 4 and 1 streams, each twice as long and with four times the area.
/// let totals: Vec<OrderTotals> = (1..=4u8).map(|order| OrderTotals {
///     order, streams: 4u64.pow(4 - order as u32), reaches: 0, mean_drop_m: 1.0,
///     length_m: 4f64.powi(4 - order as i32) * 2f64.powi(order as i32), mean_area: Area::m2(4f64.powi(order as i32)),
/// }).collect();
/// let ratios = horton_ratios(&totals).unwrap();
/// assert!((ratios.bifurcation - 4.0).abs() < 1e-9 && (ratios.length - 2.0).abs() < 1e-9);
/// assert!((ratios.area - 4.0).abs() < 1e-9);
/// ```
pub fn horton_ratios(totals: &[OrderTotals]) -> Option<HortonRatios> {
    let whole = if totals.len() > 3 { &totals[..totals.len() - 1] } else { totals };
    let ratio = |some: &[OrderTotals], of: &dyn Fn(&OrderTotals) -> f64| {
        let points: Vec<(f64, f64)> = some
            .iter()
            .map(|t| (t.order as f64, of(t)))
            .filter(|p| p.1 > 0.0)
            .map(|(x, y)| (x, y.ln()))
            .collect();
        let n = points.len() as f64;
        let (mx, my) =
            (points.iter().map(|p| p.0).sum::<f64>() / n, points.iter().map(|p| p.1).sum::<f64>() / n);
        let over: f64 = points.iter().map(|p| (p.0 - mx) * (p.1 - my)).sum();
        let under: f64 = points.iter().map(|p| (p.0 - mx).powi(2)).sum();
        (under > 0.0).then(|| (over / under).exp())
    };
    Some(HortonRatios {
        bifurcation: 1.0 / ratio(totals, &|t| t.streams as f64)?,
        length: ratio(whole, &|t| t.mean_length_m())?,
        area: ratio(totals, &|t| t.mean_area.as_m2())?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::network::Reach;

    /// Worked by hand: two streams of order 1 (10 and 20 m, 4 and 6 m²) meet; what they make goes 30 m to where a
    /// third of order 1 (12 m, 5 m²) joins, and 40 m further to its outlet, where 25 m² gather.
    #[test]
    fn a_worked_example() {
        let reach =
            |id: u32, strahler: u8, downstream: Option<u32>, length_m: f64, drop_m: f64, m2: f64| Reach {
                id,
                downstream,
                strahler,
                shreve: 1,
                cells: vec![id],
                joins: None,
                length_m,
                drop_m,
                straight_m: length_m,
                contributing: Area::m2(m2),
            };
        let reaches = vec![
            reach(1, 1, Some(4), 10.0, 2.0, 4.0),
            reach(2, 1, Some(4), 20.0, 3.0, 6.0),
            reach(3, 1, Some(5), 12.0, 4.0, 5.0),
            reach(4, 2, Some(5), 30.0, 1.0, 14.0),
            reach(5, 2, None, 40.0, 2.0, 25.0),
        ];
        let network = Network { threshold: None, reaches, stream_cells: 5 };
        let totals = totals_by_order(&network);
        let facts: Vec<_> =
            totals.iter().map(|t| (t.streams, t.reaches, t.length_m, t.mean_drop_m)).collect();
        assert_eq!(facts, [(3, 3, 42.0, 3.0), (1, 2, 70.0, 3.0)]);
        assert_eq!(
            (totals[0].mean_length_m(), totals[0].mean_area.as_m2(), totals[1].mean_area.as_m2()),
            (14.0, 5.0, 25.0)
        );
        let ratios = horton_ratios(&totals).unwrap();
        assert!((ratios.bifurcation - 3.0).abs() < 1e-9 && (ratios.length - 5.0).abs() < 1e-9);
        assert!((ratios.area - 5.0).abs() < 1e-9);
        assert_eq!(horton_ratios(&totals[..1]), None);
    }
}
