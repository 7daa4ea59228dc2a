//! The Terrain stage: from the files given to a prepared DEM.

pub mod actions;
pub mod archive;
mod crs;
pub mod desk;
mod files;
mod preparing;
pub mod rail;
mod reading;
mod recipe;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the elevation archive, before there is a study.
pub fn site() -> Router<App> {
    Router::new()
        .route("/archive", get(archive::collections))
        .route("/archive/plan", post(archive::plan))
        .route("/archive/begin", post(archive::begin))
}

/// Routes of the elevation archive that take files.
pub fn site_uploads() -> Router<App> {
    Router::new().route("/archive/boundary", post(archive::boundary))
}

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/crs", get(crs::crs_list))
        .route("/plan", get(crs::warp_plan))
        .route("/recipe/section", get(recipe::section))
        .route("/band", post(reading::band))
        .route("/source-crs", post(reading::source_crs))
        .route("/vertical-unit", post(reading::vertical_unit))
        .route("/reread", post(reading::reread))
        .route("/prepare", post(actions::prepare))
        .route("/prepare-plan", post(preparing::prepare_plan))
        .route("/dem-files", get(files::all_files))
        .route("/dem-files/{place}/move", post(actions::move_file))
        .route("/dem-files/{place}/remove", post(actions::remove_file))
        .route("/dem-files/{place}/provenance", post(actions::provenance))
        .route("/dem-files/level", post(actions::level))
        .route("/archive-sets", get(archive::archive_sets))
        .route("/fetch", post(archive::candidate))
        .route("/fetch-again", post(archive::again))
        .route("/candidates/{candidate}/take-up", post(actions::take_up))
        .route("/candidates/{candidate}/delete", post(actions::delete_candidate))
}

/// Routes of the stage that take files.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/recipe/misfits", post(recipe::misfits))
        .route("/recipe/take-up", post(recipe::take_up))
        .route("/dem-files", post(actions::add_files))
        .route("/candidates", post(actions::begin_candidate))
        .route("/align", post(actions::align))
}
