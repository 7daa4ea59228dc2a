//! The five stages, a folder for each.

pub mod catchments;
pub mod conditioning;
pub mod handover;
pub mod network;
pub mod terrain;

use axum::Router;

use crate::App;

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
    terrain::uploads().merge(conditioning::uploads())
}

/// The five stages in the order of the work: address, name, what it is for.
pub const STAGES: [(&str, &str, &str); 5] = [
    ("terrain", "Terrain", "From whatever was given to a DEM that can be computed on."),
    ("conditioning", "Conditioning", "What is wrong with the DEM for water, mended and measured."),
    ("network", "Network", "The threshold at which streams begin."),
    ("catchments", "Catchments", "What drains to the places that matter."),
    ("handover", "Handover", "The results in open formats, with all that was done."),
];
