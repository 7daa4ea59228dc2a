//! Starts the writing of the package.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_store::{JobKind, Kept};
use bothros_workflow::Facts;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};

pub async fn package(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    if facts.network.is_none() {
        return Err(WebError::refused("there is nothing to hand over yet: fill sinks and route flow first"));
    }
    app.store.enqueue(study, JobKind::Package, Kept::empty()).await?;
    Ok(changed(STUDY))
}
