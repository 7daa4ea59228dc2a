//! The units that numbers are shown and typed in. Everything is computed and handed out in metric units; US customary
//! units are for display and for typed input.

use crate::Quantity;
use crate::numbers::{fixed, plain, real};

/// A system of units for display.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Units {
    /// metres, hectares, square kilometres, cubic metres
    #[default]
    Metric,
    /// feet, miles, acres, square miles, cubic feet, acre-feet
    UsCustomary,
}

/// The international foot, exactly (NIST Special Publication 811, 2008, appendix B.8). The US survey foot is not used
/// since 2023; over the lengths of a study the two differ by 2 parts in a million.
const FOOT_M: f64 = 0.3048;
const MILE_M: f64 = 5280.0 * FOOT_M;
const ACRE_M2: f64 = 43_560.0 * FOOT_M * FOOT_M;
const MILE_M2: f64 = MILE_M * MILE_M;
const FOOT_M3: f64 = FOOT_M * FOOT_M * FOOT_M;
const ACRE_FOOT_M3: f64 = ACRE_M2 * FOOT_M;

/// A unit that numbers of a quantity are shown in.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ShownUnit {
    /// as it is written behind a number; empty where there is none
    pub symbol: &'static str,
    /// how many of the quantity's own unit ([`Quantity::unit`]) it holds
    pub size: f64,
    /// decimals that are shown at most
    pub most: usize,
}

impl ShownUnit {
    const fn new(symbol: &'static str, size: f64, most: usize) -> Self {
        Self { symbol, size, most }
    }

    /// Returns a value of the quantity's own unit in this one.
    pub fn of(&self, own: f64) -> f64 {
        own / self.size
    }

    /// Returns a value of this unit in the quantity's own.
    pub fn back(&self, shown: f64) -> f64 {
        shown * self.size
    }

    /// Returns how many decimals a column needs whose largest value is this, so that it has five digits.
    pub fn decimals(&self, largest: f64) -> usize {
        let before = self.of(largest).abs().max(1e-9).log10().floor() as i32 + 1;
        (5 - before.max(1)).clamp(0, self.most as i32) as usize
    }
}

/// From the largest value on, in the quantity's own unit, and the unit from there on; the largest first.
type Steps = &'static [(f64, ShownUnit)];

const NONE: Steps = &[(0.0, ShownUnit::new("", 1.0, 0))];

