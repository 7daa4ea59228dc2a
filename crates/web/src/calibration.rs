//! What a person does to calibrate the network, and the lines that the map shows for it.

use axum::Json;
use axum::extract::{Form, Path, Query, State};
use axum::response::Response;
use bothros_core::calibration::Side;
use bothros_core::network::Edit;
use bothros_core::{Area, Threshold};
use bothros_store::{Inverse, LayerRole, Shape};
use bothros_work::{Facts, StreamEdit, TrialLine, Verdict, tolerance_m};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::actions::{changed, number};
use crate::error::{Result, WebError};

const THRESHOLD: &str = "threshold-changed";
const TRIALS: &str = "trials-changed";
const SHORTFALLS: &str = "shortfalls-changed";

#[derive(Deserialize)]
pub struct Tolerance {
    tolerance: String,
}

pub async fn tolerance(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Tolerance>,
) -> Result<Response> {
    bothros_work::set_tolerance(&app.store, study, number(&form.tolerance, "the tolerance")?).await?;
    Ok(changed(THRESHOLD))
}

#[derive(Deserialize)]
pub struct Mark {
    side: Side,
    x: f64,
    y: f64,
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
    let said = match form.verdict.as_str() {
        "accepted" => Some((Verdict::Accepted, form.remark.trim().to_owned())),
        "to_mend" => Some((Verdict::ToMend, form.remark.trim().to_owned())),
        "" => None,
        other => return Err(WebError::refused(format!("“{other}” is no verdict"))),
    };
    bothros_work::mark_shortfall(&app.store, study, form.side, &[[form.x, form.y]], said).await?;
    Ok(changed(SHORTFALLS))
}

/// The threshold of the study's network.
pub(crate) fn threshold_of(facts: &Facts) -> Result<Threshold> {
    let network = facts.network.ok_or_else(|| {
        WebError::refused("there is no flow accumulation yet: condition and route flow first")
    })?;
    Ok(network.threshold)
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
    let facts = Facts::of(&app.store.study(study).await?)?;
    let of = (threshold_of(&facts)?, tolerance_m(&facts));
    bothros_work::keep_trial(&app.store, &app.grids, &app.calibration, study, of, &short(&form.remark)?)
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
    let name = form.name.trim();
    let fits = name.len() <= 24 && name.starts_with(|c: char| c.is_ascii_lowercase());
    if !fits || !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') {
        return Err(WebError::refused(
            "a trial’s name has at most 24 lower-case letters, digits and underscores, a letter first: it becomes the name of files",
        ));
    }
    app.store.describe_trial(study, trial, name, &short(&form.remark)?).await?;
    Ok(changed(TRIALS))
}

pub async fn delete(State(app): State<App>, Path((study, trial)): Path<(i64, i64)>) -> Result<Response> {
    let name = app.store.trial(study, trial).await?.name;
    app.store.set_trial_deleted(study, trial, true).await?;
    let text = format!("Trial {name} deleted");
    app.store.remember(study, &text, &Inverse::RestoreTrial { id: trial }).await?;
    app.store.log(study, "Network", &text, json!({}), Default::default()).await?;
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
    bothros_work::choose_trial(&app.store, &app.grids, study, trial, &form.justification).await?;
    Ok(changed(THRESHOLD))
}

#[derive(Deserialize)]
pub struct EditForm {
    #[serde(default)]
    kind: String,
    /// corners or one place, as JSON
    #[serde(default)]
    line: String,
    /// threshold inside an area, hectares
    #[serde(default)]
    hectares: String,
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
            let first = *points.first().ok_or_else(|| WebError::refused("the edit has no place"))?;
            let edit = match kind {
                "prune" => Edit::Prune { at: first },
                "head" => Edit::Head { at: first },
                "within" => {
                    let area = Area::m2(number(&form.hectares, "the threshold")? * 1e4);
                    Edit::Within { ring: points, area }
                }
                other => return Err(WebError::refused(format!("there is no edit called “{other}”"))),
            };
            Some(StreamEdit { edit, reason: form.reason.trim().chars().take(300).collect() })
        }
    };
    bothros_work::edit_streams(&app.store, &app.grids, study, new, form.remove).await?;
    Ok(changed(THRESHOLD))
}

/// A part of the map, and how finely it is drawn.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct View {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
    resolution: f64,
    /// threshold, where the network is asked for
    #[serde(default)]
    cells: u32,
}

impl View {
    /// A line thinned to the resolution; nothing where it lies out of sight or has no length left.
    fn seen(&self, line: &[[f64; 2]]) -> Option<Vec<[f64; 2]>> {
        let inside = |p: &&[f64; 2]| {
            p[0] >= self.west && p[0] <= self.east && p[1] >= self.south && p[1] <= self.north
        };
        line.iter().find(inside)?;
        let tolerance = self.resolution * 0.7;
        let mut out: Vec<[f64; 2]> = Vec::new();
        for (at, p) in line.iter().enumerate() {
            let far = |l: &[f64; 2]| (l[0] - p[0]).abs().max((l[1] - p[1]).abs()) >= tolerance;
            if out.last().is_none_or(far) || at + 1 == line.len() {
                out.push(*p);
            }
        }
        (out.len() > 1).then_some(out)
    }
}

/// Stretches drawn at once at most, the longest first.
const LINES_AT_ONCE: usize = 20_000;

fn drawn<'a>(view: View, lines: impl Iterator<Item = (Option<Side>, u8, &'a [[f64; 2]])>) -> Value {
    let seen: Vec<Value> = lines
        .filter_map(|(side, order, line)| {
            Some(json!({ "side": side, "order": order, "line": view.seen(line)? }))
        })
        .take(LINES_AT_ONCE)
        .collect();
    json!({ "lines": seen })
}

/// What is matched, extra and missed in view.
pub async fn agreement(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let threshold = Threshold::cells(view.cells.max(1));
    let tolerance = tolerance_m(&facts);
    let found = app.calibration.comparison(&app.store, &app.grids, study, threshold, tolerance).await?;
    let apart = found.shortfalls.iter().map(|s| (Some(s.side), 0, &s.line[..]));
    let both = found.matched.iter().map(|m| (None, 0, &m.line[..]));
    Ok(Json(drawn(view, apart.chain(both))))
}

/// How far water runs over land before it meets the network at a threshold.
#[derive(Debug, Deserialize)]
pub struct At {
    cells: u32,
}

pub async fn way(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(at): Query<At>,
) -> Result<Json<Value>> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let ways = app.grids.ways(&app.store, &facts, Threshold::cells(at.cells.max(1))).await?;
    Ok(Json(json!({ "mean_m": ways.mean_m, "most_m": ways.most_m })))
}

/// A trial's lines in view.
pub async fn trial_lines(
    State(app): State<App>,
    Path((study, trial)): Path<(i64, i64)>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let lines: Vec<TrialLine> = app.store.trial_lines(study, trial).await?;
    Ok(Json(drawn(view, lines.iter().map(|l| (l.side, l.order, &l.line[..])))))
}

/// The mapped streams in view.
pub async fn mapped(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let mut all = Vec::new();
    for layer in app.store.layers(study).await?.iter().filter(|l| l.role == LayerRole::MappedStreams) {
        all.push(app.layers.get(&app.store, &facts, layer).await?);
    }
    let lines = all.iter().flat_map(|layer| &layer.features).filter_map(|f| match &f.shape {
        Shape::Line(line) => Some((None, 0, &line[..])),
        _ => None,
    });
    Ok(Json(drawn(view, lines)))
}
