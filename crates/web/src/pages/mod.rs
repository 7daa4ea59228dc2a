//! Pages and their parts, made on the server.

mod begin;
mod conditioning;
mod continuity;
mod desk;
mod evidence;
mod help;
mod rail;
mod reaches;
mod shortfalls;
mod start;
mod starting_points;
mod study;
mod terrain;
mod trials;

pub use begin::{archive_sets, begin};
pub use conditioning::{barrier, burn_section, measured};
pub use continuity::continuity_part;
pub use desk::desk;
pub use evidence::evidence_part;
pub use help::{help, licences};
pub use rail::{log, rail};
pub use reaches::reaches;
pub use shortfalls::shortfalls_part;
pub use start::{RESTORE_WITHIN, health, nowhere, start};
pub use study::study;
pub use terrain::{crs_list, prepare_plan, warp_plan};
pub use trials::{compare, justify, trials_part};

use axum::response::{Html, IntoResponse, Response};

use crate::error::Result;

/// Makes the page of a template.
fn page(template: &impl askama::Template) -> Result<Response> {
    let html = template.render().map_err(std::io::Error::other)?;
    Ok(Html(html).into_response())
}

/// The five stages in the order of the work: address, name, what it is for.
pub const STAGES: [(&str, &str, &str); 5] = [
    ("terrain", "Terrain", "From whatever was given to a DEM that can be computed on."),
    ("conditioning", "Conditioning", "What is wrong with the DEM for water, mended and measured."),
    ("network", "Network", "The threshold at which streams begin."),
    ("catchments", "Catchments", "What drains to the places that matter."),
    ("handover", "Handover", "The results in open formats, with all that was done."),
];
