//! The picture of slope against contributing area.

use bothros_core::Frame;
use bothros_workflow::Evidence;

use crate::ui::quantity;

/// Slope against contributing area, both by their logarithms, with the two lines that meet.
pub(crate) fn slope_chart(e: &Evidence, frame: &Frame) -> Option<String> {
    let points: Vec<(f64, f64)> =
        e.slopes.iter().filter(|c| c.slope > 0.0).map(|c| (c.cells.log10(), c.slope.log10())).collect();
    let (left, right) = (points.first()?.0, points.last()?.0);
    let low = points.iter().map(|p| p.1).fold(f64::INFINITY, f64::min).floor();
    let high = points.iter().map(|p| p.1).fold(f64::NEG_INFINITY, f64::max).ceil().max(low + 1.0);
    let x = |log: f64| 40.0 + 290.0 * (log - left) / (right - left).max(1e-9);
    let y = |log: f64| 130.0 - 120.0 * (log - low) / (high - low);
    let mut svg = String::from(
        "<svg class=\"slope-area\" viewBox=\"0 0 340 160\" role=\"img\" aria-label=\"Mean slope against contributing area, both on logarithmic scales\">",
    );
    for power in low as i32..=high as i32 {
        let at = y(power as f64);
        svg += &format!(
            "<line class=\"grid\" x1=\"40\" x2=\"330\" y1=\"{at:.1}\" y2=\"{at:.1}\"/><text x=\"36\" y=\"{:.1}\" text-anchor=\"end\">{}</text>",
            at + 3.5,
            quantity::plain(10f64.powi(power))
        );
    }
    let cell = frame.cell_area().as_m2().log10();
    for power in (left + cell).ceil() as i32..=(right + cell).floor() as i32 {
        let at = x(power as f64 - cell);
        svg += &format!(
            "<line class=\"grid\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"10\" y2=\"130\"/><text x=\"{at:.1}\" y=\"143\" text-anchor=\"middle\">{}</text>",
            quantity::area(10f64.powi(power))
        );
    }
    for (log, slope) in &points {
        svg += &format!("<circle cx=\"{:.1}\" cy=\"{:.1}\" r=\"2.2\"/>", x(*log), y(*slope));
    }
    if let Some(bend) = e.bend {
        let (at, level) = ((bend.threshold.as_cells() as f64).log10(), bend.slope.log10());
        let line = [left, at, right].map(|log| {
            let slope = level + (log - at) * if log <= at { bend.exponents.0 } else { bend.exponents.1 };
            format!("{:.1},{:.1}", x(log), y(slope).clamp(6.0, 134.0))
        });
        svg += &format!("<polyline points=\"{}\"/>", line.join(" "));
    }
    svg += "<text x=\"330\" y=\"156\" text-anchor=\"end\">contributing area; mean slope, m/m, upwards</text>";
    Some(svg + "</svg>")
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Threshold;
    use bothros_core::calibration::{Bend, SlopeClass};

    fn chart(slopes: &[(f64, f64)], bend: Option<Bend>) -> Option<String> {
        let frame = Frame { rows: 10, cols: 10, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let class = |&(cells, slope): &(f64, f64)| SlopeClass { cells, slope, count: 9 };
        let e = Evidence {
            tolerance_m: 30.0,
            scores: Vec::new(),
            drops: Vec::new(),
            figures: Vec::new(),
            slopes: slopes.iter().map(class).collect(),
            bend,
            mapped_lines: 0,
            footprint_km2: 1.0,
        };
        slope_chart(&e, &frame)
    }

    #[test]
    fn points_lie_in_the_frame_and_the_bend_on_its_threshold() {
        let bend = Bend { threshold: Threshold::cells(100), slope: 0.1, exponents: (0.0, -0.5), left: 0.1 };
        let svg = chart(&[(1.0, 0.1), (100.0, 0.1), (10_000.0, 0.01)], Some(bend)).unwrap();
        // From 1 to 10,000 cells over 290 units, from 0.01 to 0.1 over 120.
        for circle in ["cx=\"40.0\" cy=\"10.0\"", "cx=\"185.0\" cy=\"10.0\"", "cx=\"330.0\" cy=\"130.0\""] {
            assert!(svg.contains(circle), "{circle} in {svg}");
        }
        // Level up to the bend, then falling by half a power of ten for each.
        assert!(svg.contains("<polyline points=\"40.0,10.0 185.0,10.0 330.0,130.0\"/>"), "{svg}");
        // A cell is 100 m²: whole powers of ten from there on.
        assert!(
            svg.contains(">100 m²</text>")
                && svg.contains(">1.00 ha</text>")
                && svg.contains(">1.00 km²</text>")
        );
    }

    #[test]
    fn nothing_to_draw_draws_nothing() {
        assert!(chart(&[], None).is_none());
        assert!(chart(&[(10.0, 0.0), (100.0, 0.0)], None).is_none());
        // One class alone, or all of one slope, is still a picture of numbers.
        for slopes in [&[(10.0, 0.2)][..], &[(10.0, 0.1), (100.0, 0.1)]] {
            let svg = chart(slopes, None).unwrap();
            assert!(!svg.contains("NaN") && !svg.contains("inf"), "{svg}");
        }
    }
}
