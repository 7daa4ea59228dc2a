//! The evidence for a threshold: a chart, and what each line of it suggests, in words.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::Threshold;
use bothros_products::Quantity;
use bothros_workflow::{Evidence, Facts, tolerance_m};

mod slopes;
mod words;

use slopes::slope_chart;
pub(crate) use words::in_words;
use words::{Ground, against, area, minus, suggestions, verdict};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::page;
use crate::ui::quantity;

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
#[template(path = "stages/network/evidence.html")]
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
        (place(m2 / frame.cell_area().as_m2(), low as f64, high as f64), quantity::area(m2))
    });
    // A label at the very edge would be cut off.
    let marks = marks.filter(|(x, _)| *x < PLOT[1] - 14.0);
    let suggests = suggestions(e, frame);
    let verdict = verdict(e, frame);
    let tests = e.drops.iter().filter_map(|(t, test)| {
        let test = (*test)?;
        Some((
            area(*t, frame),
            format!("{}, {}", quantity::whole(test.streams.0), quantity::whole(test.streams.1)),
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
            (over(away, far), quantity::length(far))
        });
        Beside {
            density: over(densities, top),
            mapped_density: mapped.map(|m| 70.0 - 60.0 * m / top),
            top: quantity::density(top),
            heads: over(heads, most),
            most: quantity::whole(10u64.pow(most as u32)),
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
        tolerance: quantity::typed(Quantity::Length, e.tolerance_m),
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
        against: against(Ground::of(facts), e),
        tests: tests.collect(),
    })
}

/// The evidence over all thresholds, at a tolerance.
pub async fn evidence_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance_m(&facts)).await?;
    page(&Part { study, e: shown(&facts, &found)? })
}
