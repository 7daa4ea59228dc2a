//! Axes: what they show, in which unit, from where to where, and at which ticks.

use bothros_products::numbers::{fixed, plain};
use bothros_products::{Quantity, ShownUnit, Units};

/// How places follow from values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scale {
    /// equal differences are equal lengths
    Linear,
    /// equal ratios are equal lengths; only values above 0 have a place
    Logarithmic,
}

/// An axis. Its range is that of the values, unless it is given.
#[derive(Debug, Clone, PartialEq)]
pub struct Axis {
    pub(crate) title: String,
    quantity: Option<(Quantity, Units)>,
    scale: Scale,
    /// given ends, own unit
    low: Option<f64>,
    high: Option<f64>,
    /// ticks stand at whole numbers only
    whole: bool,
    /// least difference between the ends of a linear axis, own unit
    span: f64,
}

impl Axis {
    /// An axis of a quantity, in the unit that fits its largest value.
    pub fn of(title: impl Into<String>, quantity: Quantity, units: Units) -> Self {
        Self { quantity: Some((quantity, units)), ..Self::plain(title) }
    }

    /// An axis of numbers without a unit.
    pub fn plain(title: impl Into<String>) -> Self {
        Self {
            title: title.into(),
            quantity: None,
            scale: Scale::Linear,
            low: None,
            high: None,
            whole: false,
            span: 0.0,
        }
    }

    /// On a logarithmic scale.
    pub fn logarithmic(mut self) -> Self {
        self.scale = Scale::Logarithmic;
        self
    }

    /// Of whole numbers.
    pub fn whole(mut self) -> Self {
        self.whole = true;
        self
    }

    /// From here on, own unit.
    pub fn from(mut self, low: f64) -> Self {
        self.low = Some(low);
        self
    }

    /// Up to here, own unit.
    pub fn to(mut self, high: f64) -> Self {
        self.high = Some(high);
        self
    }

    /// Sets the least distance between the ends, in the own unit, so that level ground is not drawn as rough.
    pub fn at_least(mut self, span: f64) -> Self {
        self.span = span;
        self
    }

    /// Whether its ends were given.
    pub(crate) fn given(&self) -> (bool, bool) {
        (self.low.is_some(), self.high.is_some())
    }

    /// Fits the axis to its values, own unit; nothing where none has a place on it.
    pub(crate) fn fit(&self, values: impl Iterator<Item = f64>) -> Option<Fitted> {
        let placed = |v: &f64| v.is_finite() && (self.scale == Scale::Linear || *v > 0.0);
        let ends = values
            .filter(placed)
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
        let (low, high) = (self.low.unwrap_or(ends.0), self.high.unwrap_or(ends.1));
        if low > high || !low.is_finite() || !high.is_finite() {
            return None;
        }
        let largest = low.abs().max(high.abs());
        let unit = match self.quantity {
            Some((quantity, units)) => quantity.shown(units, largest),
            None => ShownUnit { symbol: "", size: 1.0, most: 6 },
        };
        let (low, high) = (unit.of(low), unit.of(high));
        let (low, high) = match self.scale {
            Scale::Linear => {
                let span = unit.of(self.span).max(largest.max(1e-12) * 1e-9);
                if high - low < span { (low, low + span) } else { (low, high) }
            }
            Scale::Logarithmic if high / low < 1.01 => (low / 2.0, high * 2.0),
            Scale::Logarithmic => (low, high),
        };
        let title = match (self.title.as_str(), unit.symbol) {
            (title, "") => title.to_owned(),
            ("", symbol) => symbol.to_owned(),
            (title, symbol) => format!("{title}, {symbol}"),
        };
        Some(Fitted { title, unit, scale: self.scale, whole: self.whole, low, high })
    }
}

/// An axis with its unit and its ends; values from here on are in the unit that is shown.
#[derive(Debug, Clone)]
pub(crate) struct Fitted {
    pub title: String,
    pub unit: ShownUnit,
    pub scale: Scale,
    whole: bool,
    pub low: f64,
    pub high: f64,
}

impl Fitted {
    /// Widens the ends to ticks: for values, which look cramped at the very end.
    pub fn rounded(mut self, given: (bool, bool)) -> Self {
        let (low, high) = match self.scale {
            Scale::Linear => {
                let step = nice((self.high - self.low) / 4.0);
                ((self.low / step).floor() * step, (self.high / step).ceil() * step)
            }
            Scale::Logarithmic => {
                (10f64.powf(self.low.log10().floor()), 10f64.powf(self.high.log10().ceil()))
            }
        };
        (self.low, self.high) =
            (if given.0 { self.low } else { low }, if given.1 { self.high } else { high });
        self
    }

    /// Returns where a value lies: 0 at the low end, 1 at the high one, beyond them outside; nothing where it has no place.
    pub fn share(&self, own: f64) -> Option<f64> {
        self.share_of_shown(self.unit.of(own))
    }

    pub fn share_of_shown(&self, value: f64) -> Option<f64> {
        let share = match self.scale {
            Scale::Linear => (value - self.low) / (self.high - self.low),
            Scale::Logarithmic if value > 0.0 => (value / self.low).ln() / (self.high / self.low).ln(),
            Scale::Logarithmic => return None,
        };
        share.is_finite().then_some(share)
    }