fn steps(quantity: Quantity, units: Units) -> Steps {
    use Quantity::{
        Area, Bytes, Coordinate, Count, Density, Depth, Drop, Duration, Elevation, Flag, Frequency,
        Identifier, Length, Order, Perimeter, Rain, Ratio, Share, Slope, SmallArea, Text, Volume,
    };
    const fn unit(symbol: &'static str, size: f64, most: usize) -> ShownUnit {
        ShownUnit::new(symbol, size, most)
    }
    match (quantity, units) {
        (Length, Units::Metric) => const { &[(10_000.0, unit("km", 1000.0, 3)), (0.0, unit("m", 1.0, 1))] },
        (Length, Units::UsCustomary) => {
            const { &[(2.0 * MILE_M, unit("mi", MILE_M, 3)), (0.0, unit("ft", FOOT_M, 1))] }
        }
        (Perimeter, Units::Metric) => const { &[(0.0, unit("km", 1.0, 3))] },
        (Perimeter, Units::UsCustomary) => const { &[(0.0, unit("mi", MILE_M / 1000.0, 3))] },
        (Drop | Depth | Elevation, Units::Metric) => const { &[(0.0, unit("m", 1.0, 2))] },
        (Drop | Depth | Elevation, Units::UsCustomary) => const { &[(0.0, unit("ft", FOOT_M, 2))] },
        (Area, Units::Metric) => {
            const { &[(1.0, unit("km²", 1.0, 4)), (0.01, unit("ha", 0.01, 3)), (0.0, unit("m²", 1e-6, 1))] }
        }
        (Area, Units::UsCustomary) => {
            const {
                &[
                    (MILE_M2 / 1e6, unit("mi²", MILE_M2 / 1e6, 4)),
                    (ACRE_M2 / 1e6, unit("acres", ACRE_M2 / 1e6, 3)),
                    (0.0, unit("ft²", FOOT_M * FOOT_M / 1e6, 0)),
                ]
            }
        }
        (SmallArea, Units::Metric) => {
            const { &[(1e6, unit("km²", 1e6, 4)), (1e4, unit("ha", 1e4, 3)), (0.0, unit("m²", 1.0, 1))] }
        }
        (SmallArea, Units::UsCustomary) => {
            const {
                &[
                    (MILE_M2, unit("mi²", MILE_M2, 4)),
                    (ACRE_M2, unit("acres", ACRE_M2, 3)),
                    (0.0, unit("ft²", FOOT_M * FOOT_M, 0)),
                ]
            }
        }
        (Volume, Units::Metric) => const { &[(1e7, unit("million m³", 1e6, 3)), (0.0, unit("m³", 1.0, 2))] },
        (Volume, Units::UsCustomary) => {
            const { &[(ACRE_FOOT_M3, unit("acre-ft", ACRE_FOOT_M3, 3)), (0.0, unit("ft³", FOOT_M3, 1))] }
        }
        (Rain, Units::Metric) => const { &[(0.0, unit("mm", 1.0, 2))] },
        (Rain, Units::UsCustomary) => const { &[(0.0, unit("in", 25.4, 3))] },
        (Slope, _) => const { &[(0.0, unit("%", 0.01, 2))] },
        (Share, _) => const { &[(0.0, unit("%", 0.01, 0))] },
        (Density, Units::Metric) => const { &[(0.0, unit("km/km²", 1.0, 3))] },
        (Density, Units::UsCustomary) => const { &[(0.0, unit("mi/mi²", 1000.0 / MILE_M, 3))] },
        (Frequency, Units::Metric) => const { &[(0.0, unit("1/km²", 1.0, 2))] },
        (Frequency, Units::UsCustomary) => const { &[(0.0, unit("1/mi²", 1e6 / MILE_M2, 2))] },
        (Duration, _) => const { &[(1.0, unit("h", 1.0, 2)), (0.0, unit("min", 1.0 / 60.0, 1))] },
        (Ratio, _) => const { &[(0.0, unit("", 1.0, 2))] },
        (Coordinate, _) => const { &[(0.0, unit("", 1.0, 1))] },
        (Bytes, _) => const { &[(0.0, unit("B", 1.0, 0))] },
        (Identifier | Order | Count | Flag | Text, _) => NONE,
    }
}

impl Quantity {
    /// Returns the unit that values up to `largest` (in the quantity's own unit) are shown in.
    pub fn shown(self, units: Units, largest: f64) -> ShownUnit {
        let steps = steps(self, units);
        let fits = steps.iter().find(|(from, _)| largest.abs() >= *from);
        fits.or(steps.last()).map_or(ShownUnit::new("", 1.0, 0), |s| s.1)
    }

    /// Returns the unit that values are typed in: one for each quantity, whatever the size.
    pub fn typed(self, units: Units) -> ShownUnit {
        match self {
            // Areas are typed in km² or square miles, small ones in hectares or acres; lengths in metres or feet, however long;
            // durations in hours.
            Self::Area => self.shown(units, f64::INFINITY),
            Self::SmallArea => self.shown(units, 10_000.0),
            Self::Duration => self.shown(units, 1.0),
            _ => self.shown(units, 0.0),
        }
    }
}

impl Units {
    /// Both, with the name for addresses and the words for a switch.
    pub const ALL: [(Self, &'static str, &'static str); 2] =
        [(Self::Metric, "metric", "Metric"), (Self::UsCustomary, "us", "US customary")];

