//! Channel routing: Muskingum's scheme, and Cunge's choice of its parameters from the channel.

use serde::{Deserialize, Serialize};

/// Weights of the inflow now, the inflow before and the outflow before in the outflow now; they add up to 1.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Weights {
    /// of the inflow at the end of the step
    pub inflow: f64,
    /// of the inflow at its beginning
    pub inflow_before: f64,
    /// of the outflow at its beginning
    pub outflow_before: f64,
}

impl Weights {
    /// Muskingum's weights for a travel time K and a time step in one unit, and a weight X of the inflow in storage.
    ///
    /// # Source
    /// Chow, Maidment and Mays 1988, Applied Hydrology, equations 8.4.8 to 8.4.10.
    pub fn new(k: f64, x: f64, step: f64) -> Self {
        let below = 2.0 * k * (1.0 - x) + step;
        Self {
            inflow: (step - 2.0 * k * x) / below,
            inflow_before: (step + 2.0 * k * x) / below,
            outflow_before: (2.0 * k * (1.0 - x) - step) / below,
        }
    }

    /// Returns the outflow at the times of the inflow, which begins in a steady state with the outflow `initial`.
    pub fn route(self, inflow: &[f64], initial: f64) -> Vec<f64> {
        let mut outflow = Vec::with_capacity(inflow.len());
        let (mut before, mut last) = (None, initial);
        for &now in inflow {
            if let Some(before) = before {
                last = self.inflow * now + self.inflow_before * before + self.outflow_before * last;
            }
            outflow.push(last);
            before = Some(now);
        }
        outflow
    }
}

/// A channel of one trapezoidal section.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Channel {
    /// length, metres
    pub length_m: f64,
    /// slope of its bed, m/m, above 0
    pub slope: f64,
    /// Manning's n
    pub roughness: f64,
    /// width of its bed, metres
    pub bottom_width_m: f64,
    /// horizontal metres to a metre of height of its sides
    pub side_slope: f64,
}

/// A channel at a steady flow.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Steady {
    /// depth, metres
    pub depth_m: f64,
    /// width of the water surface, metres
    pub top_width_m: f64,
    /// mean velocity, m/s
    pub velocity_m_s: f64,
    /// celerity of a flood wave, m/s: the change of flow over that of the wetted area
    pub celerity_m_s: f64,
}

impl Channel {
    /// Flow, m³/s, and wetted area, m², at a depth, m, by Manning's formula.
    fn at_depth(&self, depth: f64) -> (f64, f64) {
        let area = (self.bottom_width_m + self.side_slope * depth) * depth;
        let perimeter = self.bottom_width_m + 2.0 * depth * (1.0 + self.side_slope * self.side_slope).sqrt();
        (area.powf(5.0 / 3.0) / perimeter.powf(2.0 / 3.0) * self.slope.sqrt() / self.roughness, area)
    }

    /// Returns depth, width, velocity and celerity at a steady flow, m³/s, above 0; nothing for a channel that cannot carry it: without
    /// fall, roughness or width.
    ///
    /// # Source
    /// Manning's formula in metric units (textbook).
    pub fn steady(&self, flow_m3s: f64) -> Option<Steady> {
        let carries = self.slope > 0.0
            && self.roughness > 0.0
            && self.bottom_width_m + self.side_slope > 0.0
            && self.bottom_width_m >= 0.0
            && self.side_slope >= 0.0;
        if !(carries && flow_m3s > 0.0 && flow_m3s.is_finite()) {
            return None;
        }
        let (mut low, mut high) = (0.0, 1.0);
        while self.at_depth(high).0 < flow_m3s {
            high *= 2.0;
            if high > 1e6 {
                return None;
            }
        }
        for _ in 0..100 {
            let middle = (low + high) / 2.0;
            if self.at_depth(middle).0 < flow_m3s { low = middle } else { high = middle }
        }
        let depth_m = (low + high) / 2.0;
        let small = depth_m * 1e-4;
        let ((q0, a0), (q1, a1)) = (self.at_depth(depth_m - small), self.at_depth(depth_m + small));
        Some(Steady {
            depth_m,
            top_width_m: self.bottom_width_m + 2.0 * self.side_slope * depth_m,
            velocity_m_s: flow_m3s / self.at_depth(depth_m).1,
            celerity_m_s: (q1 - q0) / (a1 - a0),
        })
    }
}

/// Sub-reaches at most: a channel that would need more is so long that its parts belong to different reaches.
const MOST_PARTS: usize = 1000;

