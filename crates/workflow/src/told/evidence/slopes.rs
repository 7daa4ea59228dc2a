//! The picture of slope against contributing area.

use crate::Evidence;
use bothros_core::Frame;
use bothros_products::Quantity;

use crate::told::quantity;
use bothros_charts::{Axis, Chart, Series, Shape, Tone};

/// Slope against contributing area, both by their logarithms, with the two lines that meet.
pub fn slope_chart(e: &Evidence, frame: &Frame) -> Option<Chart> {
    let cell_m2 = frame.cell_area().as_m2();
    let classes = e.slopes.iter().filter(|c| c.slope > 0.0);
    let points: Vec<(f64, Option<f64>)> = classes.map(|c| (c.cells * cell_m2, Some(c.slope))).collect();
    let (first, last) = (points.first()?.0, points.last()?.0);
    let bend = e.bend.map(|bend| {
        let at = bend.threshold.as_cells() as f64 * cell_m2;
        let line = [first, at, last].map(|area| {
            let exponent = if area <= at { bend.exponents.0 } else { bend.exponents.1 };
            (area, Some(bend.slope * (area / at).powf(exponent)))
        });
        Series::line("two lines that meet", Tone::Clay, line.to_vec()).untold()
    });
    let chart = Chart::new("slope_area", "Mean slope against contributing area, both on logarithmic scales")
        .x(Axis::of("contributing area", Quantity::SmallArea, quantity::units()).logarithmic())
        .y(Axis::of("mean slope", Quantity::Slope, quantity::units()).logarithmic())
        .series(Series::new("mean slope", Tone::Water, Shape::Points, points));
    Some(match bend {
        Some(bend) => chart.series(bend),
        None => chart,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Threshold;
    use bothros_core::calibration::{Bend, SlopeClass};

    fn chart(slopes: &[(f64, f64)], bend: Option<Bend>) -> Option<bothros_charts::Drawn> {
        let frame = Frame { rows: 10, cols: 10, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let class = |&(cells, slope): &(f64, f64)| SlopeClass { cells, slope, count: 9 };
        let nothing = crate::told::evidence::tests_support::evidence();
        let e = Evidence { slopes: slopes.iter().map(class).collect(), bend, ..nothing };
        slope_chart(&e, &frame)?.draw()
    }

    #[test]
    fn points_lie_in_the_frame_and_the_bend_on_its_threshold() {
        let bend = Bend { threshold: Threshold::cells(100), slope: 0.1, exponents: (0.0, -0.5), left: 0.1 };
        let svg = chart(&[(1.0, 0.1), (100.0, 0.1), (10_000.0, 0.01)], Some(bend)).unwrap();
        // From 1 to 10,000 cells of 100 m², from 1 to 10 %: the bend is in the middle.
        let [left, right, top, bottom] = svg.plot;
        let middle = (left + right) / 2.0;
        for (x, y) in [(left, top), (middle, top), (right, bottom)] {
            let dot = format!("cx=\"{x:.1}\" cy=\"{y:.1}\"");
            assert!(svg.svg.contains(&dot), "{dot} in {}", svg.svg);
        }
        // Level up to the bend, then falling by half a power of ten for each.
        let line = format!("M{left:.1} {top:.1} L{middle:.1} {top:.1} L{right:.1} {bottom:.1}");
        assert!(svg.svg.contains(&line), "{line} in {}", svg.svg);
        assert_eq!(svg.table.heads, ["contributing area, km²", "mean slope, %"]);
    }

    #[test]
    fn nothing_to_draw_draws_nothing() {
        assert!(chart(&[], None).is_none());
        assert!(chart(&[(10.0, 0.0), (100.0, 0.0)], None).is_none());
        // One class alone, or all of one slope, is still a picture of numbers.
        for slopes in [&[(10.0, 0.2)][..], &[(10.0, 0.1), (100.0, 0.1)]] {
            let svg = chart(slopes, None).unwrap();
            assert!(!svg.svg.contains("NaN") && !svg.svg.contains("inf"), "{}", svg.svg);
        }
    }
}
