//! The study page: rail, map, desk and log around one study.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_workflow::{Facts, Stage};
use serde::Deserialize;
use std::time::Duration;

use crate::App;
use crate::http::error::Result;
use crate::http::security::Token;
use crate::ui::page;

#[derive(Template)]
#[template(path = "shell/study.html")]
struct Page {
    token: Token,
    id: i64,
    name: String,
    /// begins the names of files that are saved
    short: String,
    stage: Stage,
}

/// What the address says is shown.
#[derive(Deserialize)]
pub struct Shown {
    #[serde(default)]
    stage: String,
}

/// The grids that the opened stage needs are in memory after this.
const SETTLED: Duration = Duration::from_secs(2);

pub async fn study(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(shown): Query<Shown>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let Some(row) = app.study_if_there(study).await? else {
        return crate::shell::start::nowhere(Extension(token)).await;
    };
    let stage = Stage::from_key(&shown.stage).unwrap_or(Stage::Terrain);
    let needed = stage.needs_flow();
    let facts = Facts::of(&row)?;
    let short = facts.short_name();
    tokio::spawn(async move {
        if !needed {
            // What this stage shows comes first.
            tokio::time::sleep(SETTLED).await;
        }
        if let Err(error) = app.grids.warm(&app.store, &facts).await {
            tracing::warn!(%error, "a study's grids could not be read ahead");
        }
    });
    page(&Page { token, id: row.id, short, name: row.name, stage })
}
