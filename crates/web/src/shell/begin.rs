//! Begins a study: from files, or from a boundary.

use askama::Template;
use axum::extract::{Multipart, State};
use axum::response::Response;
use axum::{Extension, Json};
use bothros_workflow::NewStudy;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::NAME;
use crate::http::security::Token;
use crate::http::upload::receive;
use crate::ui::page;

#[derive(Template)]
#[template(path = "shell/begin.html")]
struct Begin {
    token: Token,
}

pub async fn begin(Extension(token): Extension<Token>) -> Result<Response> {
    page(&Begin { token })
}

/// Receives the files of a DEM, `name` and `description`; returns the address of the new study. On any error
/// nothing is kept.
pub async fn create(State(app): State<App>, form: Multipart) -> Result<Json<Value>> {
    let received = receive(form, app.options.upload_limit).await?;
    let first = received
        .files
        .first()
        .ok_or_else(|| WebError::refused("choose a DEM: a GeoTIFF or an ASCII grid"))?;
    let name = match received.text("name").as_str() {
        "" => first.file.rsplit_once('.').map_or(first.file.as_str(), |(stem, _)| stem).to_owned(),
        name => name.chars().take(NAME).collect(),
    };
    let projection = received.projection();
    let new = NewStudy {
        name: &name,
        description: &received.text("description"),
        file: &first.file,
        path: &first.path,
        projection: projection.as_deref(),
        more: received.files[1..].to_vec(),
        provenance: received.provenance(),
    };
    let (study, _) = bothros_workflow::begin_study(&app.store, new).await?;
    Ok(Json(json!({ "location": format!("/studies/{}/?stage=terrain", study.id) })))
}
