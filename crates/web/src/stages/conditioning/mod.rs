//! The Conditioning stage.

pub mod actions;
mod barrier;
mod burn;
pub mod desk;
pub mod rail;
mod sinks;
pub mod tables;
mod words;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/weights/remove", post(actions::remove_weights))
        .route("/burn-section", get(burn::burn_section))
        .route("/route", post(actions::route))
        .route("/review", post(actions::review))
        .route("/review/choice", post(actions::choose_review))
        .route("/conditioning", post(actions::choose))
        .route("/barriers", get(actions::barriers))
        .route("/barriers/{barrier}", get(barrier::barrier))
        .route("/barriers/{barrier}/decide", post(actions::decide))
}

/// Routes of the stage that take files.
pub fn uploads() -> Router<App> {
    Router::new().route("/weights", post(actions::weights))
}
