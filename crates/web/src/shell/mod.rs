//! Pages around the stages: the start page, beginning a study, its page, rail and log, help.

pub mod actions;
pub mod begin;
pub mod desk;
pub mod help;
pub mod rail;
pub mod start;
pub mod study;
pub mod tables;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the application as a whole.
pub fn site() -> Router<App> {
    Router::new()
        .route("/", get(start::start))
        .route("/health", get(start::health))
        .route("/begin", get(begin::begin))
        .route("/units", post(actions::units))
        .route("/help/{topic}", get(help::help))
        .route("/licences", get(help::licences))
        .route("/studies/{study}", get(study::study))
        .route("/studies/{study}/", get(study::study))
}

/// Routes of a study as a whole.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/desk/{stage}", get(desk::desk))
        .route("/tables", get(tables::tables))
        .route("/tables/{table}", get(tables::table))
        .route("/rail", get(rail::rail))
        .route("/log", get(rail::log))
        .route("/revision", get(rail::revision))
        .route("/describe", post(actions::describe))
        .route("/duplicate", post(actions::duplicate))
        .route("/delete", post(actions::delete))
        .route("/restore", post(actions::restore))
        .route("/purge", post(actions::purge))
        .route("/raw.json", get(actions::raw))
        .route("/undo", post(actions::undo))
        .route("/cancel/{job}", post(actions::cancel))
}

/// Routes of the application as a whole that take files.
pub fn site_uploads() -> Router<App> {
    Router::new().route("/studies", post(begin::create))
}
