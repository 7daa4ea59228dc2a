//! The picture of the test of drops.

use crate::Evidence;
use bothros_core::Frame;
use bothros_core::calibration::{DIFFERENT, DropTest, FEWEST_STREAMS};
use bothros_products::Quantity;

use crate::told::quantity;
use bothros_charts::{Axis, Chart, Place, Series, Shape, Tone};

/// How far the axis reaches beyond the band; what lies further out is drawn at its end.
const MOST: f64 = 8.0;

/// Student's t of the drops over thresholds, with the band in which they count as the same, and what each test rests on.
pub fn drops_chart(e: &Evidence, frame: &Frame) -> Option<Chart> {
    let tests: Vec<(f64, DropTest)> =
        e.drops.iter().filter_map(|(t, test)| Some((t.as_area(frame).as_m2(), (*test)?))).collect();
    if tests.is_empty() {
        return None;
    }
    let counts = |test: &DropTest| test.streams.0.min(test.streams.1) >= FEWEST_STREAMS;
    let of = |counted: bool| -> Vec<(f64, Option<f64>)> {
        tests
            .iter()
            .filter(|(_, test)| counts(test) == counted)
            .map(|&(at, test)| (at, Some(test.t)))
            .collect()
    };
    let span = |sign: f64| {
        tests.iter().map(|(_, test)| (test.t * sign).ceil()).fold(DIFFERENT + 1.0, f64::max).min(MOST) * sign
    };
    let t = Axis::plain("Student’s t of the difference").from(span(-1.0)).to(span(1.0));
    let unit = Quantity::Drop.typed(quantity::units());
    let number = |of: fn(&DropTest) -> u64| -> Vec<(f64, String, f64)> {
        tests.iter().map(|(at, test)| (*at, quantity::whole(of(test)), of(test) as f64)).collect()
    };
    let mean = |of: fn(&DropTest) -> f64| -> Vec<(f64, String, f64)> {
        let told = |test: &DropTest| unit.of(of(test));
        tests.iter().map(|(at, test)| (*at, format!("{:.1}", told(test)), told(test))).collect()
    };
    let symbol = unit.symbol;
    let title = "Student’s t of the drops of streams of the first order against those of higher orders, over thresholds";
    let mut chart = Chart::new("drops", title)
        .size(350.0, 190.0)
        .x(Axis::of("threshold", Quantity::SmallArea, quantity::units()).logarithmic())
        .y(t)
        .series(Series::new("t", Tone::Water, Shape::LineAndPoints, of(true)))
        .series(Series::new(
            format!("t of fewer than {FEWEST_STREAMS} streams of one kind, which does not count"),
            Tone::Muted,
            Shape::Points,
            of(false),
        ))
        .mark(
            "same",
            "a difference that chance alone may make",
            Tone::Moss,
            Place::FromY(-DIFFERENT, DIFFERENT),
        )
        .behind("streams of order 1", number(|test| test.streams.0))
        .behind("of higher orders", number(|test| test.streams.1))
        .behind(format!("mean drop of order 1, {symbol}"), mean(|test| test.mean_m.0))
        .behind(format!("of higher orders, {symbol}"), mean(|test| test.mean_m.1));
    if let Some(constant) = e.by_drop() {
        let place = Place::AtX(constant.as_area(frame).as_m2());
        chart = chart.mark("constant", "constant from here on", Tone::Moss, place);
    }
    Some(chart)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::told::evidence::tests_support::evidence;
    use bothros_core::Threshold;

    #[test]
    fn each_test_has_its_point_its_band_and_what_lies_behind_it() {
        let frame = Frame { rows: 100, cols: 100, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let test = |t: f64, streams| DropTest { t, streams: (streams, streams / 2), mean_m: (11.0, 12.5) };
        let drops = [(100, -5.0, 400), (1000, -1.5, 90), (2000, -0.5, 60), (10_000, 0.8, 8)];
        let drops = drops.map(|(cells, t, n)| (Threshold::cells(cells), Some(test(t, n))));
        let e = Evidence { drops: drops.into(), ..evidence() };
        let drawn = drops_chart(&e, &frame).unwrap().draw().unwrap();
        assert!(drawn.svg.contains("data-mark=\"same\""), "{}", drawn.svg);
        assert_eq!(drawn.table.heads.len(), 7);
        assert_eq!(drawn.table.rows.len(), 4);
        let told = |row: usize, col: usize| drawn.table.rows[row][col].as_ref().map(|c| c.0.clone());
        assert_eq!((told(0, 3), told(0, 4)), (Some("400".into()), Some("200".into())));
        assert_eq!((told(1, 5), told(1, 6)), (Some("11.0".into()), Some("12.5".into())));
        // Of four and eight streams nothing is concluded.
        assert_eq!((told(3, 1), told(3, 2).is_some()), (None, true));
        assert!(drops_chart(&evidence(), &frame).is_none());
    }
}
