//! Scale bars: a round length that fits the room there is.

use serde::{Deserialize, Serialize};

use crate::View;

/// In what a scale bar is told.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BarUnit {
    /// metres, kilometres from 1 km on
    #[default]
    Metric,
    /// feet, miles from half a mile on
    Customary,
}

/// A scale bar.
#[derive(Debug, Clone, PartialEq)]
pub struct Bar {
    /// its length on paper, mm
    pub length_mm: f64,
    /// its length on the ground, metres
    pub ground_m: f64,
    /// into how many pieces it is divided
    pub pieces: usize,
    /// what stands at its ends and between pieces, in the unit
    pub marks: Vec<String>,
    /// symbol of the unit
    pub unit: &'static str,
}

const FOOT: f64 = 0.3048;
const MILE: f64 = 1609.344;

impl Bar {
    /// The longest bar of a round length that fits a width, mm: 1, 2, 2.5 or 5 and noughts.
    pub fn within(view: &View, width_mm: f64, unit: BarUnit) -> Self {
        let room_m = width_mm.max(1.0) * view.metres_a_mm();
        let (symbol, metres) = match unit {
            BarUnit::Metric if room_m >= 1000.0 => ("km", 1000.0),
            BarUnit::Metric => ("m", 1.0),
            BarUnit::Customary if room_m >= MILE / 2.0 => ("mi", MILE),
            BarUnit::Customary => ("ft", FOOT),
        };
        let room = room_m / metres;
        let power = 10f64.powf(room.log10().floor());
        // The largest step that fits, and how it is divided into round pieces.
        const STEPS: [(f64, usize); 4] = [(5.0, 5), (2.5, 5), (2.0, 4), (1.0, 4)];
        let fits = |(step, _): &(f64, usize)| step * power <= room * (1.0 + 1e-9);
        let (step, pieces) = STEPS.into_iter().find(fits).unwrap_or((1.0, 4));
        let length = step * power;
        let marks = (0..=pieces).map(|i| plain(length * i as f64 / pieces as f64)).collect();
        let ground_m = length * metres;
        Self { length_mm: ground_m / view.metres_a_mm(), ground_m, pieces, marks, unit: symbol }
    }
}

/// A number without noughts that say nothing.
fn plain(value: f64) -> String {
    let text = format!("{:.6}", value);
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Rect;
    use proptest::prelude::*;

    fn view(denominator: f64) -> View {
        View {
            frame: Rect { x: 0.0, y: 0.0, width: 200.0, height: 200.0 },
            x: 0.0,
            y: 0.0,
            denominator,
            unit_m: 1.0,
        }
    }

    #[test]
    fn lengths_are_round_and_fit() {
        // 60 mm at 1:25,000 are 1.5 km.
        let bar = Bar::within(&view(25_000.0), 60.0, BarUnit::Metric);
        assert_eq!((bar.ground_m, bar.length_mm, bar.unit), (1000.0, 40.0, "km"));
        assert_eq!(bar.marks, ["0", "0.25", "0.5", "0.75", "1"]);
        let bar = Bar::within(&view(5_000.0), 60.0, BarUnit::Metric);
        assert_eq!((bar.ground_m, bar.unit), (250.0, "m"));
        assert_eq!(bar.marks, ["0", "50", "100", "150", "200", "250"]);
        let bar = Bar::within(&view(63_360.0), 60.0, BarUnit::Customary);
        // An inch to the mile: 60 mm are 2.36 miles.
        assert_eq!((bar.unit, bar.marks.last().map(String::as_str)), ("mi", Some("2")));
        assert!((bar.length_mm - 50.8).abs() < 1e-9);
    }

    proptest! {
        #[test]
        fn a_bar_is_never_longer_than_its_room_and_at_least_a_third_of_it(d in 200.0..1e7f64, room in 20.0..150.0f64) {
            for unit in [BarUnit::Metric, BarUnit::Customary] {
                let bar = Bar::within(&view(d), room, unit);
                prop_assert!(bar.length_mm <= room * 1.000_001 && bar.length_mm > room / 2.51, "{:?}", bar);
                prop_assert_eq!(bar.marks.len(), bar.pieces + 1);
            }
        }
    }
}
