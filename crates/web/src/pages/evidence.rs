//! The evidence for a threshold: a chart, and what each line of it suggests, in words.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::{Frame, Threshold};
use bothros_work::{Evidence, Facts, tolerance_m};

use super::page;
use crate::App;
use crate::error::{Result, WebError};
use crate::numbers;

/// What the chart and its text show.
struct Shown {
    mapped: usize,
    low: u32,
    high: u32,
    said: String,
    tolerance: String,
    lines: Vec<(f64, String)>,
    marks: Vec<(f64, String)>,
    range: Option<(f64, f64)>,
    matched: String,
    found: String,
    both: String,
    drop: Option<f64>,
    now: f64,
    suggests: Vec<(String, Option<u32>)>,
    verdict: String,
    against: Vec<String>,
    tests: Vec<(String, String, String, String)>,
    beside: Option<Beside>,
    slopes: Option<String>,
}

/// Density, headwaters and distance, each on its own scale, under the shares.
struct Beside {
    density: String,
    mapped_density: Option<f64>,
    top: String,
    heads: String,
    most: String,
    away: Option<(String, String)>,
}

#[derive(Template)]
#[template(path = "evidence.html")]
struct Part {
    study: i64,
    e: Shown,
}

/// The plot within its picture: left, right, top, bottom.
const PLOT: [f64; 4] = [34.0, 334.0, 10.0, 160.0];

fn place(cells: f64, low: f64, high: f64) -> f64 {
    let [left, right, ..] = PLOT;
    let share = (cells / low).ln() / (high / low).ln().max(1e-9);
    left + (right - left) * share.clamp(0.0, 1.0)
}

fn height(share: f64) -> f64 {
    let [_, _, top, bottom] = PLOT;
    bottom + (top - bottom) * share
}

fn area(threshold: Threshold, frame: &Frame) -> String {
    numbers::area(threshold.as_area(frame).as_m2())
}

/// A range of thresholds, in words.
fn span((low, high): (Threshold, Threshold), frame: &Frame) -> String {
    match low == high {
        true => format!("only {}", area(low, frame)),
        false => format!("from {} to {}", area(low, frame), area(high, frame)),
    }
}

/// What each line of evidence suggests.
fn suggestions(e: &Evidence, frame: &Frame) -> Vec<(String, Option<u32>)> {
    let mut out = Vec::new();
    if let Some(best) = e.by_agreement() {
        let score = e.scores.iter().find(|s| s.threshold == best.best);
        let percent = score.map_or(0.0, |s| s.agreement() * 100.0);
        out.push((
            format!(
                "Agreement with mapped streams is best, {percent:.0} %, at {}; within five points of it {}.",
                area(best.best, frame),
                span(best.range, frame)
            ),
            Some(best.best.as_cells()),
        ));
    }
    if let Some(dense) = e.by_density() {
        let density = e.scores.first().map_or(0.0, |s| s.mapped_m / 1000.0 / e.footprint_km2);
        out.push((
            format!(
                "The density of the mapped streams, {} km/km², is met at {}.",
                numbers::real(density, 3),
                area(dense, frame)
            ),
            Some(dense.as_cells()),
        ));
    }
    match e.bend {
        Some(bend) => out.push((
            format!(
                "Slope begins to fall with contributing area at {}, {}: the exponent turns from {} to {}.",
                area(bend.threshold, frame),
                if bend.is_plain() { "plainly" } else { "not plainly" },
                signed(bend.exponents.0),
                signed(bend.exponents.1)
            ),
            Some(bend.threshold.as_cells()),
        )),
        None => out.push((
            "Slope and contributing area show no bend: this line of evidence is silent.".into(),
            None,
        )),
    }
    match e.by_drop() {
        Some(constant) => {
            let test = e.drops.iter().find(|(t, _)| *t == constant).and_then(|(_, test)| *test);
            let t = test.map_or(String::new(), |test| format!(" (t = {}, below 2 in size)", minus(test.t)));
            out.push((
                format!("Streams of all orders fall by about as much from {}{t}.", area(constant, frame)),
                Some(constant.as_cells()),
            ));
        }
        None => out.push((
            "Drops are constant at none of the thresholds that were tried: this line of evidence is silent."
                .into(),
            None,
        )),
    }
    out
}

fn minus(value: f64) -> String {
    format!("{value:.2}").replace('-', "\u{2212}")
}

fn signed(value: f64) -> String {
    format!("{value:+.2}").replace('-', "\u{2212}")
}

