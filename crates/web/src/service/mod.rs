//! A service for scripts by OGC API - Processes, Part 1 (18-062r2): a recipe is run as a job, its state asked for, its results
//! fetched. Who knows the token is let in.

mod answer;
mod describe;
mod execute;
mod jobs;
mod openapi;
mod token;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

pub use token::{ROOT, let_in};

/// Routes of the application as a whole.
pub fn site() -> Router<App> {
    Router::new()
        .route("/service", get(describe::landing))
        .route("/service/", get(describe::landing))
        .route("/service/api", get(describe::api))
        .route("/service/conformance", get(describe::conformance))
        .route("/service/processes", get(describe::processes))
        .route("/service/processes/{process}", get(describe::process))
        .route("/service/jobs", get(jobs::list))
        .route("/service/jobs/{job}", get(jobs::status).delete(jobs::dismiss))
        .route("/service/jobs/{job}/results", get(jobs::results))
        .route("/service/jobs/{job}/results/{name}", get(jobs::file))
        .route("/service-token", post(token::anew))
}

/// Routes that take files.
pub fn uploads() -> Router<App> {
    Router::new().route("/service/processes/{process}/execution", post(execute::execute))
}
