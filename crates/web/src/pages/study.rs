//! The study page: rail, map, desk and log around one study.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use serde::Deserialize;

use super::{STAGES, page};
use crate::App;
use crate::error::Result;
use crate::security::Token;

#[derive(Template)]
#[template(path = "study.html")]
struct Page {
    token: String,
    id: i64,
    name: String,
    stage: &'static str,
}

/// What the address says is shown.
#[derive(Deserialize)]
pub struct Shown {
    #[serde(default)]
    stage: String,
}

pub async fn study(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(shown): Query<Shown>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let row = match app.store.study(study).await {
        Ok(row) => row,
        Err(bothros_store::Error::NotFound(_)) => return super::nowhere(Extension(token)).await,
        Err(error) => return Err(error.into()),
    };
    let stage = STAGES.iter().map(|s| s.0).find(|s| *s == shown.stage).unwrap_or("terrain");
    page(&Page { token: token.0, id: row.id, name: row.name, stage })
}
