//! CRS: searched, offered, and the cell size that fits one.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_formats::{Crs, CrsEntry, plan_warp, search_crs};
use bothros_workflow::Facts;
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::page;
use crate::ui::quantity;

/// The CRS and cell size that are offered for warping.
pub(super) struct Offer {
    pub crs: String,
    pub label: String,
    pub cell_size: String,
    pub native: String,
    pub unit: String,
}

pub(super) fn offer(facts: &Facts, to: &Crs) -> Result<Offer> {
    let source = facts.source.as_ref().ok_or_else(|| WebError::refused("the study has no DEM"))?;
    let (rows, cols, geo_transform, from) = source.grid();
    let from = from.ok_or_else(|| WebError::refused("choose the CRS of the file first"))?;
    let plan = plan_warp(rows, cols, geo_transform, from, to)?;
    Ok(Offer {
        crs: to.epsg.map_or_else(|| to.wkt.clone(), |code| format!("EPSG:{code}")),
        label: to.label(),
        cell_size: format!("{}", plan.sensible_cell_size),
        native: match source.cell_m() {
            Some((east, north)) => format!(
                "{} east-west and {} north-south",
                quantity::metres_to(east, 1),
                quantity::metres_to(north, 1)
            ),
            None => {
                format!("about {} {}", quantity::real(plan.native_cell_size, 4), quantity::unit(&to.unit))
            }
        },
        unit: quantity::unit(&to.unit).to_owned(),
    })
}

/// Words or a number to search CRS by.
#[derive(Deserialize)]
pub struct Search {
    #[serde(default)]
    q: String,
    #[serde(default)]
    target: String,
}

#[derive(Template)]
#[template(path = "stages/terrain/crs_list.html")]
pub(super) struct CrsList {
    entries: Vec<CrsEntry>,
    query: String,
    target: String,
}

pub async fn crs_list(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(search): Query<Search>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let near = facts.source.as_ref().and_then(|s| s.centre_wgs84());
    let query = search.q.trim().to_owned();
    let mut entries = if query.is_empty() && near.is_none() { vec![] } else { search_crs(&query, near, 12) };
    // Geographic ones are not in the list of projected ones, but a file may be in one.
    if ["source", "layers"].contains(&search.target.as_str())
        && (query.is_empty() || "4326 wgs 84 latitude longitude".contains(&query.to_lowercase()))
    {
        entries.insert(
            0,
            CrsEntry {
                code: 4326,
                name: "WGS 84 (latitude and longitude)".into(),
                area: "World".into(),
                extent: None,
            },
        );
    }
    page(&CrsList { entries, query, target: search.target })
}

#[derive(Template)]
#[template(path = "stages/terrain/offer.html")]
pub(super) struct OfferPart {
    offer: Offer,
}

/// A CRS to warp to.
#[derive(Deserialize)]
pub struct Target {
    crs: String,
}

/// The cell size that fits a chosen CRS.
pub async fn warp_plan(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(target): Query<Target>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let to = Crs::parse(&target.crs)?;
    page(&OfferPart { offer: offer(&facts, &to)? })
}
