//! The Catchments stage.

mod actions;
mod beside;
pub mod desk;
mod map;
mod measures;
mod places;
mod profiles;
mod published;
pub mod rail;
pub(crate) mod rasters;
mod subbasins;
mod sure;
pub mod tables;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/catchments", get(map::catchments))
        .route("/pour-point-here", get(map::preview))
        .route("/pour-point-typed", get(map::typed))
        .route("/pour-points/{point}/measures", get(measures::measures))
        .route("/pour-points/{point}/beside", get(beside::beside))
        .route("/pour-points/{point}/elsewhere", get(beside::outline))
        .route("/pour-points/{point}/zonal", get(rasters::zonal))
        .route("/rasters/remove", post(rasters::remove))
        .route("/rasters/lookup", post(rasters::lookup))
        .route("/concentration", post(measures::concentration))
        .route("/subbasins", get(subbasins::drawn))
        .route("/subbasins/told", get(subbasins::told))
        .route("/subbasins/one", get(subbasins::one))
        .route("/subbasins/division", post(subbasins::divide))
        .route("/subbasins/split", post(subbasins::split))
        .route("/subbasins/forget", post(subbasins::forget))
        .route("/subbasins/{outlet}/keep", post(subbasins::keep))
        .route("/subbasins/{outlet}/merge", post(subbasins::merge))
        .route("/subbasins/{outlet}/name", post(subbasins::name))
        .route("/pour-points-along", post(actions::points_along))
        .route("/way-down", get(profiles::way_down))
        .route("/places", get(places::drawn))
        .route("/places/told", get(places::told_of))
        .route("/dams/points", post(places::dam_points))
        .route("/sites/least", post(places::least))
        .route("/sites/{layer}/{id}/points", post(places::inflow_points))
        .route("/published", get(published::drawn))
        .route("/published/told", get(published::told))
        .route("/published/side", get(published::side))
        .route("/published/side-by-side", get(published::side_by_side))
        .route("/realisations", post(sure::realise))
        .route("/snapping", post(actions::snapping))
        .route("/pour-points", post(actions::add_pour_point))
        .route("/pour-points/{point}/rename", post(actions::rename_pour_point))
        .route("/pour-points/{point}/move", post(actions::move_pour_point))
        .route("/pour-points/{point}/delete", post(actions::delete_pour_point))
}

/// Routes of the stage that take files.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/pour-points-file", post(actions::points_from_file))
        .route("/rasters", post(rasters::add))
}
