//! Rasters from formulas: looked at while they are typed, kept, used.

mod actions;
mod look;
mod panel;

use axum::Router;
use axum::routing::{get, post};

use crate::App;
use crate::stages::catchments::rasters;

pub(crate) use look::typed;

/// Routes of a study's derived rasters.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/formulas", get(panel::kept))
        .route("/formulas/names", get(panel::names))
        .route("/formulas/look", post(look::look))
        .route("/formulas/range", get(look::range))
        .route("/formulas/keep", post(actions::keep))
        .route("/formulas/remove", post(rasters::remove))
        .route("/formulas/weights", post(actions::weights))
        .route("/formulas/dem", post(actions::dem))
        .route("/formulas/file/{name}", get(actions::file))
}
