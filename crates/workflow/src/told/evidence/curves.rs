//! Charts of the network's properties over thresholds.

use crate::{Evidence, Judged};
use bothros_core::calibration::Scores;
use bothros_core::{Frame, Threshold};
use bothros_products::Quantity;

use super::words::agreement_that_counts;

use crate::told::quantity;
use bothros_charts::{Axis, Chart, Place, Series, Shape, Tone};

/// Where the threshold lies on the axis, m².
fn at(threshold: Threshold, frame: &Frame) -> f64 {
    threshold.as_area(frame).as_m2()
}

fn points(e: &Evidence, frame: &Frame, of: impl Fn(&Scores) -> Option<f64>) -> Vec<(f64, Option<f64>)> {
    e.scores.iter().map(|s| (at(s.threshold, frame), of(s))).collect()
}

fn thresholds() -> Axis {
    Axis::of("threshold", Quantity::SmallArea, quantity::units()).logarithmic()
}

/// Agreement with mapped streams over thresholds, the range that is as good, where drops are constant, and the threshold
/// now; dragging on it moves the threshold. Where mapped streams were burned, the range is that of what was not.
pub fn agreement(
    e: &Evidence,
    judged: Option<&Judged>,
    frame: &Frame,
    now: Option<Threshold>,
    title: &str,
) -> Chart {
    let mapped = e.mapped_lines > 0;
    let share = |of: fn(&Scores) -> f64| points(e, frame, |s| mapped.then(|| of(s)));
    let mut chart = Chart::new("evidence", title).size(350.0, 200.0).x(thresholds()).y(Axis::of(
        "",
        Quantity::Share,
        quantity::units(),
    )
    .from(0.0)
    .to(1.0));
    if let Some(best) = agreement_that_counts(e, judged) {
        let range = Place::FromX(at(best.range.0, frame), at(best.range.1, frame));
        chart = chart.mark("range", "within five points of the best", Tone::Moss, range);
    }
    // Without mapped streams the axis is there all the same, for the threshold and the drops.
    let matched = share(Scores::matched);
    let matched = match mapped {
        true => Series::new("correctness: modelled length near mapped", Tone::Amber, Shape::Dashed, matched),
        false => Series::new("", Tone::Muted, Shape::Points, matched).untold(),
    };
    chart = chart.series(matched);
    if mapped {
        chart = chart
            .series(Series::new(
                "completeness: mapped length near modelled",
                Tone::Alarm,
                Shape::Dotted,
                share(Scores::found),
            ))
            .series(match e.burned {
                true => Series::new(
                    "agreement with what was burned",
                    Tone::Muted,
                    Shape::Line,
                    share(Scores::agreement),
                ),
                false => Series::line("agreement", Tone::Water, share(Scores::agreement)),
            });
    }
    if let Some(judged) = judged {
        let of = |scores: &[Scores]| -> Vec<(f64, Option<f64>)> {
            scores.iter().map(|s| (at(s.threshold, frame), Some(s.agreement()))).collect()
        };
        chart = chart.series(Series::line("agreement without burning", Tone::Water, of(&judged.unburned)));
        if let Some(left_out) = &judged.left_out {
            let series = Series::new("agreement of what was left out", Tone::Clay, Shape::Line, of(left_out));
            chart = chart.series(series);
        }
    }
    if let Some(constant) = e.by_drop() {
        let place = Place::AtX(at(constant, frame));
        chart = chart.mark("constant", "drops constant from here on", Tone::Moss, place);
    }
    match now {
        Some(now) => chart.mark("now", "threshold now", Tone::Ink, Place::AtX(at(now, frame))),
        None => chart,
    }
}

