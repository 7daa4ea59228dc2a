//! Handover: the results in open formats, with all that was done.

mod actions;
pub mod desk;
mod download;
pub mod rail;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new().route("/package", post(actions::package)).route("/package.zip", get(download::package))
}