/// What the evidence says, as a text to begin a justification with.
pub(super) fn in_words(facts: &Facts, e: &Evidence) -> Result<String> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let mut parts = vec![verdict(e, &terrain.frame)];
    parts.extend(suggestions(e, &terrain.frame).into_iter().map(|(text, _)| text));
    let against = against(facts, e);
    if !against.is_empty() {
        parts.push("Against it speaks:".into());
        parts.extend(against);
    }
    Ok(parts.join(" "))
}

/// Slope against contributing area, both by their logarithms, with the two lines that meet.
fn slope_chart(e: &Evidence, frame: &Frame) -> Option<String> {
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
            numbers::plain(10f64.powi(power))
        );
    }
    let cell = frame.cell_area().as_m2().log10();
    for power in (left + cell).ceil() as i32..=(right + cell).floor() as i32 {
        let at = x(power as f64 - cell);
        svg += &format!(
            "<line class=\"grid\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"10\" y2=\"130\"/><text x=\"{at:.1}\" y=\"143\" text-anchor=\"middle\">{}</text>",
            numbers::area(10f64.powi(power))
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

/// Where the lines of evidence meet, in one sentence.
fn verdict(e: &Evidence, frame: &Frame) -> String {
    let Some(best) = e.by_agreement() else {
        return match e.by_drop() {
            Some(constant) => format!(
                "With no mapped streams to hold it against, {} is where the network’s own form puts it: look at it on the map before you \
                 rely on it.",
                area(constant, frame)
            ),
            None => "There is no evidence for one threshold over another yet: add mapped streams.".into(),
        };
    };
    let within = |t: Option<Threshold>| t.is_some_and(|t| t >= best.range.0 && t <= best.range.1);
    let range = span(best.range, frame);
    match (within(e.by_density()), within(e.by_drop())) {
        (true, true) => format!("All three lines of evidence meet {range}: that is defensible."),
        (true, false) => {
            format!(
                "Agreement and density meet {range}: that is defensible, though the drops do not confirm it."
            )
        }
        (false, true) => {
            format!(
                "Agreement and drops meet {range}: that is defensible, with another density than the map’s."
            )
        }
        (false, false) => {
            format!(
                "Agreement with the map is best {range}: defensible by the map alone, as neither density nor drops confirm it."
            )
        }
    }
}

/// A network so many times as dense as the map makes the map a coarse one. (Ours.)
const COARSER: f64 = 1.5;

/// What makes the evidence weak here.
fn against(facts: &Facts, e: &Evidence) -> Vec<String> {
    let mut out = Vec::new();
    let Some(terrain) = &facts.terrain else { return out };
    let cells = terrain.summary.cells.max(1) as f64;
    let level = terrain.quality.level_cells as f64 / cells;
    if level > 0.02 {
        out.push(format!("{:.0} % of the ground is level: streams over it are conventions.", level * 100.0));
    }
    if let Some(routing) = &facts.routing {
        let raised = routing.sinks.cells_raised as f64 / cells;
        if raised > 0.01 {
            out.push(format!(
                "{:.1} % of the ground was filled, and flow over it is drawn by rule.",
                raised * 100.0
            ));
        }
    }
    if let Some(step) = terrain.quality.step_m {
        out.push(format!("Elevations come in steps of {step} m: small drops are rounded away."));
    }
    if let Some(best) = e.by_agreement()
        && let Some(score) = e.scores.iter().find(|s| s.threshold == best.best)
    {
        if score.agreement() < 0.6 {
            out.push(format!(
                "Even at its best only {:.0} % agrees: look for barriers, a shifted map, or a wrong tolerance.",
                score.agreement() * 100.0
            ));
        }
        // Where drops become constant the network's own form puts its channels; a map that is much sparser left some out.
        let by_form = e.by_drop().and_then(|t| e.scores.iter().find(|s| s.threshold >= t));
        if let Some(form) = by_form
            && form.modelled_m > COARSER * form.mapped_m
        {
            out.push(format!(
                "The mapped streams are coarser than the network may be: where drops become constant, streams are {} times as dense \
                 as mapped ones. A map that leaves out headwaters calls for too high a threshold.",
                numbers::real(form.modelled_m / form.mapped_m, 2)
            ));
        }
        if score.found() < 0.9 && e.scores.first().is_some_and(|s| s.found() < 0.95) {
            let out_of_reach = e.scores.first().map_or(0.0, |s| (1.0 - s.found()) * 100.0);
            out.push(format!("{out_of_reach:.0} % of the mapped length is found at no threshold: it lies off the valleys of this DEM."));
        }
    }
    out
}

fn shown(facts: &Facts, e: &Evidence) -> Result<Shown> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let frame = &terrain.frame;
    let cells = |s: Option<&bothros_core::calibration::Scores>| s.map_or(1, |s| s.threshold.as_cells());
    let (low, high) = (cells(e.scores.first()), cells(e.scores.last()).max(2));
    let at = |t: Threshold| place(t.as_cells() as f64, low as f64, high as f64);
    let line = |of: &dyn Fn(&bothros_core::calibration::Scores) -> f64| {
        e.scores
            .iter()
            .map(|s| format!("{:.1},{:.1}", at(s.threshold), height(of(s))))
            .collect::<Vec<_>>()
            .join(" ")
    };
    // Whole powers of ten of the area.
    let area_m2 = |cells: f64| cells * frame.cell_area().as_m2();
    let powers = area_m2(low as f64).log10().ceil() as i32..=area_m2(high as f64).log10().floor() as i32;
    let marks = powers.map(|p| {
        let m2 = 10f64.powi(p);
        (place(m2 / frame.cell_area().as_m2(), low as f64, high as f64), numbers::area(m2))
    });
    // A label at the very edge would be cut off.
    let marks = marks.filter(|(x, _)| *x < PLOT[1] - 14.0);
    let suggests = suggestions(e, frame);
    let verdict = verdict(e, frame);
    let tests = e.drops.iter().filter_map(|(t, test)| {
        let test = (*test)?;
        Some((
            area(*t, frame),
            format!("{}, {}", numbers::whole(test.streams.0), numbers::whole(test.streams.1)),
            format!("{:.1}, {:.1}", test.mean_m.0, test.mean_m.1),
            minus(test.t),
        ))
    });
    let over = |values: Vec<f64>, most: f64| {
        let height = |v: f64| 70.0 - 60.0 * (v / most.max(1e-9)).min(1.0);
        let points =
            e.scores.iter().zip(values).map(|(s, v)| format!("{:.1},{:.1}", at(s.threshold), height(v)));
        points.collect::<Vec<_>>().join(" ")
    };
    let beside = e.scores.first().map(|first| {
        let densities: Vec<f64> = e.scores.iter().map(|s| s.modelled_m / 1000.0 / e.footprint_km2).collect();
        let mapped = (first.mapped_m > 0.0).then(|| first.mapped_m / 1000.0 / e.footprint_km2);
        // The smallest thresholds give any number of streams; what matters lies around the mapped density.
        let top = mapped.map_or(densities.iter().copied().fold(0.0, f64::max), |m| 4.0 * m);
        let heads: Vec<f64> = e.scores.iter().map(|s| (s.headwaters.max(1) as f64).log10()).collect();
        let most = heads.iter().copied().fold(1.0, f64::max).ceil();
        let known: Option<Vec<f64>> = e.scores.iter().map(|s| s.away_m).collect();
        let away = known.map(|away| {
            let far = away.iter().copied().fold(0.0, f64::max);
            (over(away, far), numbers::length(far))
        });
        Beside {
            density: over(densities, top),
            mapped_density: mapped.map(|m| 70.0 - 60.0 * m / top),
            top: format!("{} km/km²", numbers::real(top, 2)),
            heads: over(heads, most),
            most: numbers::whole(10u64.pow(most as u32)),
            away,
        }
    });
    Ok(Shown {
        beside,
        slopes: slope_chart(e, frame),
        mapped: e.mapped_lines,
        low,
        high,
        said: format!("Agreement over thresholds. {verdict}"),
        tolerance: numbers::plain(e.tolerance_m),
        lines: [0.0, 0.25, 0.5, 0.75, 1.0].map(|s| (height(s), format!("{:.0} %", s * 100.0))).into(),
        marks: marks.collect(),
        range: e.by_agreement().map(|s| (at(s.range.0), (at(s.range.1) - at(s.range.0)).max(1.0))),
        matched: line(&|s| s.matched()),
        found: line(&|s| s.found()),
        both: line(&|s| s.agreement()),
        drop: e.by_drop().map(at),
        now: facts.network.map_or(PLOT[0], |n| at(n.threshold)),
        suggests,
        verdict,
        against: against(facts, e),
        tests: tests.collect(),
    })
}

/// The evidence over all thresholds, at a tolerance.
pub async fn evidence_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance_m(&facts)).await?;
    page(&Part { study, e: shown(&facts, &found)? })
}