/// Density, headwaters and distance from mapped streams over thresholds, a chart each.
pub fn beside(e: &Evidence, frame: &Frame, now: Option<Threshold>) -> Vec<Chart> {
    let Some(first) = e.scores.first() else { return Vec::new() };
    let chart = |name, title: &str, y: Axis, series: Series| {
        let chart = Chart::new(name, title).size(350.0, 130.0).x(thresholds()).y(y).series(series);
        match now {
            Some(now) => chart.mark("now", "threshold now", Tone::Ink, Place::AtX(at(now, frame))),
            None => chart,
        }
    };
    let mapped = (first.mapped_m > 0.0).then(|| first.mapped_m / 1000.0 / e.covered_km2);
    let density = points(e, frame, |s| Some(s.modelled_m / 1000.0 / e.covered_km2));
    let axis = Axis::of("drainage density", Quantity::Density, quantity::units()).from(0.0);
    // The smallest thresholds give any number of streams; what matters lies around the mapped density.
    let axis = match mapped {
        Some(mapped) => axis.to(4.0 * mapped),
        None => axis,
    };
    let mut densities = chart(
        "density",
        "Drainage density over thresholds",
        axis,
        Series::line("density", Tone::Water, density),
    );
    if let Some(mapped) = mapped {
        densities = densities.mark("mapped", "of the mapped streams", Tone::Alarm, Place::AtY(mapped));
    }
    let heads = points(e, frame, |s| (s.headwaters > 0).then_some(s.headwaters as f64));
    let mut all = vec![
        densities,
        chart(
            "headwaters",
            "Number of headwaters over thresholds, on a logarithmic scale",
            Axis::plain("headwaters").logarithmic(),
            Series::line("headwaters", Tone::Clay, heads),
        ),
    ];
    let away = points(e, frame, |s| s.away_m);
    if away.iter().any(|p| p.1.is_some()) {
        all.push(chart(
            "distance",
            "Mean distance of matched modelled streams from mapped ones over thresholds",
            Axis::of("mean distance", Quantity::Depth, quantity::units()).from(0.0),
            Series::line("mean distance", Tone::Moss, away),
        ));
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: Frame = Frame { rows: 100, cols: 100, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };

    use crate::told::evidence::tests_support::evidence as nothing;

    fn evidence(mapped_m: f64) -> Evidence {
        let scores = [(100, 9000.0), (1000, 4000.0), (10_000, 1000.0)].map(|(cells, modelled_m)| Scores {
            threshold: Threshold::cells(cells),
            modelled_m,
            matched_m: modelled_m.min(mapped_m) * 0.9,
            mapped_m,
            found_m: modelled_m.min(mapped_m) * 0.8,
            headwaters: 1 + (modelled_m / 500.0) as u64,
            away_m: (mapped_m > 0.0).then_some(4.0),
            length_m: modelled_m,
        });
        Evidence { scores: scores.into(), mapped_lines: usize::from(mapped_m > 0.0), ..nothing() }
    }

    #[test]
    fn the_axis_is_in_area_and_the_threshold_stands_at_its_place() {
        let now = Some(Threshold::cells(1000));
        let drawn = agreement(&evidence(5000.0), None, &FRAME, now, "Agreement").draw().unwrap();
        // From 100 to 10,000 cells of 100 m²: from 0.01 to 1 km², and the threshold in the middle.
        assert!(drawn.logarithmic && (drawn.ends.0 - 0.01).abs() < 1e-9 && (drawn.ends.1 - 1.0).abs() < 1e-9);
        let middle = (drawn.plot[0] + drawn.plot[1]) / 2.0;
        assert!(drawn.svg.contains(&format!("data-mark=\"now\" x1=\"{middle:.1}\"")), "{}", drawn.svg);
        assert_eq!(drawn.table.rows.len(), 3);
        assert_eq!(drawn.table.heads.len(), 4);
    }

    #[test]
    fn without_mapped_streams_nothing_is_claimed_of_them() {
        let e = evidence(0.0);
        let drawn = agreement(&e, None, &FRAME, Some(Threshold::cells(100)), "").draw().unwrap();
        assert!(!drawn.svg.contains("agreement") && drawn.table.heads.len() == 1, "{:?}", drawn.table.heads);
        // With streams that were burned the range is not theirs.
        let burned = Evidence { burned: true, ..evidence(5000.0) };
        let drawn = agreement(&burned, None, &FRAME, None, "").draw().unwrap();
        assert!(!drawn.svg.contains("data-mark=\"range\""), "{}", drawn.svg);
        let judged = Judged { unburned: evidence(5000.0).scores, left_out: None, parts: 1 };
        let drawn = agreement(&burned, Some(&judged), &FRAME, None, "").draw().unwrap();
        assert!(drawn.svg.contains("data-mark=\"range\"") && drawn.svg.contains("without burning"));
        assert_eq!(beside(&e, &FRAME, None).len(), 2);
        assert_eq!(beside(&evidence(5000.0), &FRAME, None).len(), 3);
    }
}