    /// Returns about `about` ticks with their labels, in the unit shown.
    pub fn ticks(&self, about: f64) -> Vec<(f64, String)> {
        let inside = |v: &f64| (-1e-9..=1.0 + 1e-9).contains(&self.share_of_shown(*v).unwrap_or(-1.0));
        match self.scale {
            Scale::Linear => {
                let step = nice((self.high - self.low) / about);
                let step = if self.whole { step.max(1.0) } else { step };
                let decimals = (-step.log10().floor()).clamp(0.0, 9.0) as usize;
                let first = (self.low / step).ceil() as i64;
                let last = (self.high / step + 1e-9).floor() as i64;
                let at = (first..=last).map(|n| n as f64 * step).filter(inside);
                at.map(|v| (v, fixed(v, decimals))).collect()
            }
            Scale::Logarithmic => {
                let powers = self.low.log10().floor() as i32..=self.high.log10().ceil() as i32;
                let many = (self.high / self.low).log10();
                let factors: &[f64] = if many < 2.0 { &[1.0, 2.0, 5.0] } else { &[1.0] };
                // Every other power where there are too many.
                let every = ((many / about).ceil() as i32).max(1);
                let at = powers.filter(|p| p.rem_euclid(every) == 0);
                let at = at.flat_map(|p| factors.iter().map(move |f| f * 10f64.powi(p))).filter(inside);
                at.map(|v| (v, large(v))).collect()
            }
        }
    }

    /// Returns a value as the table tells it: with five digits of the largest.
    pub fn told(&self, own: f64) -> String {
        let largest = self.unit.back(self.low.abs().max(self.high.abs()));
        match self.scale {
            Scale::Linear if self.unit.symbol.is_empty() && self.whole => fixed(self.unit.of(own), 0),
            Scale::Linear => Units::in_column(&self.unit, self.unit.decimals(largest), own),
            Scale::Logarithmic => bothros_products::numbers::real(self.unit.of(own), 4),
        }
    }
}

/// A number of a logarithmic axis: thousands apart, no more decimals than it needs.
fn large(v: f64) -> String {
    if v >= 1.0 { fixed(v, 0) } else { plain(v) }
}

/// A round step near another: 1, 2 or 5 of a power of ten.
pub(crate) fn nice(step: f64) -> f64 {
    let power = 10f64.powf(step.max(1e-12).log10().floor());
    let share = step / power;
    power
        * if share < 1.5 {
            1.0
        } else if share < 3.5 {
            2.0
        } else if share < 7.5 {
            5.0
        } else {
            10.0
        }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn labels(axis: &Fitted, about: f64) -> Vec<String> {
        axis.ticks(about).into_iter().map(|t| t.1).collect()
    }

    #[rstest]
    #[case(0.23, 0.2)]
    #[case(1.1, 1.0)]
    #[case(4.0, 5.0)]
    #[case(80.0, 100.0)]
    fn steps_are_round(#[case] step: f64, #[case] round: f64) {
        assert!((nice(step) / round - 1.0).abs() < 1e-12);
    }

    #[test]
    fn linear_ticks_are_round_and_inside() {
        let axis = Axis::of("elevation", Quantity::Elevation, Units::Metric);
        let fitted = axis.fit([231.2, 238.9].into_iter()).unwrap();
        assert_eq!(labels(&fitted, 4.0), ["232", "234", "236", "238"]);
        assert_eq!(fitted.title, "elevation, m");
        let rounded = fitted.rounded((false, false));
        assert_eq!((rounded.low, rounded.high), (230.0, 240.0));
        assert_eq!(rounded.share(235.0), Some(0.5));
    }

    #[test]
    fn the_largest_value_chooses_the_unit() {
        let axis = |units| Axis::of("length", Quantity::Length, units).fit([0.0, 25_000.0].into_iter());
        assert_eq!(axis(Units::Metric).unwrap().title, "length, km");
        assert_eq!(labels(&axis(Units::Metric).unwrap(), 5.0), ["0", "5", "10", "15", "20", "25"]);
        assert_eq!(axis(Units::UsCustomary).unwrap().title, "length, mi");
    }

    #[test]
    fn logarithmic_ticks_are_powers_of_ten_or_finer() {
        let axis = Axis::plain("").logarithmic();
        let fitted = axis.fit([0.0016, 44.0].into_iter()).unwrap();
        assert_eq!(labels(&fitted, 6.0), ["0.01", "0.1", "1", "10"]);
        assert!((fitted.share(0.0016).unwrap()).abs() < 1e-12 && fitted.share(0.0).is_none());
        assert_eq!(labels(&axis.fit([3.0, 60.0].into_iter()).unwrap(), 6.0), ["5", "10", "20", "50"]);
        assert_eq!(labels(&axis.fit([1.0, 1e9].into_iter()).unwrap(), 5.0).len(), 5);
    }

    #[test]
    fn what_has_no_extent_is_widened_and_what_has_no_value_is_no_axis() {
        let flat = Axis::plain("").at_least(0.5).fit([7.0, 7.0].into_iter()).unwrap();
        assert_eq!((flat.low, flat.high), (7.0, 7.5));
        let one = Axis::plain("").logarithmic().fit([10.0].into_iter()).unwrap();
        assert_eq!((one.low, one.high), (5.0, 20.0));
        assert!(Axis::plain("").fit([f64::NAN].into_iter()).is_none());
        assert!(Axis::plain("").logarithmic().fit([0.0, -1.0].into_iter()).is_none());
    }
}
