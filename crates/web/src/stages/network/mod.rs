//! The Network stage: the threshold at which streams begin, and the evidence for it.

mod actions;
mod begins;
mod continuity;
pub mod desk;
mod evidence;
mod figures;
mod lines;
mod orders;
pub mod rail;
mod shortfalls;
mod starting_points;
pub mod tables;
mod threshold;
mod trials;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the stage.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/threshold", post(threshold::threshold))
        .route("/threshold/keep", post(actions::keep_threshold))
        .route("/threshold/kept/{kept}/forget", post(actions::forget_threshold))
        .route("/evidence", get(evidence::evidence_part))
        .route("/figures", get(figures::figures))
        .route("/continuity", get(continuity::continuity_part))
        .route("/tolerance", post(actions::tolerance))
        .route("/begins", post(begins::begins))
        .route("/heads-within", post(begins::heads_within))
        .route("/shortfalls", get(shortfalls::shortfalls_part).post(actions::mark))
        .route("/agreement", get(lines::agreement))
        .route("/trials", get(trials::trials_part).post(actions::keep))
        .route("/trials/{trial}/describe", post(actions::describe))
        .route("/trials/{trial}/delete", post(actions::delete))
        .route("/trials/{trial}/justify", get(trials::justify))
        .route("/trials/{trial}/choose", post(actions::choose))
        .route("/trials/{trial}/lines", get(lines::trial_lines))
        .route("/edits", post(actions::edit))
        .route("/way", get(lines::way))
        .route("/land/{index}", get(lines::land))
        .route("/mapped", get(lines::mapped))
        .route("/streams", get(lines::streams))
        .route("/compare", get(trials::compare))
        .route("/orders", get(orders::orders))
}
