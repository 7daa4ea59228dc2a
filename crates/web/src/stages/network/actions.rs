//! What a person does to calibrate the network.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::calibration::Side;
use bothros_core::network::Edit;
use bothros_core::{Area, Threshold};
use bothros_products::Quantity;
use bothros_workflow::{Facts, StreamEdit, Verdict};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::{Coordinate, Form, are_coordinates};
use crate::ui::form::{Number, choice};

const THRESHOLD: &str = "threshold-changed";
const TRIALS: &str = "trials-changed";
const SHORTFALLS: &str = "shortfalls-changed";
/// Within which modelled and mapped streams agree.
const TOLERANCE: Number = Number::new("the tolerance", Quantity::Length, 0.0, 100_000.0);
/// The threshold inside an area, typed in hectares or acres.
const WITHIN: Number = Number::new("the threshold", Quantity::SmallArea, 0.0, 1e13);

#[derive(Deserialize)]
pub struct Tolerance {
    tolerance: String,
}

pub async fn tolerance(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Tolerance>,
) -> Result<Response> {
    // Nothing typed: that of the map.
    let typed = match form.tolerance.trim() {
        "" => None,
        text => Some(TOLERANCE.read(text)?),
    };
    bothros_workflow::set_tolerance(&app.store, study, typed).await?;
    Ok(changed(THRESHOLD))
}

#[derive(Deserialize)]
pub struct KeepThreshold {
    name: String,
    reason: String,
}

/// Keeps the study's threshold for all studies.
pub async fn keep_threshold(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<KeepThreshold>,
) -> Result<Response> {
    bothros_workflow::keep_threshold(&app.store, study, &form.name, &form.reason).await?;
    Ok(changed(THRESHOLD))
}

/// Forgets a threshold that was kept.
pub async fn forget_threshold(State(app): State<App>, Path((_, kept)): Path<(i64, i64)>) -> Result<Response> {
    app.store.forget_threshold(kept).await?;
    Ok(changed(THRESHOLD))
}

#[derive(Deserialize)]
pub struct Mark {
    side: Side,
    x: Coordinate,
    y: Coordinate,
    #[serde(default)]
    verdict: String,
    #[serde(default)]
    remark: String,
}

pub async fn mark(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Mark>,
) -> Result<Response> {
    let verdicts = [("", None), ("accepted", Some(Verdict::Accepted)), ("to_mend", Some(Verdict::ToMend))];
    let said = choice("the verdict", &form.verdict, &verdicts)?.map(|v| (v, form.remark.trim().to_owned()));
    bothros_workflow::mark_shortfall(&app.store, study, form.side, &[[form.x.0, form.y.0]], said).await?;
    Ok(changed(SHORTFALLS))
}

/// The threshold of the study's network.
pub(crate) fn threshold_of(facts: &Facts) -> Result<Threshold> {
    Ok(facts.network.ok_or_else(bothros_workflow::Error::not_routed)?.threshold)
}

#[derive(Deserialize)]
pub struct Remark {
    #[serde(default)]
    remark: String,
    #[serde(default)]
    name: String,
}

pub async fn keep(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Remark>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let of = (threshold_of(&facts)?, bothros_workflow::tolerance(&app.store, &facts).await?.m);
    bothros_workflow::keep_trial(&app.store, &app.grids, &app.calibration, study, of, &short(&form.remark)?)
        .await?;
    Ok(changed(TRIALS))
}

fn short(text: &str) -> Result<String> {
    match text.trim() {
        text if text.chars().count() > 1000 => Err(WebError::refused("a remark may have 1 000 characters")),
        text => Ok(text.to_owned()),
    }
}

pub async fn describe(
    State(app): State<App>,
    Path((study, trial)): Path<(i64, i64)>,
    Form(form): Form<Remark>,
) -> Result<Response> {
    let (name, remark) = (form.name.trim(), short(&form.remark)?);
    bothros_workflow::describe_trial(&app.store, study, trial, name, &remark).await?;
    Ok(changed(TRIALS))
}

pub async fn delete(State(app): State<App>, Path((study, trial)): Path<(i64, i64)>) -> Result<Response> {
    bothros_workflow::delete_trial(&app.store, study, trial).await?;
    Ok(changed(TRIALS))
}

#[derive(Deserialize)]
pub struct Justification {
    #[serde(default)]
    justification: String,
}

pub async fn choose(
    State(app): State<App>,
    Path((study, trial)): Path<(i64, i64)>,
    Form(form): Form<Justification>,
) -> Result<Response> {
    bothros_workflow::choose_trial(&app.store, &app.grids, study, trial, &form.justification).await?;
    Ok(changed(THRESHOLD))
}

#[derive(Deserialize)]
pub struct EditForm {
    #[serde(default)]
    kind: String,
    /// corners or one place, as JSON
    #[serde(default)]
    line: String,
    /// threshold inside an area, hectares or acres
    #[serde(default)]
    area: String,
    #[serde(default)]
    reason: String,
    /// number of an edit to take back
    remove: Option<usize>,
}

pub async fn edit(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<EditForm>,
) -> Result<Response> {
    let new = match form.kind.as_str() {
        "" => None,
        kind => {
            let points: Vec<[f64; 2]> = serde_json::from_str(&form.line)
                .map_err(|_| WebError::refused("the place of the edit cannot be read"))?;
            if !are_coordinates(points.iter().flatten()) {
                return Err(WebError::refused("the place of the edit lies nowhere on the earth"));
            }
            let first = *points.first().ok_or_else(|| WebError::refused("the edit has no place"))?;
            let edit = match kind {
                "prune" => Edit::Prune { at: first, area: None },
                "head" => Edit::Head { at: first },
                "within" => {
                    let area = Area::m2(WITHIN.read(&form.area)?);
                    Edit::Within { ring: points, area }
                }
                other => return Err(WebError::refused(format!("there is no edit called “{other}”"))),
            };
            Some(StreamEdit { edit, reason: form.reason.trim().chars().take(300).collect() })
        }
    };
    bothros_workflow::edit_streams(&app.store, &app.grids, study, new, form.remove).await?;
    Ok(changed(THRESHOLD))
}
