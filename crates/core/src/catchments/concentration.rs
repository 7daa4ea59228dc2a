//! Time of concentration: formulas of the literature side by side, each with the range it was made for.

/// What the formulas need of a catchment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Flow {
    /// area, km²
    pub area_km2: f64,
    /// length of the longest flow path, km
    pub length_km: f64,
    /// fall along it, m
    pub drop_m: f64,
    /// mean elevation of the catchment above its outlet, m
    pub mean_height_m: f64,
    /// mean slope of the ground, m/m
    pub mean_slope: f64,
    /// curve number, where it is known: 30 to 100 (NRCS National Engineering Handbook 630, ch. 9)
    pub curve_number: Option<f64>,
}

impl Flow {
    /// Slope of the longest flow path, m/m.
    pub fn slope(&self) -> f64 {
        self.drop_m / (1000.0 * self.length_km)
    }
}

/// A formula for the time of concentration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Formula {
    /// Kirpich 1940, Civil Engineering 10
    Kirpich,
    /// California Division of Highways 1942, “California Culvert Practice”
    California,
    /// Giandotti 1934, Servizio Idrografico Italiano
    Giandotti,
    /// Témez 1978, MOPU
    Temez,
    /// Bransby Williams 1922, The Engineer 121
    BransbyWilliams,
    /// Passini 1914
    Passini,
    /// Ventura 1905
    Ventura,
    /// the lag equation, NRCS National Engineering Handbook 630, ch. 15, 2010
    Lag,
}

/// What a formula gives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate {
    /// the formula
    pub formula: Formula,
    /// time of concentration, hours, or the reason why there is none
    pub hours: Result<f64, &'static str>,
    /// whether the catchment lies within the range that the formula was made for; `None` where no range is stated
    pub within_range: Option<bool>,
}

/// Share of the time of concentration that the lag is (NRCS National Engineering Handbook 630, ch. 15).
pub const LAG_SHARE: f64 = 0.6;

impl Formula {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 8] = [
        Self::Kirpich,
        Self::California,
        Self::Giandotti,
        Self::Temez,
        Self::BransbyWilliams,
        Self::Passini,
        Self::Ventura,
        Self::Lag,
    ];

    /// Name in files and forms.
    pub fn key(self) -> &'static str {
        match self {
            Self::Kirpich => "kirpich",
            Self::California => "california",
            Self::Giandotti => "giandotti",
            Self::Temez => "temez",
            Self::BransbyWilliams => "bransby_williams",
            Self::Passini => "passini",
            Self::Ventura => "ventura",
            Self::Lag => "lag_equation",
        }
    }

    /// The formula of a name.
    pub fn from_key(key: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|f| f.key() == key)
    }

    /// Name for people, with the year.
    pub fn title(self) -> &'static str {
        match self {
            Self::Kirpich => "Kirpich 1940",
            Self::California => "California culvert practice 1942",
            Self::Giandotti => "Giandotti 1934",
            Self::Temez => "Témez 1978",
            Self::BransbyWilliams => "Bransby Williams 1922",
            Self::Passini => "Passini 1914",
            Self::Ventura => "Ventura 1905",
            Self::Lag => "Lag equation (NEH 630, ch. 15)",
        }
    }

    /// The formula as it is computed: A km², L km, H m, S m/m, tc in hours unless told otherwise.
    pub fn equation(self) -> &'static str {
        match self {
            Self::Kirpich => "tc [min] = 0.0195 (1000 L)^0.77 S^-0.385",
            Self::California => "tc = (0.87 L³ / H)^0.385",
            Self::Giandotti => "tc = (4 √A + 1.5 L) / (0.8 √Hm), Hm: mean elevation above the outlet",
            Self::Temez => "tc = 0.3 (L / S^0.25)^0.76",
            Self::BransbyWilliams => "tc [min] = 58.5 L / (A^0.1 (1000 S)^0.2)",
            Self::Passini => "tc = 0.108 (A L)^(1/3) S^-0.5",
            Self::Ventura => "tc = 0.127 (A / S)^0.5",
            Self::Lag => {
                "lag = l^0.8 (s + 1)^0.7 / (1900 Y^0.5), l ft, Y %: mean slope of the ground, s = 1000/CN - 10; tc = lag / 0.6"
            }
        }
    }

    /// What it was made for, in words; nothing where its source states no range.
    pub fn range(self) -> Option<&'static str> {
        match self {
            Self::Kirpich => Some("0.4 to 45 ha, small steep farm basins"),
            Self::Giandotti => Some("170 to 70\u{202F}000 km²"),
            Self::Temez => Some("1 to 3\u{202F}000 km²"),
            _ => None,
        }
    }

    fn covers(self, area_km2: f64) -> Option<bool> {
        let range = match self {
            Self::Kirpich => 0.004..=0.45,
            Self::Giandotti => 170.0..=70_000.0,
            Self::Temez => 1.0..=3000.0,
            _ => return None,
        };
        Some(range.contains(&area_km2))
    }

    /// The time of concentration of a catchment.
    ///
    /// ```
    /// use bothros_core::catchments::{Flow, Formula};
    /// let flow = Flow {
    ///     area_km2: 10.0, length_km: 6.0, drop_m: 180.0, mean_height_m: 90.0, mean_slope: 0.1, curve_number: None,
    /// };
    /// let hours = Formula::Temez.estimate(&flow).hours.unwrap();
    /// assert!((hours - 2.28).abs() < 0.01);
    /// assert!(Formula::Lag.estimate(&flow).hours.is_err(), "it needs a curve number");
    /// ```
    pub fn estimate(self, of: &Flow) -> Estimate {
        Estimate { formula: self, hours: self.hours(of), within_range: self.covers(of.area_km2) }
    }

    fn hours(self, of: &Flow) -> Result<f64, &'static str> {
        let positive = |value: f64, why| if value > 0.0 { Ok(value) } else { Err(why) };
        let (area, length) = (of.area_km2, positive(of.length_km, "the longest flow path has no length")?);
        let level = "the longest flow path does not fall";
        let slope = || positive(of.slope(), level);
        Ok(match self {
            Self::Kirpich => 0.0195 * (1000.0 * length).powf(0.77) * slope()?.powf(-0.385) / 60.0,
            Self::California => (0.87 * length.powi(3) / positive(of.drop_m, level)?).powf(0.385),
            Self::Giandotti => {
                let height = positive(of.mean_height_m, "the mean elevation is that of the outlet")?;
                (4.0 * area.sqrt() + 1.5 * length) / (0.8 * height.sqrt())
            }
            Self::Temez => 0.3 * (length / slope()?.powf(0.25)).powf(0.76),
            Self::BransbyWilliams => 58.5 * length / (area.powf(0.1) * (1000.0 * slope()?).powf(0.2)) / 60.0,
            Self::Passini => 0.108 * (area * length).cbrt() / slope()?.sqrt(),
            Self::Ventura => 0.127 * (area / slope()?).sqrt(),
            Self::Lag => {
                let number = of.curve_number.ok_or("there is no curve number")?;
                let number = positive(number, "the curve number must be greater than 0")?;
                let ground = positive(of.mean_slope, "the ground is level")?;
                let feet = 1000.0 * length / 0.3048;
                let storage = 1000.0 / number - 10.0;
                let lag = feet.powf(0.8) * (storage + 1.0).powf(0.7) / (1900.0 * (100.0 * ground).sqrt());
                lag / LAG_SHARE
            }
        })
    }
}

