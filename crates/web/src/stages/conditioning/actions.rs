//! What a person does on the Conditioning stage: the review of barriers, choices, weights.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_core::conditioning::{Burn, OwnGround, TreatSinks};
use bothros_core::routing::Method;
use bothros_workflow::{BarrierFacts, Choices, Decision, Facts};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::{Form, number_within};
use crate::http::upload::receive;
use crate::map::measure::read_line;

/// The page then fetches the barriers anew, but not the whole map.
pub const BARRIERS: &str = "barriers-changed";

pub(crate) async fn prepared(app: &App, study: i64) -> Result<Arc<Facts>> {
    let facts = app.facts(study).await?;
    if facts.terrain.is_none() {
        return Err(WebError::refused("the DEM is not ready yet: see the findings of the Terrain stage"));
    }
    Ok(facts)
}

pub async fn review(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::start_review(&app.store, study).await?;
    Ok(changed(STUDY))
}

/// The choices as the form sends them; an empty field sets no limit.
#[derive(Deserialize)]
pub struct ChoicesForm {
    #[serde(default)]
    fill_voids: Option<String>,
    #[serde(default)]
    level_lakes: Option<String>,
    sinks: TreatSinks,
    max_fill_depth_m: String,
    breach_length_m: String,
    breach_depth_m: String,
    burn: String,
    burn_depth_m: String,
    burn_buffer_m: String,
    burn_buffer_depth_m: String,
    #[serde(default)]
    routing: String,
    #[serde(default)]
    rebuild_own: Option<String>,
    #[serde(default)]
    rebuild_step: String,
    #[serde(default)]
    rebuild_tension: String,
    #[serde(default)]
    rebuild_blend_m: String,
}

/// No length or depth of a choice is larger, metres.
const LARGEST: f64 = 100_000.0;
/// No trench is deeper, metres.
const DEEPEST: f64 = 1_000.0;

fn limit(text: &str, what: &str) -> Result<Option<f64>> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    Ok(Some(number_within(text, what, 0.0..=LARGEST, "m")?))
}

fn positive(text: &str, what: &str) -> Result<f64> {
    let value = number_within(text, what, 0.0..=LARGEST, "m")?;
    if value > 0.0 { Ok(value) } else { Err(WebError::refused(format!("{what} must be greater than 0"))) }
}

impl ChoicesForm {
    /// The choices; what the form does not show stays as it was.
    fn read(self, before: &Choices) -> Result<Choices> {
        let deep = |text: &str, what: &str| {
            number_within(text, what, 0.0..=DEEPEST, "m").and_then(|_| positive(text, what))
        };
        let depth = || deep(&self.burn_depth_m, "the depth of burning");
        let burn = match self.burn.as_str() {
            "" => None,
            "trench" => Some(Burn::Trench { depth_m: depth()? }),
            "graded" => Some(Burn::Graded {
                depth_m: depth()?,
                buffer_m: positive(&self.burn_buffer_m, "the buffer")?,
                buffer_depth_m: deep(&self.burn_buffer_depth_m, "the depth of the buffer")?,
            }),
            "normalised" => Some(Burn::Normalised),
            "carve" => Some(Burn::Carve),
            other => return Err(WebError::refused(format!("there is no way of burning called “{other}”"))),
        };
        let (own, tension, blend_m) = match self.rebuild_own.as_deref() {
            None => (before.rebuild_own, before.rebuild_tension, before.rebuild_blend_m),
            Some(own) => {
                let step = || positive(&self.rebuild_step, "the step of the own ground");
                let own = match own {
                    "cells" => OwnGround::Cells { every: step()?.round().max(1.0) as usize },
                    "contours" => OwnGround::Contours { interval_m: step()? },
                    _ => OwnGround::Nothing,
                };
                let tension = number_within(&self.rebuild_tension, "the tension", 0.0..=1.0, "")?;
                (own, tension, limit(&self.rebuild_blend_m, "the blending")?.unwrap_or(0.0))
            }
        };
        let routing = match self.routing.as_str() {
            "" => before.routing,
            name => Method::from_name(name)
                .ok_or_else(|| WebError::refused(format!("there is no way of routing called “{name}”")))?,
        };
        Ok(Choices {
            routing,
            rebuild_own: own,
            rebuild_tension: tension,
            rebuild_blend_m: blend_m,
            fill_voids: self.fill_voids.is_some(),
            level_lakes: self.level_lakes.is_some(),
            sinks: self.sinks,
            max_fill_depth_m: limit(&self.max_fill_depth_m, "the greatest depth of fill")?,
            breach_length_m: limit(&self.breach_length_m, "the greatest length of a breach")?,
            breach_depth_m: limit(&self.breach_depth_m, "the greatest depth of a breach")?,
            burn,
        })
    }
}

pub async fn choose(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<ChoicesForm>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let wanted = form.read(&facts.settings.conditioning)?;
    bothros_workflow::choose_conditioning(&app.store, study, wanted).await?;
    Ok(changed(STUDY))
}

/// Takes the file of weights (`dem`, as every raster is sent), what they mean, and where they come from.
pub async fn weights(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    prepared(&app, study).await?;
    let received = receive(form, app.options.upload_limit).await?;
    let file = received.files.first().ok_or_else(|| WebError::refused("choose a raster of weights"))?;
    let (meaning, provenance) = (received.text("meaning"), received.provenance());
    bothros_workflow::set_weights(&app.store, study, &file.file, &file.path, &meaning, provenance).await?;
    Ok(changed(STUDY))
}

pub async fn remove_weights(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::remove_weights(&app.store, study).await?;
    Ok(changed(STUDY))
}

/// All barriers, for the map.
pub async fn barriers(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let all = app.store.barriers(study).await?;
    let all: Vec<BarrierFacts> = all.iter().map(BarrierFacts::of).collect::<bothros_workflow::Result<_>>()?;
    Ok(Json(json!(
        all.iter()
            .map(|b| json!({
                "id": b.id, "crest": b.barrier.crest, "line": b.line, "score": b.barrier.score,
                "decision": b.decision, "found": b.found, "drawn": b.drawn,
            }))
            .collect::<Vec<_>>()
    )))
}

#[derive(Deserialize)]
pub struct Deciding {
    /// breach, fill, keep, or empty to leave it open again
    decision: String,
    /// a breach line drawn instead of the proposed one, as JSON
    line: Option<String>,
}

pub async fn decide(
    State(app): State<App>,
    Path((study, barrier)): Path<(i64, i64)>,
    Form(form): Form<Deciding>,
) -> Result<Response> {
    prepared(&app, study).await?;
    let decision = match form.decision.as_str() {
        "" => None,
        name => {
            Some(Decision::from_name(name).ok_or_else(|| WebError::refused("decide: breach, fill or keep"))?)
        }
    };
    let line = form.line.as_deref().map(read_line).transpose()?;
    bothros_workflow::decide(&app.store, study, barrier, decision, line).await?;
    Ok(changed(BARRIERS))
}

pub async fn route(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::start_routing(&app.store, study).await?;
    Ok(changed(STUDY))
}
