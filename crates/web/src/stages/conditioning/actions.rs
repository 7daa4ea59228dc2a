//! Actions of the Conditioning stage: the review of barriers, choices, weights.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_core::conditioning::{Burn, OwnGround, TreatSinks};
use bothros_core::routing::Method;
use bothros_products::Quantity;
use bothros_workflow::{BarrierFacts, Choices, Decision, Facts, ReviewChoice};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::upload::receive;
use crate::map::measure::read_line;
use crate::ui::form::{Number, choice};

use super::desk::BREACH_OFFERED_M;

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

const BURN_DEPTH: Number = Number::new("the depth of burning", Quantity::Depth, 0.0, DEEPEST).above();
const BUFFER: Number = Number::new("the buffer", Quantity::Length, 0.0, LARGEST).above();
const BUFFER_DEPTH: Number = Number::new("the depth of the buffer", Quantity::Depth, 0.0, DEEPEST).above();
const OWN_EVERY: Number = Number::new("the step of the own ground", Quantity::Count, 0.0, LARGEST).above();
const OWN_CONTOURS: Number =
    Number::new("the interval of own contours", Quantity::Depth, 0.0, LARGEST).above();
const TENSION: Number = Number::new("the tension", Quantity::Ratio, 0.0, 1.0);
const BLEND: Number = Number::new("the blending", Quantity::Length, 0.0, LARGEST);
const MAX_FILL: Number = Number::new("the greatest depth of fill", Quantity::Depth, 0.0, LARGEST);
const BREACH_LENGTH: Number = Number::new("the greatest length of a breach", Quantity::Length, 0.0, LARGEST);
const BREACH_DEPTH: Number = Number::new("the greatest depth of a breach", Quantity::Depth, 0.0, LARGEST);

/// The standard deviation of a DEM's error.
const VERTICAL_ERROR: Number = Number::new("the vertical error", Quantity::Depth, 0.01, 20.0);

#[derive(Deserialize)]
pub struct ReviewForm {
    #[serde(default)]
    vertical_error: String,
    on_coarse_cells: Option<String>,
}

/// Chooses how the review looks for crossings.
pub async fn choose_review(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<ReviewForm>,
) -> Result<Response> {
    let choice = ReviewChoice {
        vertical_error_m: VERTICAL_ERROR.read_optional(&form.vertical_error)?,
        on_coarse_cells: form.on_coarse_cells.is_some(),
    };
    bothros_workflow::choose_review(&app.store, study, choice).await?;
    Ok(changed(STUDY))
}

impl ChoicesForm {
    /// The choices; what the form does not show stays as it was.
    fn read(self, before: &Choices) -> Result<Choices> {
        let depth = || BURN_DEPTH.read(&self.burn_depth_m);
        let burn = match self.burn.as_str() {
            "" => None,
            "trench" => Some(Burn::Trench { depth_m: depth()? }),
            "graded" => Some(Burn::Graded {
                depth_m: depth()?,
                buffer_m: BUFFER.read(&self.burn_buffer_m)?,
                buffer_depth_m: BUFFER_DEPTH.read(&self.burn_buffer_depth_m)?,
            }),
            "normalised" => Some(Burn::Normalised),
            "carve" => Some(Burn::Carve),
            other => return Err(WebError::refused(format!("there is no way of burning called “{other}”"))),
        };
        let (own, tension, blend_m) = match self.rebuild_own.as_deref() {
            None => (before.rebuild_own, before.rebuild_tension, before.rebuild_blend_m),
            Some(own) => {
                let own = match own {
                    "cells" => {
                        let every = OWN_EVERY.read(&self.rebuild_step)?;
                        OwnGround::Cells { every: every.round().max(1.0) as usize }
                    }
                    "contours" => OwnGround::Contours { interval_m: OWN_CONTOURS.read(&self.rebuild_step)? },
                    _ => OwnGround::Nothing,
                };
                let tension = TENSION.read(&self.rebuild_tension)?;
                (own, tension, BLEND.read_optional(&self.rebuild_blend_m)?.unwrap_or(0.0))
            }
        };
        let routing = match self.routing.as_str() {
            "" => before.routing,
            name => Method::from_name(name)
                .ok_or_else(|| WebError::refused(format!("there is no way of routing called “{name}”")))?,
        };
        // What is offered counts once sinks are breached; until then it is no choice.
        let breached = matches!(self.sinks, TreatSinks::Breach | TreatSinks::BreachThenFill);
        let offered = |depth: &f64| before.breach_depth_m.is_none() && *depth == BREACH_OFFERED_M;
        let breach_depth_m =
            BREACH_DEPTH.read_optional(&self.breach_depth_m)?.filter(|depth| breached || !offered(depth));
        Ok(Choices {
            routing,
            rebuild_own: own,
            rebuild_tension: tension,
            rebuild_blend_m: blend_m,
            fill_voids: self.fill_voids.is_some(),
            level_lakes: self.level_lakes.is_some(),
            sinks: self.sinks,
            max_fill_depth_m: MAX_FILL.read_optional(&self.max_fill_depth_m)?,
            breach_length_m: BREACH_LENGTH.read_optional(&self.breach_length_m)?,
            breach_depth_m,
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
    let decisions = [
        ("", None),
        ("breach", Some(Decision::Breach)),
        ("fill", Some(Decision::Fill)),
        ("keep", Some(Decision::Keep)),
    ];
    let decision = choice("the decision", &form.decision, &decisions)?;
    let line = form.line.as_deref().map(read_line).transpose()?;
    bothros_workflow::decide(&app.store, study, barrier, decision, line).await?;
    Ok(changed(BARRIERS))
}

pub async fn route(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::start_routing(&app.store, study).await?;
    Ok(changed(STUDY))
}
