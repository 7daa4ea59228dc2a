//! Planning and beginning a batch from a form.

use askama::Template;
use axum::extract::{Multipart, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_store::MadeBy;
use bothros_workflow::{BatchWish, Given, PlannedBatch, WhatVaries, plan_batch, read_values};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::NAME;
use crate::http::upload::{Received, receive};
use crate::ui::page;

/// Rows of the form in which a key varies.
pub(super) const ROWS: usize = 3;
/// A zip with a recipe may hold this many times an upload.
const UNPACKED: u64 = 4;

/// Runs that are shown before a batch is begun.
const SHOWN: usize = 100;

#[derive(Template)]
#[template(path = "batches/plan.html")]
struct Plan {
    count: usize,
    keys: Vec<String>,
    runs: Vec<(String, Vec<String>)>,
}

/// Reads the form, and plans what it asks for; with the name that was given, and what came with the form, which runs read.
async fn planned(app: &App, form: Multipart) -> Result<(PlannedBatch, String, Received)> {
    let limit = app.options.upload_limit;
    let received = receive(form, limit).await?;
    let given = match (received.recipe.clone(), received.text("study").parse::<i64>()) {
        (Some(path), _) => Given::Zip(path),
        (None, Ok(study)) => Given::Study(study),
        (None, Err(_)) => {
            return Err(WebError::refused("choose a study, or a recipe with its files, that is to be run"));
        }
    };
    let mut varies = WhatVaries { dems: received.files.clone(), ..WhatVaries::default() };
    for row in 1..=ROWS {
        let (key, values) = (received.text(&format!("key_{row}")), received.text(&format!("values_{row}")));
        let key = if key == "own" { received.text(&format!("own_{row}")) } else { key };
        match (key.is_empty(), values.is_empty()) {
            (true, true) => {}
            (true, false) => return Err(WebError::refused(format!("{values}: say what takes these values"))),
            (false, _) => varies.keys.push(read_values(&key, &values)?),
        }
    }
    varies.each_point = !received.text("each_point").is_empty();
    varies.each_dem = !received.text("each_dem").is_empty();
    if (varies.each_point || varies.each_dem) && matches!(given, Given::Zip(_)) {
        return Err(WebError::refused(
            "pour points and DEMs of a study have runs of their own only where a study is run",
        ));
    }
    if varies.each_dem && !varies.dems.is_empty() {
        return Err(WebError::refused("give DEMs, or take those of the study, not both"));
    }
    let name = received.text("name").chars().take(NAME).collect();
    let wish = BatchWish { given, varies, limit: limit.saturating_mul(UNPACKED) };
    Ok((plan_batch(&app.store, wish).await?, name, received))
}

/// The runs that a form asks for.
pub async fn plan(State(app): State<App>, form: Multipart) -> Result<Response> {
    let (planned, _, _received) = planned(&app, form).await?;
    let plan = &planned.plan;
    let row = |run: &bothros_workflow::PlannedRun| {
        let of =
            |key: &String| run.own.iter().find(|(k, _)| k == key).map_or(String::new(), |(_, v)| v.clone());
        (run.name.clone(), plan.keys.iter().map(of).collect())
    };
    let runs = plan.runs.iter().take(SHOWN).map(row).collect();
    page(&Plan { count: plan.runs.len(), keys: plan.keys.clone(), runs })
}

/// Begins what a form asks for.
pub async fn begin(State(app): State<App>, form: Multipart) -> Result<Response> {
    let (planned, name, _received) = planned(&app, form).await?;
    let name = if name.is_empty() { "Batch".to_owned() } else { name };
    let batch = planned.begin(&app.store, &name, MadeBy::Page).await?;
    Ok((StatusCode::NO_CONTENT, [("hx-redirect", format!("/batches/{}", batch.id))]).into_response())
}
