//! Long profiles: of a main stem, and of the way down from any place.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Cell;
use bothros_core::profile::{Profile, Station, distances_along, knickpoints};
use bothros_core::routing::{downstream, upstream};
use bothros_products::Quantity;
use bothros_store::RasterRole;
use bothros_workflow::Facts;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Place;
use crate::map::measure::values_along;
use crate::map::profile::{Along, ground_along_with};
use crate::ui::chart::{Series, Shape, Tone};
use crate::ui::{page, quantity};

/// A long profile as a part of a page.
#[derive(Template)]
#[template(path = "stages/catchments/profile.html")]
pub(super) struct LongProfile {
    chart: String,
    /// the places on the map of its points, as JSON
    places: String,
    told: String,
    knicks: Vec<Knick>,
}

struct Knick {
    text: String,
    x: f64,
    y: f64,
}

/// How the long profile of a main stem is shown.
pub(super) const STEM: Along = Along {
    name: "long_profile",
    title: "Long profile of the main stem",
    ends: ("headwater", "outlet"),
    grounds: ("as prepared", "conditioned"),
};

/// How that of the way down from a place is shown.
const WAY: Along = Along {
    name: "way_down",
    title: "Long profile downstream from the place that was clicked",
    ends: ("place", "end of the flow"),
    grounds: ("as prepared", "conditioned"),
};

/// Share of a profile over which slopes above and below a knickpoint are taken, and the least number of cells.
const REACH: (f64, f64) = (0.03, 5.0);
/// Cells within which a breached crossing belongs to a path.
const NEAR: usize = 3;

/// The ground along a path before and after conditioning, with junctions, crossings and knickpoints; nothing for a path of
/// one cell.
pub(super) async fn long_profile(
    app: &App,
    facts: &Facts,
    cells: &[u32],
    of: &'static Along,
) -> Result<Option<LongProfile>> {
    if cells.len() < 2 {
        return Ok(None);
    }
    let frame = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?.frame;
    let grids = app.grids.get(&app.store, facts).await?;
    let path: Vec<Cell> = cells.iter().map(|&c| grids.directions.cell(c as usize)).collect();
    let distance_m = distances_along(&path, &frame);
    let after_m: Vec<Option<f32>> =
        cells.iter().map(|&c| Some(grids.filled.values()[c as usize]).filter(|z| !z.is_nan())).collect();
    let stations: Vec<Station> = path
        .iter()
        .zip(&distance_m)
        .map(|(&cell, &distance_m)| Station { distance_m, cell: Some(cell) })
        .collect();
    let dem = app.store.raster(facts.study, RasterRole::Dem).await?;
    let before_m = match dem {
        Some(dem) => values_along(app, &dem, &stations).await?,
        None => vec![None; cells.len()],
    };
    // Where another stream joins.
    let streams = app.grids.streams(&app.store, facts).await?;
    let threshold = facts.network.map(|n| n.threshold);
    let joins = |&cell: &u32| {
        let is_stream = |n: &usize| threshold.is_some_and(|t| streams.is_stream(t, *n));
        upstream(&grids.directions, cell as usize).filter(is_stream).count() > 1
    };
    let breached: Vec<Cell> = app
        .store
        .barriers(facts.study)
        .await?
        .iter()
        .filter(|b| b.decision.as_deref() == Some("breach"))
        .filter_map(|b| frame.cell_at(b.x, b.y))
        .collect();
    let near = |a: &Cell, b: &Cell| a.row.abs_diff(b.row) <= NEAR && a.col.abs_diff(b.col) <= NEAR;
    // Of the cells near a crossing the middle one.
    let mut crossed = vec![false; path.len()];
    for crossing in &breached {
        let at: Vec<usize> = (0..path.len()).filter(|&i| near(&path[i], crossing)).collect();
        if let Some(&middle) = at.get(at.len() / 2) {
            crossed[middle] = true;
        }
    }
    let length = distance_m.last().copied().unwrap_or(0.0);
    let reach = (REACH.0 * length).max(REACH.1 * frame.cell_m());
    let knicks = knickpoints(&distance_m, &after_m, reach);
    let marked = |name: &str, tone: Tone, on: &dyn Fn(usize) -> bool| {
        let points = (0..path.len())
            .map(|i| (distance_m[i], after_m[i].filter(|_| on(i)).map(f64::from)))
            .collect::<Vec<_>>();
        let some = points.iter().any(|p| p.1.is_some());
        some.then(|| Series::new(name, tone, Shape::Points, points).untold())
    };
    let more: Vec<Series> = [
        marked("junction", Tone::Indigo, &|i| joins(&cells[i])),
        marked("breached crossing", Tone::Amber, &|i| crossed[i]),
        marked("knickpoint", Tone::Alarm, &|i| knicks.iter().any(|k| k.at == i)),
    ]
    .into_iter()
    .flatten()
    .collect();
    let places: Vec<[f64; 2]> = path.iter().map(|&cell| frame.centre(cell).into()).collect();
    let ends = after_m.first().copied().flatten().zip(after_m.last().copied().flatten());
    let fall = ends.map_or(String::new(), |(a, b)| {
        let fall = f64::from(a - b);
        let slope = quantity::told(Quantity::Slope, fall / length.max(f64::MIN_POSITIVE));
        format!(", falls {}, slope {slope}", quantity::told(Quantity::Drop, fall))
    });
    let percent = |slope: f64| quantity::told(Quantity::Slope, slope);
    let told = knicks.iter().map(|k| Knick {
        text: format!(
            "at {}: {} above, {} below",
            quantity::length(distance_m[k.at]),
            percent(k.above),
            percent(k.below)
        ),
        x: places[k.at][0],
        y: places[k.at][1],
    });
    let knicks = told.collect();
    let profile = Profile { distance_m, before_m, after_m };
    Ok(Some(LongProfile {
        chart: ground_along_with(&profile, of, more),
        places: serde_json::to_string(&places)?,
        told: format!("{}{fall}.", quantity::length(length)),
        knicks,
    }))
}

/// The long profile of the way down from a place.
pub async fn way_down(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Place>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let grids = app.grids.get(&app.store, &facts).await?;
    let cell = grids.frame.cell_at(place.x, place.y);
    let start = cell.map(|cell| grids.directions.index(cell)).filter(|&i| !grids.filled.values()[i].is_nan());
    let start = start.ok_or_else(|| WebError::refused("no cell of the DEM lies there"))?;
    let mut cells = vec![start as u32];
    let mut at = start;
    while let Some(next) = downstream(&grids.directions, at) {
        cells.push(next as u32);
        at = next;
    }
    match long_profile(&app, &facts, &cells, &WAY).await? {
        Some(profile) => page(&profile),
        None => Err(WebError::refused("water ends in that very cell")),
    }
}
