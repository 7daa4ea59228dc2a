//! Starts the writing of the package.

use axum::extract::{Path, State};
use axum::response::Response;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::Result;

pub async fn package(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::start_package(&app.store, study).await?;
    Ok(changed(STUDY))
}
