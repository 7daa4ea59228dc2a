//! The tables of a study: which there are, and each with its rows.

use std::collections::HashMap;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_workflow::Stage;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::shell::rail::is_stale;
use crate::stages;
use crate::ui::table::Asked;

/// The tables of each stage, by its key: name and title, in the order of their tabs.
pub async fn tables() -> Json<Value> {
    let of = |stage: &Stage| -> Vec<Value> {
        let one = |t: &&bothros_products::Table| json!({ "name": t.name, "title": t.title });
        stages::tables(*stage).iter().map(one).collect()
    };
    Json(Stage::ALL.iter().map(|s| (s.key().to_owned(), Value::from(of(s)))).collect())
}

/// One table, as [`Asked`].
pub async fn table(
    State(app): State<App>,
    Path((study, name)): Path<(i64, String)>,
    Query(query): Query<HashMap<String, String>>,
) -> Result<Response> {
    let found = Stage::ALL
        .iter()
        .find_map(|&s| stages::tables(s).iter().find(|t| t.name == name).map(|t| (s, *t)))
        .ok_or_else(|| WebError::nothing(format!("there is no table called “{name}”")))?;
    let asked = Asked::of(query)?;
    let facts = app.facts(study).await?;
    let mut listing = stages::listing(&app, &facts, found.0, found.1).await?;
    if is_stale(&app.store, &facts).await? {
        let note = listing.note.take().unwrap_or_default();
        listing.note =
            Some(format!("Out of date: choices have changed since this was computed. Press U. {note}"));
    }
    crate::ui::quantity::blocking(move || Ok(listing.answer(&asked))).await?
}