    /// Returns the name in addresses and cookies.
    pub fn key(self) -> &'static str {
        Self::ALL.iter().find(|u| u.0 == self).map_or("metric", |u| u.1)
    }

    /// Returns the system with a name.
    pub fn of_key(key: &str) -> Option<Self> {
        Self::ALL.iter().find(|u| u.1 == key).map(|u| u.0)
    }

    /// Returns an area with the unit that fits; m².
    pub fn area(self, m2: f64) -> String {
        let unit = Quantity::SmallArea.shown(self, m2);
        let value = unit.of(m2);
        let digits = if matches!(unit.symbol, "km²" | "mi²") && value.abs() >= 9.995 { 4 } else { 3 };
        format!("{} {}", real(value, digits), unit.symbol)
    }

    /// Returns a length with the unit that fits; metres.
    pub fn length(self, m: f64) -> String {
        let (near, far, size) = match self {
            Self::Metric => (("m", 1.0), ("km", 1000.0), 1000.0),
            Self::UsCustomary => (("ft", FOOT_M), ("mi", MILE_M), MILE_M),
        };
        match m.abs() < size {
            true => format!("{} {}", real(m / near.1, 3), near.0),
            false => format!("{} {}", real(m / far.1, if m.abs() / far.1 < 9.995 { 3 } else { 4 }), far.0),
        }
    }

    /// Returns a size that the user chose (of a cell, a step, a margin) with no more digits than it needs; metres.
    pub fn size(self, m: f64) -> String {
        let unit = Quantity::Depth.typed(self);
        let value = if self == Self::Metric { m } else { (unit.of(m) * 1e3).round() / 1e3 };
        format!("{} {}", plain(value), unit.symbol)
    }

    /// Returns a volume with the unit that fits; m³.
    pub fn volume(self, m3: f64) -> String {
        let unit = match self {
            Self::Metric if m3.abs() >= 1e6 => ShownUnit::new("million m³", 1e6, 3),
            _ => Quantity::Volume.shown(self, m3),
        };
        format!("{} {}", real(unit.of(m3), 3), unit.symbol)
    }

    /// Returns an elevation, depth or difference of elevation, in metres, with this many decimals.
    pub fn height(self, m: f64, decimals: usize) -> String {
        let unit = Quantity::Depth.typed(self);
        format!("{} {}", fixed(unit.of(m), decimals), unit.symbol)
    }

    /// Returns a drainage density with its unit; km/km².
    pub fn density(self, km_km2: f64) -> String {
        let unit = Quantity::Density.typed(self);
        format!("{} {}", real(unit.of(km_km2), 3), unit.symbol)
    }

    /// Returns a value of a quantity in a unit of `shown` with this many decimals; a value too small for them is given as less than the last digit.
    pub fn in_column(shown: &ShownUnit, decimals: usize, own: f64) -> String {
        let value = shown.of(own);
        let least = 10f64.powi(-(decimals as i32));
        match value != 0.0 && value.abs() < least / 2.0 {
            true if value > 0.0 => format!("< {}", fixed(least, decimals)),
            _ => fixed(value, decimals),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(416.0, "416 m²", "4\u{202F}478 ft²")]
    #[case(350_000.0, "35.0 ha", "86.5 acres")]
    #[case(1_000_000.0, "1.00 km²", "247 acres")]
    #[case(44_070_000.0, "44.07 km²", "17.02 mi²")]
    fn areas(#[case] m2: f64, #[case] metric: &str, #[case] customary: &str) {
        assert_eq!((Units::Metric.area(m2), Units::UsCustomary.area(m2)), (metric.into(), customary.into()));
    }

    #[rstest]
    #[case(12.34, "12.3 m", "40.5 ft")]
    #[case(1500.0, "1.50 km", "4\u{202F}921 ft")]
    #[case(48_211.0, "48.21 km", "29.96 mi")]
    fn lengths(#[case] m: f64, #[case] metric: &str, #[case] customary: &str) {
        assert_eq!(
            (Units::Metric.length(m), Units::UsCustomary.length(m)),
            (metric.into(), customary.into())
        );
    }

    #[rstest]
    #[case(12.0, "12.0 m³", "424 ft³")]
    #[case(24_670.0, "24\u{202F}670 m³", "20.0 acre-ft")]
    #[case(3_450_000.0, "3.45 million m³", "2\u{202F}797 acre-ft")]
    fn volumes(#[case] m3: f64, #[case] metric: &str, #[case] customary: &str) {
        assert_eq!(
            (Units::Metric.volume(m3), Units::UsCustomary.volume(m3)),
            (metric.into(), customary.into())
        );
    }

    #[test]
    fn heights_and_densities() {
        assert_eq!(
            (Units::Metric.size(4.0), Units::UsCustomary.size(4.0)),
            ("4 m".into(), "13.123 ft".into())
        );
        assert_eq!(Units::Metric.height(-1.004, 2), "−1.00 m");
        assert_eq!(Units::UsCustomary.height(3.048, 2), "10.00 ft");
        assert_eq!(Units::Metric.density(1.609), "1.61 km/km²");
        assert_eq!(Units::UsCustomary.density(1.0), "1.61 mi/mi²");
    }

    /// Factors of NIST Special Publication 811 (2008), appendix B.8, to seven digits.
    #[rstest]
    #[case(Quantity::SmallArea, "acres", 4.046_873e3)]
    #[case(Quantity::SmallArea, "mi²", 2.589_988e6)]
    #[case(Quantity::SmallArea, "ft²", 9.290_304e-2)]
    #[case(Quantity::Volume, "acre-ft", 1.233_489e3)]
    #[case(Quantity::Volume, "ft³", 2.831_685e-2)]
    #[case(Quantity::Length, "mi", 1.609_344e3)]
    #[case(Quantity::Rain, "in", 25.4)]
    fn sizes_are_those_of_the_handbook(#[case] of: Quantity, #[case] symbol: &str, #[case] size: f64) {
        let all = steps(of, Units::UsCustomary);
        let unit = all.iter().find(|u| u.1.symbol == symbol).unwrap().1;
        // The handbook's acre and acre-foot are of US survey feet: 4 and 6 parts in a million larger.
        assert!((unit.size / size - 1.0).abs() < 7e-6, "{} against {size}", unit.size);
    }

    #[test]
    fn a_column_has_one_unit_and_five_digits_of_its_largest() {
        let unit = Quantity::Area.shown(Units::Metric, 44.07);
        let decimals = unit.decimals(44.07);
        assert_eq!((unit.symbol, decimals), ("km²", 3));
        let told = |v| Units::in_column(&unit, decimals, v);
        assert_eq!(
            [told(44.07), told(0.0123), told(0.0001), told(0.0)],
            ["44.070", "0.012", "< 0.001", "0.000"]
        );
        assert_eq!(Quantity::Area.shown(Units::Metric, 0.5).symbol, "ha");
        assert_eq!(Quantity::Length.shown(Units::Metric, 5000.0).decimals(5000.0), 1);
    }

    #[rstest]
    #[case(Quantity::Length)]
    #[case(Quantity::Depth)]
    #[case(Quantity::Area)]
    #[case(Quantity::Rain)]
    fn what_is_typed_comes_back(#[case] of: Quantity) {
        for units in [Units::Metric, Units::UsCustomary] {
            let unit = of.typed(units);
            assert!((unit.back(unit.of(123.4)) - 123.4).abs() < 1e-9);
            assert_eq!(Units::of_key(units.key()), Some(units));
        }
        assert_eq!(Units::of_key("imperial"), None);
        assert_eq!(Quantity::Duration.typed(Units::Metric).symbol, "h");
    }
}
