//! The evidence for a threshold: a chart, and what each line of it suggests, in words.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_products::Quantity;
use bothros_workflow::{Evidence, Facts, tolerance_m};

mod curves;
mod slopes;
mod words;

use slopes::slope_chart;
pub(crate) use words::in_words;
use words::{Ground, against, area, minus, suggestions, verdict};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::chart::figure;
use crate::ui::page;
use crate::ui::quantity;

/// What the charts and their text show.
struct Shown {
    mapped: usize,
    chart: Option<String>,
    /// cells of the DEM in a square metre
    cells_per_m2: f64,
    low: u32,
    high: u32,
    tolerance: String,
    suggests: Vec<(String, Option<u32>)>,
    verdict: String,
    against: Vec<String>,
    tests: Vec<(String, String, String, String)>,
    beside: Vec<String>,
    slopes: Option<String>,
}

#[derive(Template)]
#[template(path = "stages/network/evidence.html")]
struct Part {
    study: i64,
    e: Shown,
}

fn shown(facts: &Facts, e: &Evidence) -> Result<Shown> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let frame = &terrain.frame;
    let cells = |s: Option<&bothros_core::calibration::Scores>| s.map_or(1, |s| s.threshold.as_cells());
    let now = facts.network.map(|n| n.threshold);
    let verdict = verdict(e, frame);
    let unit = Quantity::Drop.typed(quantity::units());
    let tests = e.drops.iter().filter_map(|(t, test)| {
        let test = (*test)?;
        Some((
            area(*t, frame),
            format!("{}, {}", quantity::whole(test.streams.0), quantity::whole(test.streams.1)),
            format!("{:.1}, {:.1}", unit.of(test.mean_m.0), unit.of(test.mean_m.1)),
            minus(test.t),
        ))
    });
    Ok(Shown {
        mapped: e.mapped_lines,
        chart: figure(&curves::agreement(e, frame, now, &format!("Agreement over thresholds. {verdict}"))),
        cells_per_m2: 1.0 / frame.cell_area().as_m2(),
        low: cells(e.scores.first()),
        high: cells(e.scores.last()).max(2),
        tolerance: quantity::typed(Quantity::Length, e.tolerance_m),
        suggests: suggestions(e, frame),
        against: against(Ground::of(facts), e),
        tests: tests.collect(),
        beside: curves::beside(e, frame, now).iter().filter_map(figure).collect(),
        slopes: slope_chart(e, frame).as_ref().and_then(figure),
        verdict,
    })
}

/// The evidence over all thresholds, at a tolerance.
pub async fn evidence_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance_m(&facts)).await?;
    page(&Part { study, e: shown(&facts, &found)? })
}
