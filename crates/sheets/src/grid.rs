//! Grids of eastings and northings: an interval that is round on the ground and readable on paper, and what stands at its lines.

use serde::{Deserialize, Serialize};

use crate::{Error, Result, View};

/// Lines of a grid stand so far apart on paper, mm. (Ours; a hand's width holds two.)
const APART_MM: (f64, f64) = (40.0, 60.0);
/// More lines than this fill a frame.
const MOST_LINES: u64 = 200;

/// The interval of a grid for a view, units of its CRS: the round distance (1, 2, 2.5 or 5 and noughts) whose lines stand 4 to 6 cm apart on paper, or come nearest to that.
pub fn interval(view: &View) -> f64 {
    let (low, high) = (APART_MM.0 * view.units_a_mm(), APART_MM.1 * view.units_a_mm());
    let middle = (low * high).sqrt();
    let power = 10f64.powf(middle.log10().floor());
    // Those that are read most easily first.
    let steps = [1.0, 10.0, 5.0, 2.0, 20.0, 2.5].map(|step| step * power);
    let readable = steps.into_iter().find(|step| (low..=high).contains(step));
    let off = |step: &f64| (step / middle).ln().abs();
    readable.or_else(|| steps.into_iter().min_by(|a, b| off(a).total_cmp(&off(b)))).unwrap_or(power)
}

/// Which way a line of a grid runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// upright: an easting
    Easting,
    /// across: a northing
    Northing,
}

/// A line of a grid.
#[derive(Debug, Clone, PartialEq)]
pub struct GridLine {
    /// whether it is an easting or a northing
    pub of: Side,
    /// units of the CRS
    pub value: f64,
    /// x of an easting, y of a northing on the page, mm
    pub at_mm: f64,
    /// the number as it is written, thousands apart
    pub label: String,
}

/// The lines of a grid over a view.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// interval of eastings and of northings, units of the CRS
    pub intervals: [f64; 2],
    /// eastings from the west, then northings from the south
    pub lines: Vec<GridLine>,
}

impl Grid {
    /// The lines that cross a view, at intervals of eastings and northings in units of the CRS.
    ///
    /// # Errors
    /// [`Error::GridTooFine`] where more than two hundred lines would cross the frame, and for an interval that is none.
    pub fn over(view: &View, intervals: [f64; 2]) -> Result<Self> {
        let [west, south, east, north] = view.ground();
        let mut lines = Vec::new();
        for (of, step, from, to) in
            [(Side::Easting, intervals[0], west, east), (Side::Northing, intervals[1], south, north)]
        {
            let count = (to - from) / step;
            if !(count >= 0.0 && count <= MOST_LINES as f64) {
                let least_m = (to - from) / MOST_LINES as f64;
                let lines = if count.is_finite() && count > 0.0 { count as u64 } else { u64::MAX };
                return Err(Error::GridTooFine { interval_m: step, lines, least_m });
            }
            let first = (from / step).ceil() as i64;
            let decimals = decimals(step);
            for n in first.. {
                let value = n as f64 * step;
                if value > to {
                    break;
                }
                let at = view.on_paper([value, value]);
                let at_mm = if of == Side::Easting { at[0] } else { at[1] };
                lines.push(GridLine { of, value, at_mm, label: apart(value, decimals) });
            }
        }
        Ok(Self { intervals, lines })
    }

    /// Where an easting and a northing cross, mm.
    pub fn crossings(&self) -> impl Iterator<Item = [f64; 2]> {
        let of = |side: Side| self.lines.iter().filter(move |line| line.of == side);
        of(Side::Easting).flat_map(move |e| of(Side::Northing).map(move |n| [e.at_mm, n.at_mm]))
    }
}

/// Decimals that tell lines of an interval apart.
fn decimals(step: f64) -> usize {
    (0..6).find(|&d| (step * 10f64.powi(d) - (step * 10f64.powi(d)).round()).abs() < 1e-6).unwrap_or(6)
        as usize
}

/// A number with its thousands apart.
pub(crate) fn apart(value: f64, decimals: usize) -> String {
    let text = format!("{:.decimals$}", value.abs());
    let (whole, rest) = text.split_once('.').map_or((text.as_str(), None), |(w, r)| (w, Some(r)));
    let mut out = String::new();
    for (at, digit) in whole.chars().enumerate() {
        if at > 0 && (whole.len() - at).is_multiple_of(3) {
            out.push('\u{202F}');
        }
        out.push(digit);
    }
    if let Some(rest) = rest {
        out = format!("{out}.{rest}");
    }
    if value < 0.0 { format!("\u{2212}{out}") } else { out }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Rect;
    use proptest::prelude::*;

    fn view(denominator: f64) -> View {
        View {
            frame: Rect { x: 10.0, y: 10.0, width: 180.0, height: 250.0 },
            x: 500_123.0,
            y: 4_760_456.0,
            denominator,
            unit_m: 1.0,
        }
    }

    #[test]
    fn the_interval_is_round_on_the_ground_and_readable_on_paper() {
        for (denominator, expected) in [
            (5_000.0, 200.0),
            (10_000.0, 500.0),
            (25_000.0, 1_000.0),
            (50_000.0, 2_000.0),
            (100_000.0, 5_000.0),
        ] {
            assert_eq!(interval(&view(denominator)), expected, "1:{denominator}");
        }
    }

    #[test]
    fn lines_stand_at_round_coordinates() {
        let grid = Grid::over(&view(25_000.0), [1_000.0; 2]).expect("a grid");
        let eastings: Vec<f64> =
            grid.lines.iter().filter(|l| l.of == Side::Easting).map(|l| l.value).collect();
        assert_eq!(eastings, [498_000.0, 499_000.0, 500_000.0, 501_000.0, 502_000.0]);
        assert_eq!(grid.lines[2].label, "500\u{202F}000");
        // 123 m west of the middle of the frame, at 25 m to a millimetre.
        assert!((grid.lines[2].at_mm - (100.0 - 123.0 / 25.0)).abs() < 1e-9);
        assert_eq!(grid.crossings().count(), 5 * 6);
        let fine = Grid::over(&view(100.0), [2.5; 2]).expect("a grid");
        assert!(fine.lines[0].label.ends_with(".5") || fine.lines[0].label.ends_with(".0"));
    }

    #[test]
    fn a_grid_too_fine_is_refused() {
        for step in [0.0, -5.0, 1e-9, f64::NAN] {
            assert!(Grid::over(&view(25_000.0), [1_000.0, step]).is_err(), "{step}");
        }
    }

    proptest! {
        #[test]
        fn lines_are_never_nearer_than_three_centimetres(d in 200.0..1e7f64) {
            let mm = interval(&view(d)) / view(d).units_a_mm();
            prop_assert!((30.0..75.0).contains(&mm), "{} mm at 1:{}", mm, d);
        }
    }
}
