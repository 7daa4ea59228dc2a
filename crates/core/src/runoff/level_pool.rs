//! Storages: the outflow of a lake or reservoir whose surface stays level.

use serde::{Deserialize, Serialize};

/// A lake or reservoir with a free spillway, full to its crest at the beginning.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Pool {
    /// area of its surface, m²; taken to be constant above the crest
    pub area_m2: f64,
    /// width of the spillway, metres
    pub spill_width_m: f64,
    /// discharge coefficient of the spillway, m^0.5/s
    pub coefficient: f64,
}

/// A broad-crested weir: 1.7 m^0.5/s (textbook).
pub const BROAD_CRESTED: f64 = 1.7;

impl Pool {
    /// Outflow, m³/s, at a head over the crest, m.
    fn outflow(&self, head: f64) -> f64 {
        self.coefficient * self.spill_width_m * head.max(0.0).powf(1.5)
    }

    /// Returns the mean outflow, m³/s, over each time step of `step_s` seconds, of an inflow that is given in the same way, and the water
    /// that is left above the crest in the end, m³. Nothing without a surface or a spillway.
    ///
    /// # Source
    /// Level-pool routing: Chow, Maidment and Mays 1988, Applied Hydrology, section 8.2; in place of a table, the head at the end of each
    /// of ten parts of a step is solved for by bisection (implicitly, so that small pools stay stable).
    pub fn route(&self, inflow: &[f64], step_s: f64) -> Option<(Vec<f64>, f64)> {
        if !(self.area_m2 > 0.0 && self.spill_width_m > 0.0 && self.coefficient > 0.0) {
            return None;
        }
        const PARTS: usize = 10;
        let part_s = step_s / PARTS as f64;
        let (mut head, mut out) = (0.0, Vec::with_capacity(inflow.len()));
        for &mean in inflow {
            let before = head;
            for _ in 0..PARTS {
                // What is stored changes by what comes in less what goes out.
                let rises = |then: f64| self.area_m2 * (then - head) + part_s * (self.outflow(then) - mean);
                let (mut low, mut high) = (0.0, head + mean * part_s / self.area_m2);
                for _ in 0..60 {
                    let middle = (low + high) / 2.0;
                    if rises(middle) < 0.0 { low = middle } else { high = middle }
                }
                head = (low + high) / 2.0;
            }
            // What did not stay has left.
            out.push(mean - self.area_m2 * (head - before) / step_s);
        }
        Some((out, self.area_m2 * head))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const POOL: Pool = Pool { area_m2: 200_000.0, spill_width_m: 12.0, coefficient: BROAD_CRESTED };

    #[test]
    fn a_steady_inflow_ends_as_a_steady_outflow() {
        let (out, stored) = POOL.route(&vec![20.0; 2000], 300.0).unwrap();
        assert!((out[1999] - 20.0).abs() < 1e-6);
        // The weir formula turned round: h = (Q / (C b))^(2/3).
        let head = (20.0f64 / (BROAD_CRESTED * 12.0)).powf(2.0 / 3.0);
        assert!((stored / POOL.area_m2 - head).abs() < 1e-6);
        assert_eq!(Pool { spill_width_m: 0.0, ..POOL }.route(&[1.0], 300.0), None);
    }

    #[test]
    fn the_peak_lies_where_the_outflow_crosses_the_falling_inflow() {
        // Of a free spillway (textbook): storage is greatest there.
        let inflow: Vec<f64> =
            (0..300).map(|n| if n < 30 { n as f64 } else { (60 - n.min(60)) as f64 }).collect();
        let (out, _) = POOL.route(&inflow, 300.0).unwrap();
        let peak = (0..300).max_by(|&a, &b| out[a].total_cmp(&out[b])).unwrap();
        assert!(peak > 30 && (out[peak] - inflow[peak]).abs() < 2.0, "{peak} {}", out[peak]);
    }

    proptest! {
        #[test]
        fn water_is_stored_or_leaves(
            area in 1e3..1e6f64,
            width in 0.5..50.0f64,
            flows in prop::collection::vec(0.0..200.0f64, 1..200),
        ) {
            let pool = Pool { area_m2: area, spill_width_m: width, coefficient: BROAD_CRESTED };
            let (out, stored) = pool.route(&flows, 300.0).unwrap();
            let came: f64 = flows.iter().sum::<f64>() * 300.0;
            let went: f64 = out.iter().sum::<f64>() * 300.0;
            prop_assert!(out.iter().all(|&q| q > -1e-6));
            prop_assert!((came - went - stored).abs() < 1e-6 * came.max(1.0), "{} {} {}", came, went, stored);
        }
    }
}
