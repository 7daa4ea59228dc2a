//! How far a figure scatters over realisations, and how wide a divide is.

use serde::{Deserialize, Serialize};

use crate::catchments::outline;
use crate::{Area, Frame, Grid};

/// How a figure scatters.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Spread {
    /// number of values
    pub count: usize,
    /// mean
    pub mean: f64,
    /// standard deviation of a sample; 0 for one value
    pub sd: f64,
    /// a twentieth of the values lies below
    pub low: f64,
    /// the value in the middle
    pub median: f64,
    /// a twentieth of the values lies above
    pub high: f64,
}

impl Spread {
    /// Of values in any order; `None` where there are none. Quantiles are interpolated between the two values next to them (definition 7 of Hyndman and
    /// Fan 1996, The American Statistician 50).
    ///
    /// ```
    /// use bothros_core::uncertainty::Spread;
    /// let of = Spread::of(vec![4.0, 1.0, 3.0, 2.0]).unwrap();
    /// assert_eq!((of.mean, of.median), (2.5, 2.5));
    /// assert!((of.low - 1.15).abs() < 1e-12);
    /// ```
    pub fn of(mut values: Vec<f64>) -> Option<Self> {
        let count = values.len();
        if count == 0 {
            return None;
        }
        values.sort_unstable_by(f64::total_cmp);
        let mean = values.iter().sum::<f64>() / count as f64;
        let squares = values.iter().map(|v| (v - mean).powi(2)).sum::<f64>();
        let quantile = |share: f64| {
            let at = share * (count - 1) as f64;
            let (below, part) = (at.floor() as usize, at.fract());
            let above = (below + 1).min(count - 1);
            values[below] + (values[above] - values[below]) * part
        };
        let sd = if count > 1 { (squares / (count - 1) as f64).sqrt() } else { 0.0 };
        Some(Self { count, mean, sd, low: quantile(0.05), median: quantile(0.5), high: quantile(0.95) })
    }
}

/// Standard error of a probability that is the share of so many independent realisations.
///
/// ```
/// # use bothros_core::uncertainty::standard_error;
/// assert_eq!(standard_error(0.5, 100), 0.05);
/// ```
pub fn standard_error(probability: f64, realisations: u32) -> f64 {
    (probability * (1.0 - probability) / f64::from(realisations.max(1))).sqrt()
}

/// The land of which it is open whether it belongs to a catchment.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Doubt {
    /// area that belongs to it in more than 95 of 100 realisations, m²
    pub sure_m2: f64,
    /// area that belongs to it in 5 to 95 of 100 realisations, m²
    pub open_m2: f64,
    /// the latter over the length of the outline of all that belongs to it in at least half of them, metres: how wide the divide is on average
    pub width_m: f64,
}

/// The doubt about a catchment, from the probability of each cell to belong to it; `NaN` is outside.
///
/// ```
/// use bothros_core::{Frame, Grid, uncertainty::doubt};
/// let frame = Frame { rows: 2, cols: 4, left: 0.0, top: 20.0, cell_size: 10.0, unit_m: 1.0 };
/// let of = doubt(&Grid::from_vec(2, 4, vec![1.0, 0.98, 0.6, 0.0, 1.0, 1.0, 0.3, 0.01]), &frame);
/// assert_eq!((of.sure_m2, of.open_m2), (400.0, 200.0));
/// // Five cells belong to it in at least half of all: their outline is 100 m long.
/// assert_eq!(of.width_m, 2.0);
/// ```
pub fn doubt(probability: &Grid<f32>, frame: &Frame) -> Doubt {
    let m2 = |is: &dyn Fn(f32) -> bool| -> f64 {
        let cells = probability.values().iter().filter(|p| is(**p)).count() as u64;
        let area: Area = frame.area_of(cells);
        area.as_m2()
    };
    let open_m2 = m2(&|p| (0.05..=0.95).contains(&p));
    let mask = probability.values().iter().map(|p| *p >= 0.5).collect();
    let around_m = outline(&Grid::from_vec(probability.rows(), probability.cols(), mask), frame).perimeter_m;
    let width_m = if around_m > 0.0 { open_m2 / around_m } else { 0.0 };
    Doubt { sure_m2: m2(&|p| p > 0.95), open_m2, width_m }
}
