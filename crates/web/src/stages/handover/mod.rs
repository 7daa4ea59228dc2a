//! The Handover stage: the results in open formats, with the log.

mod actions;
pub mod desk;
pub(crate) mod download;
mod kept;
mod proof;
pub mod rail;
mod recipe;
mod scheme;
pub mod tables;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/package", post(actions::package))
        .route("/package/alone", post(actions::alone))
        .route("/package/{format}", post(actions::format))
        .route("/package/short-name", post(actions::short_name))
        .route("/package/directions", post(actions::directions))
        .route("/scheme/told", get(scheme::told))
        .route("/scheme/schematic.svg", get(scheme::svg))
        .route("/scheme/model", post(scheme::model))
        .route("/scheme/forget", post(scheme::forget))
        .route("/tables/{table}/set", post(tables::set))
        .route("/package/crs", post(actions::crs))
        .route("/packages/compared", get(kept::compared))
        .route("/packages/{file}/delete", post(kept::delete))
        .route("/packages/{file}", get(download::kept))
        .route("/recipe/told", get(recipe::told))
        .route("/recipe/run-to/{step}", post(recipe::run_to))
        .route("/recipe.toml", get(recipe::file))
        .route("/recipe.zip", get(recipe::with_files))
        .route("/proof/told", get(proof::told))
        .route("/package.zip", get(download::package))
}
