//! The five stages, a folder for each.

pub mod catchments;
pub mod conditioning;
pub mod handover;
pub mod network;
pub mod terrain;

use axum::Router;
use bothros_products::Table;
use bothros_workflow::{Facts, Stage};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::shell::desk::Next;
use crate::shell::rail::{StageState, Standing};
use crate::ui::table::Listing;

/// Routes of all stages of a study.
pub fn routes() -> Router<App> {
    Router::new()
        .merge(terrain::routes())
        .merge(conditioning::routes())
        .merge(network::routes())
        .merge(catchments::routes())
        .merge(handover::routes())
}

/// Routes of all stages of a study that take files.
pub fn uploads() -> Router<App> {
    terrain::uploads().merge(conditioning::uploads()).merge(catchments::uploads())
}

/// The desk of a stage.
pub async fn desk(app: &App, facts: Facts, stage: Stage) -> Result<String> {
    match stage {
        Stage::Terrain => terrain::desk::desk(app, facts).await,
        Stage::Conditioning => conditioning::desk::desk(app, facts).await,
        Stage::Network => network::desk::desk(app, facts).await,
        Stage::Catchments => catchments::desk::desk(app, facts).await,
        Stage::Handover => handover::desk::desk(app, facts).await,
    }
}

/// The one thing to do next at a stage, if there is one.
pub fn next(stage: Stage, study: &Standing<'_>) -> Option<Next> {
    match stage {
        Stage::Terrain => terrain::rail::next(study),
        Stage::Conditioning => conditioning::rail::next(study),
        Stage::Network => network::rail::next(study),
        Stage::Catchments => catchments::rail::next(study),
        Stage::Handover => handover::rail::next(study),
    }
}

/// The tables of a stage, in the order of their tabs.
pub fn tables(stage: Stage) -> &'static [&'static Table] {
    match stage {
        Stage::Terrain => &[],
        Stage::Conditioning => conditioning::tables::TABLES,
        Stage::Network => network::tables::TABLES,
        Stage::Catchments => catchments::tables::TABLES,
        Stage::Handover => handover::tables::TABLES,
    }
}

/// A table of a stage with its rows.
///
/// # Errors
/// Where the table needs a step that was not done.
pub async fn listing(app: &App, facts: &Facts, stage: Stage, table: &'static Table) -> Result<Listing> {
    match stage {
        Stage::Terrain => Err(WebError::nothing("the stage has no table")),
        Stage::Conditioning => conditioning::tables::listing(app, facts, table).await,
        Stage::Network => network::tables::listing(app, facts, table).await,
        Stage::Catchments => catchments::tables::listing(app, facts, table).await,
        Stage::Handover => handover::tables::listing(app, facts, table).await,
    }
}

/// Where a stage stands, for the rail.
pub fn standing(stage: Stage, study: &Standing<'_>) -> (StageState, String) {
    match stage {
        Stage::Terrain => terrain::rail::standing(study),
        Stage::Conditioning => conditioning::rail::standing(study),
        Stage::Network => network::rail::standing(study),
        Stage::Catchments => catchments::rail::standing(study),
        Stage::Handover => handover::rail::standing(study),
    }
}
