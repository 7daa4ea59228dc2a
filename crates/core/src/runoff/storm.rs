//! Design storms: how a depth of rain is spread over time.

use serde::{Deserialize, Serialize};

/// How the intensity of a storm changes over its duration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StormShape {
    /// the same throughout
    Uniform,
    /// rises linearly to a peak at three eighths of the duration, then falls linearly (Yen and Chow 1980, Journal of the Hydraulics
    /// Division 106, 1003-1019: triangular hyetograph; the place of the peak is a mean of theirs, from memory)
    #[default]
    Triangular,
}

/// Place of the peak of a triangular storm, as a share of its duration.
const PEAK: f64 = 0.375;

impl StormShape {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 2] = [Self::Triangular, Self::Uniform];

    /// Returns the share of a storm's depth, 0 to 1, that has fallen after a share of its duration.
    pub fn fallen(self, time: f64) -> f64 {
        let t = time.clamp(0.0, 1.0);
        match self {
            Self::Uniform => t,
            Self::Triangular if t <= PEAK => t * t / PEAK,
            Self::Triangular => 1.0 - (1.0 - t) * (1.0 - t) / (1.0 - PEAK),
        }
    }

    /// Returns the rain, mm, that has fallen at the end of each of `steps` steps of `step_h` hours.
    pub fn cumulative_mm(self, depth_mm: f64, duration_h: f64, step_h: f64, steps: usize) -> Vec<f64> {
        (1..=steps).map(|n| depth_mm * self.fallen(n as f64 * step_h / duration_h)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_rain_falls_within_the_duration() {
        for shape in StormShape::ALL {
            let rain = shape.cumulative_mm(60.0, 6.0, 0.25, 40);
            assert!(rain.windows(2).all(|w| w[1] >= w[0]), "{shape:?}");
            assert!((rain[23] - 60.0).abs() < 1e-9 && (rain[39] - 60.0).abs() < 1e-9, "{shape:?}");
        }
    }

    #[test]
    fn a_triangular_storm_is_heaviest_at_three_eighths() {
        let rain = StormShape::Triangular.cumulative_mm(80.0, 8.0, 1.0, 8);
        let steps: Vec<f64> =
            std::iter::once(0.0).chain(rain).collect::<Vec<_>>().windows(2).map(|w| w[1] - w[0]).collect();
        // The peak lies at 3 h: twice the mean intensity there, by symmetry of a triangle of the same area.
        assert!(steps[2] > steps[0] && steps[3] > steps[7] && steps[2].max(steps[3]) < 20.0, "{steps:?}");
        assert!((StormShape::Triangular.fallen(0.375) - 0.375).abs() < 1e-12);
    }
}
