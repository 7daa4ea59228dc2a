//! Batches: one recipe over many DEMs, thresholds, methods, pour points; its runs side by side.

mod begin;
mod compared;
pub(crate) mod download;
mod list;
mod show;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the application as a whole.
pub fn site() -> Router<App> {
    Router::new()
        .route("/batches", get(list::list))
        .route("/batches/{batch}", get(show::show))
        .route("/batches/{batch}/compared", get(compared::shown))
        .route("/batches/{batch}/compared.json", get(compared::lines))
        .route("/batches/{batch}/runs", get(show::runs))
        .route("/batches/{batch}/stop", post(show::stop))
        .route("/batches/{batch}/take-up", post(show::take_up))
        .route("/batches/{batch}/delete", post(show::delete))
        .route("/batches/{batch}/runs.csv", get(download::csv))
        .route("/batches/{batch}/package.zip", get(download::package))
        .route("/batches/{batch}/runs/{run}/recipe.toml", get(download::recipe))
        .route("/batches/{batch}/runs/{run}/files/{name}", get(download::file))
}

/// Routes that take files.
pub fn uploads() -> Router<App> {
    Router::new().route("/batches", post(begin::begin)).route("/batches/plan", post(begin::plan))
}