/// The time of concentration of a catchment by every formula.
pub fn concentration(of: &Flow) -> Vec<Estimate> {
    Formula::ALL.into_iter().map(|formula| formula.estimate(of)).collect()
}

/// The median of what formulas give that have an answer, and the least and the most, hours; nothing where none has.
pub fn spread(estimates: &[Estimate]) -> Option<(f64, f64, f64)> {
    let mut hours: Vec<f64> = estimates.iter().filter_map(|e| e.hours.ok()).collect();
    hours.sort_by(f64::total_cmp);
    let last = hours.len().checked_sub(1)?;
    Some(((hours[last / 2] + hours[last.div_ceil(2)]) / 2.0, hours[0], hours[last]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FOOT: f64 = 0.3048;
    const MILE: f64 = 5280.0 * FOOT / 1000.0;

    fn flow(area_km2: f64, length_km: f64, drop_m: f64) -> Flow {
        let (mean_height_m, mean_slope) = (0.4 * drop_m, 0.08);
        Flow { area_km2, length_km, drop_m, mean_height_m, mean_slope, curve_number: Some(75.0) }
    }

    fn hours(formula: Formula, of: &Flow) -> f64 {
        formula.estimate(of).hours.unwrap()
    }

    proptest! {
        /// The formulas as their sources state them in feet and miles (from memory): Kirpich tc[min] = 0.0078 L^0.77 S^-0.385
        /// with L in feet; California tc[h] = (11.9 L³/H)^0.385 with L in miles, H in feet; Bransby Williams
        /// tc[min] = 21.3 L / (A^0.1 S^0.2) with L in miles, A in square miles. Constants are rounded in both forms.
        #[test]
        fn customary_forms_give_the_same(area in 0.01f64..500.0, length in 0.1f64..80.0, drop in 1.0f64..900.0) {
            let of = flow(area, length, drop);
            let slope = of.slope();
            let near = |a: f64, b: f64| (a / b - 1.0).abs() < 0.015;
            let kirpich = 0.0078 * (1000.0 * length / FOOT).powf(0.77) * slope.powf(-0.385) / 60.0;
            prop_assert!(near(hours(Formula::Kirpich, &of), kirpich));
            let california = (11.9 * (length / MILE).powi(3) / (drop / FOOT)).powf(0.385);
            prop_assert!(near(hours(Formula::California, &of), california));
            let miles = 21.3 * (length / MILE) / ((area / (MILE * MILE)).powf(0.1) * slope.powf(0.2)) / 60.0;
            prop_assert!(near(hours(Formula::BransbyWilliams, &of), miles));
        }

        /// The lag equation in metric units: lag[h] = L^0.8 (2540 - 22.86 CN)^0.7 / (14104 CN^0.7 y^0.5), L in metres, y in m/m
        /// (a form that textbooks give; from memory).
        #[test]
        fn the_metric_form_of_the_lag_equation_gives_the_same(
            length in 0.1f64..30.0, number in 35.0f64..98.0, ground in 0.005f64..0.6,
        ) {
            let of = Flow { mean_slope: ground, curve_number: Some(number), ..flow(5.0, length, 50.0) };
            let lag = (1000.0 * length).powf(0.8) * (2540.0 - 22.86 * number).powf(0.7)
                / (14_104.0 * number.powf(0.7) * ground.sqrt());
            prop_assert!((hours(Formula::Lag, &of) * LAG_SHARE / lag - 1.0).abs() < 0.005);
        }

        #[test]
        fn a_longer_or_gentler_way_takes_longer(length in 0.2f64..50.0, drop in 2.0f64..500.0, more in 1.05f64..3.0) {
            let of = flow(20.0, length, drop);
            let (longer, gentler) = (flow(20.0, length * more, drop * more), flow(20.0, length, drop / more));
            for formula in Formula::ALL {
                let here = hours(formula, &of);
                prop_assert!(here > 0.0 && here.is_finite());
                // Ventura's knows no length, the lag equation no fall of the path.
                if formula != Formula::Ventura && formula != Formula::Giandotti {
                    prop_assert!(hours(formula, &longer) > here, "{:?}", formula);
                }
                if formula != Formula::Lag {
                    prop_assert!(hours(formula, &gentler) > here, "{:?}", formula);
                }
            }
        }
    }

    #[test]
    fn exponents_are_those_of_the_sources() {
        // Twice the length at the same slope: 2 to the exponent of the length.
        let (one, two) = (flow(30.0, 4.0, 100.0), flow(30.0, 8.0, 200.0));
        for (formula, exponent) in [
            (Formula::Kirpich, 0.77),
            (Formula::California, 2.0 * 0.385),
            (Formula::Temez, 0.76),
            (Formula::BransbyWilliams, 1.0),
            (Formula::Passini, 1.0 / 3.0),
            (Formula::Ventura, 0.0),
            (Formula::Lag, 0.8),
        ] {
            let ratio = hours(formula, &two) / hours(formula, &one);
            assert!((ratio - 2f64.powf(exponent)).abs() < 1e-9, "{formula:?}: {ratio}");
        }
        // Giandotti with A 100 km², L 20 km, Hm 400 m by hand: (40 + 30) / (0.8 x 20).
        let by_hand = Flow { mean_height_m: 400.0, ..flow(100.0, 20.0, 1000.0) };
        assert!((hours(Formula::Giandotti, &by_hand) - 4.375).abs() < 1e-12);
    }

    #[test]
    fn what_cannot_be_computed_says_why_and_gives_no_number() {
        let level = Flow { mean_height_m: 0.0, mean_slope: 0.0, ..flow(1.0, 2.0, 0.0) };
        for estimate in concentration(&level) {
            let why = estimate.hours.unwrap_err();
            assert!(why.contains("fall") || why.contains("outlet") || why.contains("level"), "{why}");
        }
        let point = flow(0.0001, 0.0, 0.0);
        assert!(concentration(&point).iter().all(|e| e.hours.is_err()));
        assert_eq!(
            Formula::Lag.estimate(&Flow { curve_number: None, ..flow(1.0, 2.0, 9.0) }).hours,
            Err("there is no curve number")
        );
    }

    #[test]
    fn ranges_are_told_where_the_source_states_one() {
        let within = |formula: Formula, area| formula.estimate(&flow(area, 2.0, 30.0)).within_range;
        assert_eq!((within(Formula::Kirpich, 0.2), within(Formula::Kirpich, 5.0)), (Some(true), Some(false)));
        assert_eq!(
            (within(Formula::Giandotti, 5.0), within(Formula::Giandotti, 500.0)),
            (Some(false), Some(true))
        );
        assert_eq!((within(Formula::Temez, 0.5), within(Formula::Temez, 3000.0)), (Some(false), Some(true)));
        for formula in Formula::ALL {
            assert_eq!(formula.range().is_some(), within(formula, 1.0).is_some(), "{formula:?}");
            assert_eq!(Formula::from_key(formula.key()), Some(formula));
        }
    }

    #[test]
    fn the_spread_is_of_those_that_have_an_answer() {
        let of = |hours: &[Option<f64>]| -> Vec<Estimate> {
            let estimate = |(h, formula): (&Option<f64>, Formula)| Estimate {
                formula,
                hours: h.ok_or("it is level"),
                within_range: None,
            };
            hours.iter().zip(Formula::ALL).map(estimate).collect()
        };
        for (hours, expected) in [
            (&[Some(2.0), Some(1.0), Some(5.0)][..], Some((2.0, 1.0, 5.0))),
            (&[Some(2.0), None, Some(5.0)], Some((3.5, 2.0, 5.0))),
            (&[None, Some(4.0)], Some((4.0, 4.0, 4.0))),
            (&[None], None),
            (&[], None),
        ] {
            assert_eq!(spread(&of(hours)), expected);
        }
    }
}
