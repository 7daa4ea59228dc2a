//! What conditioning and its review found, in words.

use bothros_core::Frame;
use bothros_core::calibration::Side;
use bothros_core::conditioning::{BreachLineOutcome, Remark, StreamFit};
use bothros_products::Quantity;
use bothros_workflow::{ConditionedFacts, ShortfallMark};

use crate::shell::desk::{Fact, fact};
use crate::ui::chart::{Axis, Chart, Place, Series, Shape, Tone, figure};
use crate::ui::quantity;

/// What is wrong with a mapped stream, and where.
pub fn misfit(fit: &StreamFit) -> (String, [f64; 2]) {
    let length = quantity::length(fit.length_m);
    if fit.rise_m >= fit.off_m * fit.off_share {
        (format!("rises by {} (length {length})", quantity::metres(fit.rise_m)), fit.rise_at)
    } else {
        let share = fit.off_share * 100.0;
        (
            format!(
                "{share:.0} % of {length} off its valley, {} above it at most",
                quantity::metres(fit.off_m)
            ),
            fit.off_at,
        )
    }
}

/// How a stream leaves the low ground, and where.
pub fn astray(place: &bothros_core::network::Astray, frame: &Frame) -> (String, f64, f64) {
    let (x, y) = frame.centre(place.at);
    let told = format!(
        "stands out by {} over {}; {} drain there",
        quantity::metres(place.above_m),
        quantity::length(place.length_m),
        quantity::area(place.contributing.as_m2())
    );
    (told, x, y)
}

/// A place sent here from the Network stage, in words.
pub fn to_mend(mark: &ShortfallMark) -> (String, f64, f64) {
    let side = match mark.side {
        Side::Extra => "a stream that is not mapped",
        Side::Missed => "a mapped stream that is not modelled",
    };
    let remark = if mark.remark.is_empty() { String::new() } else { format!(": {}", mark.remark) };
    (format!("{side}{remark}"), mark.at[0], mark.at[1])
}

pub fn remark(told: &Remark, frame: &Frame) -> (String, Option<(f64, f64)>) {
    match told {
        Remark::VoidsFilled { cells } => {
            (format!("{} cells of voids were filled from their rim.", quantity::whole(*cells)), None)
        }
        Remark::RebuildOutside { area } => {
            (format!("Area {} to be rebuilt lies outside the DEM.", area + 1), None)
        }
        Remark::RebuildUphill { area, line } => (
            format!(
                "In area {} breach line {} runs uphill between the elevations of its ends: it was not followed.",
                area + 1,
                line + 1
            ),
            None,
        ),
        Remark::LakeOutside { lake } => {
            (format!("Lake {} lies where there is no elevation.", lake + 1), None)
        }
        Remark::StreamsOutside => {
            ("The mapped streams lie where there is no elevation: nothing was burned.".into(), None)
        }
        Remark::WallOutside { wall } => {
            (format!("Wall {} lies where there is no elevation.", wall + 1), None)
        }
        Remark::BreachLine { line, outcome } => (
            match outcome {
                BreachLineOutcome::Uphill { upstream_m, downstream_m } => format!(
                    "Breach line {} runs uphill, from {} to {}: it was not applied. Draw it the other way round.",
                    line + 1,
                    quantity::metres(*upstream_m),
                    quantity::metres(*downstream_m)
                ),
                BreachLineOutcome::Outside => format!(
                    "Breach line {} begins or ends where there is no elevation: it was not applied.",
                    line + 1
                ),
                BreachLineOutcome::Lowered { .. } => format!("Breach line {} was applied.", line + 1),
            },
            None,
        ),
        Remark::NoSinkThere { basin } => {
            (format!("Closed basin {}: there is no sink at its place.", basin + 1), None)
        }
        Remark::DeepSinksKept { sinks } => (
            format!(
                "{} sinks deeper than the limit were kept; what drains to them goes no further.",
                quantity::whole(sinks.len() as u64)
            ),
            sinks.first().map(|s| frame.centre(s.bottom)),
        ),
        Remark::SinksLeft { bottoms } => (
            format!(
                "{} sinks could not be breached within the limits and still do not drain.",
                quantity::whole(bottoms.len() as u64)
            ),
            bottoms.first().map(|&c| frame.centre(c)),
        ),
    }
}

pub fn results(done: &ConditionedFacts, frame: &Frame) -> Vec<Fact> {
    let moved = &done.routing;
    let at = |cell: Option<bothros_core::Cell>| cell.map(|c| frame.centre(c));
    let range = |(low, high): (f32, f32)| format!("{} to {}", quantity::metres(low), quantity::metres(high));
    let mut out = vec![
        fact(
            "Cut",
            format!("{} in {} cells", quantity::volume(moved.cut_m3), quantity::whole(moved.cells_cut)),
        ),
        Fact { at: at(done.deepest_cut), ..fact("Deepest cut", quantity::metres(moved.deepest_cut_m)) },
        fact(
            "Fill",
            format!("{} in {} cells", quantity::volume(moved.fill_m3), quantity::whole(moved.cells_filled)),
        ),
        Fact { at: at(done.highest_fill), ..fact("Highest fill", quantity::metres(moved.highest_fill_m)) },
        fact("Elevations before", range(done.range_before_m)),
        fact("Elevations after", range(done.range_after_m)),
        fact("Sinks that stay open", quantity::whole(done.open as u64)),
    ];
    if let Some((below, all)) = done.beds {
        let share = below as f64 / all.max(1) as f64 * 100.0;
        out.push(fact(
            "Burned beds below both banks",
            format!("{} % of {} cells", quantity::real(share, 3), quantity::whole(all)),
        ));
    }
    out
}

/// How many cells changed by how much, as a chart.
pub fn histogram(done: &ConditionedFacts) -> Option<String> {
    done.histogram.iter().find(|cells| **cells > 0)?;
    let (low, high) = (-done.routing.deepest_cut_m, done.routing.highest_fill_m);
    let width = (high - low) / done.histogram.len() as f64;
    let bars = |side: &dyn Fn(f64) -> bool| -> Vec<(f64, Option<f64>)> {
        let all = done.histogram.iter().zip(0..).map(|(&cells, i)| (low + width * i as f64, cells));
        let side = all.filter(|(from, _)| side(from + width / 2.0));
        side.map(|(from, cells)| (from, (cells > 0).then_some(cells as f64))).collect()
    };
    let shape = Shape::Bars { width };
    let chart =
        Chart::new("cut_and_fill", "Cells by change of elevation; heights by the logarithm of their number")
            .size(350.0, 130.0)
            .x(Axis::of("change of elevation", Quantity::Depth, quantity::units()))
            .y(Axis::plain("cells").logarithmic().from(0.5))
            .series(Series::new("cut", Tone::Clay, shape.clone(), bars(&|middle| middle < 0.0)))
            .series(Series::new("fill", Tone::Indigo, shape, bars(&|middle| middle >= 0.0)))
            .mark("zero", "", Tone::Ink, Place::AtX(0.0));
    figure(&chart)
}
