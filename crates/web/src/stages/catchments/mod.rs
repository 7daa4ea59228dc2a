//! Catchments: what drains to the places that matter.

mod actions;
pub mod desk;
mod map;
mod measures;
pub mod rail;
pub mod tables;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/catchments", get(map::catchments))
        .route("/pour-point-here", get(map::preview))
        .route("/pour-points/{point}/measures", get(measures::measures))
        .route("/concentration", post(measures::concentration))
        .route("/snapping", post(actions::snapping))
        .route("/pour-points", post(actions::add_pour_point))
        .route("/pour-points/{point}/rename", post(actions::rename_pour_point))
        .route("/pour-points/{point}/move", post(actions::move_pour_point))
        .route("/pour-points/{point}/delete", post(actions::delete_pour_point))
}
