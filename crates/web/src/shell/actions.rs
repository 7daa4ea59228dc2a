//! What a person does to a study as a whole. Each answers with nothing but a nod, or with one clear message;
//! the page then fetches anew what has changed.

use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_core::Threshold;
use bothros_store::Inverse;
use bothros_workflow::{Facts, PourPointPlace, put_back_settings};
use serde::Deserialize;
use serde_json::json;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;

#[derive(Deserialize)]
pub struct Description {
    name: String,
    #[serde(default)]
    description: String,
}

pub async fn describe(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Description>,
) -> Result<Response> {
    let name = form.name.trim();
    if name.is_empty() {
        return Err(WebError::refused("a study needs a name"));
    }
    app.store.describe_study(study, name, form.description.trim()).await?;
    Ok(changed(STUDY))
}

pub async fn duplicate(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let name = app.store.study(study).await?.name;
    app.store.duplicate_study(study, &format!("{name}, copy")).await?;
    Ok(changed(STUDY))
}

pub async fn delete(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    if let Some(job) = app.store.active_job(study).await? {
        app.store.cancel_job(job.id).await?;
    }
    app.store.delete_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn purge(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.purge_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn restore(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.restore_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn undo(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.study(study).await?;
    let Some(last) = app.store.take_last_change(study).await? else {
        return Err(WebError::refused("there is nothing left to undo"));
    };
    match last.inverse {
        Inverse::RemovePourPoint { id } => app.store.set_pour_point_deleted(study, id, true).await?,
        Inverse::RestorePourPoint { id } => app.store.set_pour_point_deleted(study, id, false).await?,
        Inverse::ChangePourPoint { id, name, x, y } => {
            let place = PourPointPlace { name, x, y };
            let new = bothros_workflow::place_pour_point(&app.store, &app.grids, study, place).await?;
            app.store.change_pour_point(study, id, new).await?;
        }
        Inverse::RemoveLayer { id } => app.store.set_layer_deleted(study, id, true).await?,
        Inverse::RestoreLayer { id } => app.store.set_layer_deleted(study, id, false).await?,
        Inverse::RemoveBackdrop { id } => app.store.set_backdrop_deleted(study, id, true).await?,
        Inverse::RestoreBackdrop { id } => app.store.set_backdrop_deleted(study, id, false).await?,
        Inverse::PlaceBackdrop { id, placing } => {
            bothros_workflow::put_backdrop_back(&app.store, study, id, placing).await?
        }
        Inverse::RemoveFeature { layer, feature } => {
            app.store.remove_feature(study, layer, feature).await?;
        }
        Inverse::RestoreFeature { layer, feature } => {
            app.store.restore_feature(study, layer, serde_json::from_value(feature)?).await?;
        }
        Inverse::Decide { barrier, decision, line } => {
            app.store.decide(study, barrier, decision.as_deref(), line).await?;
        }
        Inverse::SetSettings { settings } => {
            put_back_settings(&app.store, study, settings).await?;
            // Changes of streams by hand are among the settings: the network's figures follow.
            if let Some(network) = Facts::of(&app.store.study(study).await?)?.network {
                bothros_workflow::set_threshold(&app.store, &app.grids, study, network.threshold, false)
                    .await?;
            }
        }
        Inverse::Prepare { preparing } => {
            bothros_workflow::prepare(&app.store, study, bothros_store::kept::read(preparing)?, false)
                .await?;
        }
        Inverse::SetSource { source } => {
            bothros_workflow::restore_source(&app.store, study, source).await?;
        }
        Inverse::RemoveTrial { id } => app.store.set_trial_deleted(study, id, true).await?,
        Inverse::RestoreTrial { id } => app.store.set_trial_deleted(study, id, false).await?,
        Inverse::ChooseTrial { id, justification, cells } => {
            app.store.choose_trial(study, id.map(|id| (id, justification))).await?;
            if let Some(cells) = cells {
                let threshold = Threshold::cells(cells);
                bothros_workflow::set_threshold(&app.store, &app.grids, study, threshold, false).await?;
            }
        }
        Inverse::SetThreshold { cells } => {
            bothros_workflow::set_threshold(&app.store, &app.grids, study, Threshold::cells(cells), false)
                .await?;
        }
    }
    app.store.log(study, "Study", &format!("Undone: {}", last.label), json!({}), Default::default()).await?;
    let mut headers = HeaderMap::new();
    let told = json!({ "study-changed": true, "points-changed": true, "undone": last.label }).to_string();
    // Names may hold letters that a header cannot.
    let ascii: String = told
        .chars()
        .map(|c| if c.is_ascii() { c.to_string() } else { format!("\\u{:04x}", c as u32 & 0xFFFF) })
        .collect();
    headers.insert("HX-Trigger", HeaderValue::from_str(&ascii).unwrap_or(HeaderValue::from_static(STUDY)));
    Ok((StatusCode::NO_CONTENT, headers).into_response())
}

pub async fn cancel(State(app): State<App>, Path((study, job)): Path<(i64, i64)>) -> Result<Response> {
    if app.store.job(job).await?.study_id != study {
        return Err(WebError::nothing("this study has no such job"));
    }
    app.store.cancel_job(job).await?;
    Ok(StatusCode::NO_CONTENT.into_response())
}

/// All that is kept of a study but rasters and files, for one that cannot be opened any more.
pub async fn raw(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let text = app.store.raw_study(study).await?;
    let headers = [
        (header::CONTENT_TYPE, "application/json".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"study_{study}.json\"")),
    ];
    Ok((headers, text).into_response())
}
