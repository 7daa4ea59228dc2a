//! The ground across a mapped stream, before and after it is burned in.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::conditioning::Line;
use bothros_core::profile::{Section, burn_across, section_across};
use bothros_store::{LayerRole, Shape};
use bothros_workflow::{blocking, ground_around, layer_features};
use serde::Deserialize;

use super::actions::prepared;
use crate::App;
use crate::http::error::{Result, WebError};
use crate::map::profile::{Along, ground_along};
use crate::ui::{page, quantity};

/// Where a cross-section of a burned stream is taken.
#[derive(Deserialize)]
pub struct Across {
    x: Option<f64>,
    y: Option<f64>,
}

/// A cross-section of the mapped stream nearest to a place, before and after burning as it is chosen.
pub async fn burn_section(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Across>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let how =
        facts.settings.conditioning.burn.ok_or_else(|| WebError::refused("choose how streams are burned"))?;
    let streams = layer_features(&app.store, &facts, LayerRole::MappedStreams).await?;
    let lines: Vec<Line> = streams
        .into_iter()
        .filter_map(|f| match f.shape {
            Shape::Line(line) => Some(line),
            _ => None,
        })
        .collect();
    let near = place.x.zip(place.y).map(|(x, y)| [x, y]);
    let across = section_across(&lines, near, how, &terrain.frame)
        .ok_or_else(|| WebError::refused("there are no mapped streams: add them under Layers"))?;
    let (dem, frame) = ground_around(&app.store, &facts, &across.window, 0.0).await?;
    let section = blocking(move || Ok(burn_across(&dem, &frame, &lines, how, &across)?)).await?;
    answer(&section)
}

/// How the ground across a stream is shown.
const ACROSS: Along = Along {
    name: "burned_section",
    title: "Ground across the mapped stream, as prepared and burned",
    ends: ("left bank", "right bank"),
    grounds: ("as prepared", "burned"),
};

#[derive(Template)]
#[template(path = "stages/conditioning/burn_section.html")]
struct BurnSection {
    profile: String,
    below: Option<String>,
    above: bool,
    local: bool,
    x: f64,
    y: f64,
}

/// The ground across a stream that is to be burned in.
fn answer(section: &Section) -> Result<Response> {
    page(&BurnSection {
        profile: ground_along(&section.profile, &ACROSS),
        below: section.below_banks_m.map(|m| quantity::metres(m.abs())),
        above: section.below_banks_m.is_some_and(|m| m <= 0.0),
        local: section.local,
        x: section.at[0],
        y: section.at[1],
    })
}
