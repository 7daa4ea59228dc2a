//! How the map of a study is drawn.

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;

#[derive(Deserialize)]
pub struct Style {
    /// how the map is drawn, as JSON
    style: String,
}

/// Keeps the map's style; its content is up to the page.
pub async fn style(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Style>,
) -> Result<Response> {
    if form.style.len() > 10_000 {
        return Err(WebError::refused("the style is too long to be kept"));
    }
    let style: serde_json::Value =
        serde_json::from_str(&form.style).map_err(|_| WebError::refused("the style cannot be read"))?;
    bothros_workflow::set_style(&app.store, study, style).await?;
    Ok(StatusCode::NO_CONTENT.into_response())
}
