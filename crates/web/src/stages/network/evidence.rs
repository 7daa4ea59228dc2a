//! The evidence for a threshold: a chart, and what each line of it suggests, in words.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_products::Quantity;
use bothros_workflow::{Evidence, Facts, Judged, Tolerance, tolerance};
use serde::Deserialize;

use bothros_workflow::evidence::{
    Ground, against, agreement, beside, drops_chart, slope_chart, suggestions, tolerance_told, verdict,
};

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
    /// where it comes from, in words
    tolerance_from: String,
    /// share of the footprint that the map looks at, in words; none where its coverage is not told
    covered: Option<String>,
    /// whether streams were burned, and nothing is known of what was not
    to_judge: bool,
    suggests: Vec<(String, Option<u32>)>,
    verdict: String,
    against: Vec<String>,
    drops: Option<String>,
    /// how far surveyed heads may be off, where there are some
    heads_within: Option<String>,
    beside: Vec<String>,
    slopes: Option<String>,
}

#[derive(Template)]
#[template(path = "stages/network/evidence.html")]
struct Part {
    study: i64,
    e: Shown,
}

fn shown(facts: &Facts, e: &Evidence, judged: Option<&Judged>, tolerance: &Tolerance) -> Result<Shown> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let frame = &terrain.frame;
    let cells = |s: Option<&bothros_core::calibration::Scores>| s.map_or(1, |s| s.threshold.as_cells());
    let now = facts.network.map(|n| n.threshold);
    let verdict = verdict(e, judged, frame);
    let title = format!("Agreement over thresholds. {verdict}");
    Ok(Shown {
        mapped: e.mapped_lines,
        chart: figure(&agreement(e, judged, frame, now, &title)),
        cells_per_m2: 1.0 / frame.cell_area().as_m2(),
        low: cells(e.scores.first()),
        high: cells(e.scores.last()).max(2),
        tolerance: quantity::typed(Quantity::Length, e.tolerance_m),
        tolerance_from: tolerance_told(tolerance),
        covered: (e.covered_km2 < e.footprint_km2).then(|| {
            let share = e.covered_km2 / e.footprint_km2;
            format!(
                "The map looks at {} of the footprint; elsewhere streams are neither extra nor missed.",
                quantity::percent(share)
            )
        }),
        to_judge: e.burned && e.mapped_lines > 0 && judged.is_none(),
        suggests: suggestions(e, judged, frame),
        against: against(Ground::of(facts), e),
        heads_within: e.heads.map(|heads| quantity::typed(Quantity::Length, heads.within_m)),
        drops: drops_chart(e, frame).as_ref().and_then(figure),
        beside: beside(e, frame, now).iter().filter_map(figure).collect(),
        slopes: slope_chart(e, frame).as_ref().and_then(figure),
        verdict,
    })
}

/// Says that flow is being routed again, and begins it.
#[derive(Template)]
#[template(path = "stages/network/judging.html")]
struct Judging {
    study: i64,
}

#[derive(Deserialize)]
pub struct Asked {
    /// whether to say first that it will take a while
    #[serde(default)]
    begin: bool,
    /// whether flow is to be routed again without what was burned
    #[serde(default)]
    judge: bool,
}

/// The evidence over all thresholds, at a tolerance.
pub async fn evidence_part(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(asked): Query<Asked>,
) -> Result<Response> {
    if asked.begin {
        return page(&Judging { study });
    }
    let facts = app.facts(study).await?;
    let tolerance = tolerance(&app.store, &facts).await?;
    let found = app.calibration.evidence(&app.store, &app.grids, study, tolerance.m).await?;
    let judged = match asked.judge && found.burned {
        true => Some(app.calibration.judged(&app.store, &app.grids, study, tolerance.m).await?),
        false => app.calibration.judged_before(&app.store, &app.grids, &facts, tolerance.m).await?,
    };
    page(&Part { study, e: shown(&facts, &found, judged.as_deref(), &tolerance)? })
}