/// Routes a hydrograph, m³/s at even time steps of `step_s` seconds, down a channel that begins dry, by Muskingum's scheme with Cunge's
/// parameters; returns the outflow at the same times. The parameters are constant, of half the peak flow, so that no water is lost or
/// made; the channel is cut into equal parts as short as the scheme asks for. A channel shorter than a wave runs in a fifth of a time
/// step passes the flow on as it is. Nothing for a channel that cannot carry water.
///
/// # Source
/// Cunge 1969, Journal of Hydraulic Research 7, 205-230; Chow, Maidment and Mays 1988, Applied Hydrology, section 9.7; length of the parts
/// after Ponce 1989, Engineering Hydrology, section 9.2 (from memory): the Courant number and the cell Reynolds number add up to 2.
pub fn route_channel(channel: &Channel, inflow: &[f64], step_s: f64) -> Option<Vec<f64>> {
    let peak = inflow.iter().copied().fold(0.0, f64::max);
    if peak <= 0.0 {
        return Some(vec![0.0; inflow.len()]);
    }
    let reference = peak / 2.0;
    let at = channel.steady(reference)?;
    let run = at.celerity_m_s * step_s;
    if channel.length_m < run / 5.0 {
        return Some(inflow.to_vec());
    }
    let diffusion = reference / (at.top_width_m * channel.slope * at.celerity_m_s);
    let wanted = ((run + diffusion) / 2.0).max(1e-3);
    let parts = ((channel.length_m / wanted).ceil() as usize).clamp(1, MOST_PARTS);
    let length = channel.length_m / parts as f64;
    let weights = Weights::new(length / at.celerity_m_s, 0.5 * (1.0 - diffusion / length), step_s);
    let mut flow = inflow.to_vec();
    for _ in 0..parts {
        flow = weights.route(&flow, 0.0);
    }
    Some(flow)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Chow, Maidment and Mays 1988, Applied Hydrology, example 8.4.1: K = 2.3 h, X = 0.15, steps of an hour (from memory).
    #[test]
    fn the_textbooks_flood_is_routed_as_in_the_textbook() {
        let weights = Weights::new(2.3, 0.15, 1.0);
        assert!((weights.inflow - 0.0631).abs() < 5e-5, "{weights:?}");
        assert!(
            (weights.inflow_before - 0.3442).abs() < 5e-5 && (weights.outflow_before - 0.5927).abs() < 5e-5
        );
        let inflow = [
            93.0, 137.0, 208.0, 320.0, 442.0, 546.0, 630.0, 678.0, 691.0, 675.0, 634.0, 571.0, 477.0, 390.0,
            329.0, 247.0, 184.0, 134.0, 108.0, 90.0,
        ];
        let expected = [
            85.0, 91.0, 114.0, 159.0, 233.0, 324.0, 420.0, 509.0, 578.0, 623.0, 642.0, 635.0, 603.0, 546.0,
            479.0, 413.0, 341.0, 274.0, 215.0, 170.0,
        ];
        for (found, told) in weights.route(&inflow, 85.0).iter().zip(expected) {
            assert!((found - told).abs() < 1.0, "{found} {told}");
        }
    }

    const CHANNEL: Channel =
        Channel { length_m: 6000.0, slope: 0.002, roughness: 0.035, bottom_width_m: 10.0, side_slope: 2.0 };

    fn flood(steps: usize) -> Vec<f64> {
        let shape = |t: f64| if t < 20.0 { t / 20.0 } else { (1.0 - (t - 20.0) / 40.0).max(0.0) };
        (0..steps).map(|n| 50.0 * shape(n as f64)).collect()
    }

    #[test]
    fn a_wide_channels_wave_runs_five_thirds_as_fast_as_its_water() {
        // Kinematic wave in a wide rectangular channel by Manning: c = 5/3 v (textbook).
        let wide = Channel { bottom_width_m: 1000.0, side_slope: 0.0, ..CHANNEL };
        let at = wide.steady(500.0).unwrap();
        assert!((at.celerity_m_s / at.velocity_m_s - 5.0 / 3.0).abs() < 0.01, "{at:?}");
        // Manning by hand: a depth of 1 m on that slope flows at 1.278 m/s.
        let one = wide.steady(1000.0 * 1.278).unwrap();
        assert!((one.depth_m - 1.0).abs() < 0.01, "{one:?}");
    }

    #[test]
    fn a_flood_arrives_later_and_lower() {
        let inflow = flood(400);
        let outflow = route_channel(&CHANNEL, &inflow, 300.0).unwrap();
        let peak =
            |flow: &[f64]| flow.iter().copied().enumerate().max_by(|a, b| a.1.total_cmp(&b.1)).unwrap();
        let ((t0, q0), (t1, q1)) = (peak(&inflow), peak(&outflow));
        assert!(t1 > t0 && q1 < q0 && q1 > 0.8 * q0, "{t0} {q0} {t1} {q1}");
        // The peak travels about as fast as a kinematic wave at half the peak.
        let at = CHANNEL.steady(25.0).unwrap();
        let travel = CHANNEL.length_m / at.celerity_m_s / 300.0;
        assert!(((t1 - t0) as f64 - travel).abs() < 0.3 * travel + 1.0, "{} {travel}", t1 - t0);
    }

    #[test]
    fn what_cannot_carry_water_is_no_channel() {
        for bad in [
            Channel { slope: 0.0, ..CHANNEL },
            Channel { roughness: 0.0, ..CHANNEL },
            Channel { bottom_width_m: 0.0, side_slope: 0.0, ..CHANNEL },
        ] {
            assert_eq!(route_channel(&bad, &flood(10), 300.0), None, "{bad:?}");
        }
        assert_eq!(
            route_channel(&Channel { length_m: 5.0, ..CHANNEL }, &flood(70), 300.0).unwrap(),
            flood(70)
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn no_water_is_lost(
            length in 10.0..8_000.0f64,
            slope in 0.0005..0.1f64,
            roughness in 0.02..0.1f64,
            width in 0.5..60.0f64,
            side in 0.0..4.0f64,
        ) {
            let channel = Channel { length_m: length, slope, roughness, bottom_width_m: width, side_slope: side };
            let inflow = flood(1500);
            let outflow = route_channel(&channel, &inflow, 300.0).unwrap();
            let (a, b) = (inflow.iter().sum::<f64>(), outflow.iter().sum::<f64>());
            prop_assert!((a - b).abs() < 1e-3 * a, "{} {}", a, b);
        }
    }
}
