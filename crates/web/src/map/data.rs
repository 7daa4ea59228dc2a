//! Data for the map: its frame and values of cells.

use std::time::Duration;

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_core::Cell;
use bothros_core::routing::Method;
use bothros_formats::{Crs, CrsKind, Transform};
use bothros_store::{RasterMeta, RasterRole};
use bothros_workflow::{BASIN_COLOURS, Facts, colour, order_styles, usual_styles};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Place;

fn raster(meta: &RasterMeta) -> Value {
    json!({
        "id": meta.id, "rows": meta.rows, "cols": meta.cols, "levels": meta.levels,
        "left": meta.left, "top": meta.top, "cell_x": meta.cell_x, "cell_y": meta.cell_y,
    })
}

/// The rasters of a study and what is needed to draw them.
pub async fn map(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let mut rasters = serde_json::Map::new();
    for (role, meta) in app.store.rasters(study).await? {
        let name = match role {
            RasterRole::Weighted => continue,
            RasterRole::FillDepth => "sinks",
            RasterRole::CutFill => "change",
            RasterRole::Accumulation => "area",
            role => role.name(),
        };
        rasters.insert(name.into(), raster(&meta));
    }
    if facts.terrain.is_some() {
        rasters.remove("source");
    }
    let crs = facts.terrain.as_ref().map(|t| &t.crs).or(facts.source.as_ref().and_then(|s| s.crs.as_ref()));
    let summary =
        facts.terrain.as_ref().map(|t| &t.summary).or(facts.source.as_ref().and_then(|s| s.summary.as_ref()));
    Ok(Json(json!({
        "study": study,
        "rasters": rasters,
        "crs": crs.map(|c| json!({ "label": c.label(), "epsg": c.epsg, "unit_m": c.unit_m, "unit": c.unit,
            "degrees": c.kind == CrsKind::Geographic })),
        "stretch": summary.map(|s| [s.percentile_2_m, s.percentile_98_m]),
        "cell_area_m2": facts.terrain.as_ref().map(|t| t.frame.cell_area().as_m2()),
        "largest_cells": facts.routing.as_ref().map(|r| r.largest_cells),
        "log_percentiles": facts.routing.as_ref().map(|r| r.log_percentiles),
        "deepest_m": facts.routing.as_ref().and_then(|r| r.sinks.deepest.as_ref()).map(|s| s.depth_m),
        "change_m": facts.routing.as_ref().and_then(|r| r.conditioned.as_ref())
            .map(|c| c.routing.deepest_cut_m.max(c.routing.highest_fill_m)),
        "files": outlines(&facts),
        "seams": seams(&facts),
        "style": facts.settings.style,
        "ramps": colour::ramps(),
        "direction_codes": facts.settings.handover.directions.told(),
        "vector": vector_styles(),
        "basin_colours": BASIN_COLOURS.map(|c| c.to_string()),
        "orders": order_styles(&Value::Null, MOST_ORDERS),
        "highest_order": facts.network.as_ref().map(|n| n.highest_order),
        "threshold_cells": facts.network.map(|n| n.threshold.as_cells()),
        "begun": begun(&facts)?,
        "derived": derived(&facts),
    })))
}

/// Rasters from formulas: their names and units.
fn derived(facts: &Facts) -> Vec<Value> {
    let kept = facts.settings.rasters.iter().filter(|r| r.formula.is_some());
    kept.map(|r| json!({ "name": r.name, "unit": r.unit })).collect()
}

/// Names how streams are told, where it takes more than the contributing area of a cell: flow that is divided, another beginning, changes by hand.
fn begun(facts: &Facts) -> Result<Option<String>> {
    let divides = facts.routing.as_ref().is_some_and(|r| r.method.divides());
    let key = facts.streams_key()?;
    Ok((facts.network.is_some() && (divides || !key.is_empty())).then_some(key))
}

/// No network has more orders than this.
const MOST_ORDERS: u8 = 12;

/// How each vector layer is usually drawn.
fn vector_styles() -> Value {
    usual_styles()
        .into_iter()
        .map(|(name, style)| (name, json!(style)))
        .collect::<serde_json::Map<_, _>>()
        .into()
}

/// The lines along which files meet, in the CRS of the map.
fn seams(facts: &Facts) -> Vec<[[f64; 2]; 2]> {
    let (Some(source), Some(terrain)) = (&facts.source, &facts.terrain) else { return Vec::new() };
    let Some(crs) = source.grid().3 else { return Vec::new() };
    let Ok(transform) = Transform::new(crs, &terrain.crs) else { return Vec::new() };
    let point = |[x, y]: [f64; 2]| transform.point(x, y).ok().map(|(x, y)| [x, y]);
    source.seam_lines.iter().filter_map(|[a, b]| Some([point(*a)?, point(*b)?])).collect()
}

/// Points along each side of a file's outline, which is bent in another CRS.
const SIDE: usize = 8;

/// The outlines of the files that a DEM was put together from, in the order in which they count, in the CRS
/// of the map.
fn outlines(facts: &Facts) -> Vec<Value> {
    let (Some(source), Some(terrain)) = (&facts.source, &facts.terrain) else { return Vec::new() };
    if source.more.is_empty() {
        return Vec::new();
    }
    // Most files share a CRS, and to begin a transformation takes long.
    let mut known: Option<(&Crs, Transform)> = None;
    let outline = |(place, number): (usize, usize)| {
        let (name, info, crs) = match number.checked_sub(1).map(|n| &source.more[n]) {
            Some(file) => (&file.file, &file.info, Some(&file.crs)),
            None => (&source.file, &source.info, source.crs.as_ref()),
        };
        let crs = crs?;
        if known.as_ref().is_none_or(|(of, _)| *of != crs) {
            known = Some((crs, Transform::new(crs, &terrain.crs).ok()?));
        }
        let (_, transform) = known.as_ref()?;
        let points = if *crs == terrain.crs { 1 } else { SIDE };
        let [x0, dx, rx, y0, ry, dy] = info.geo_transform;
        let (cols, rows) = (info.cols as f64, info.rows as f64);
        let corners = [(0.0, 0.0), (cols, 0.0), (cols, rows), (0.0, rows), (0.0, 0.0)];
        let mut ring = Vec::new();
        for pair in corners.windows(2) {
            for step in 0..points {
                let share = step as f64 / points as f64;
                let c = pair[0].0 + (pair[1].0 - pair[0].0) * share;
                let r = pair[0].1 + (pair[1].1 - pair[0].1) * share;
                let (x, y) = transform.point(x0 + c * dx + r * rx, y0 + c * ry + r * dy).ok()?;
                ring.push([x, y]);
            }
        }
        ring.extend(ring.first().copied());
        Some(json!({ "name": format!("{} {name}", place + 1), "ring": ring }))
    };
    source.order().into_iter().enumerate().filter_map(outline).collect()
}

fn crs_of(facts: &Facts) -> Option<&Crs> {
    facts.terrain.as_ref().map(|t| &t.crs).or(facts.source.as_ref().and_then(|s| s.crs.as_ref()))
}

/// Everything known of the cell under the pointer.
pub async fn cell(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Place>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let geographic = crs_of(&facts)
        .cloned()
        .and_then(|crs| Transform::to_wgs84(&crs).and_then(|t| t.point(place.x, place.y)).ok());
    let mut told =
        json!({ "x": place.x, "y": place.y, "lon": geographic.map(|g| g.0), "lat": geographic.map(|g| g.1) });
    let there = app.store.rasters(study).await?;
    let Some(dem) = there.get(&RasterRole::Dem).or(there.get(&RasterRole::Source)) else {
        return Ok(Json(told));
    };
    let (col, row) =
        (((place.x - dem.left) / dem.cell_x).floor(), ((dem.top - place.y) / dem.cell_y).floor());
    if !(col >= 0.0 && row >= 0.0 && col < dem.cols as f64 && row < dem.rows as f64) {
        return Ok(Json(told));
    }
    let at = (row as isize, col as isize);
    told["row"] = json!(row as usize);
    told["col"] = json!(col as usize);
    let z = app.store.read_window::<f32>(dem, 0, at, (1, 1)).await?.values()[0];
    told["elevation_m"] = json!(z.is_finite().then_some(z));
    if let Some(depth) = there.get(&RasterRole::FillDepth) {
        let depth = app.store.read_window::<f32>(depth, 0, at, (1, 1)).await?.values()[0];
        told["fill_m"] = json!(if depth.is_finite() { depth } else { 0.0 });
    }
    if let Some(probable) = there.get(&RasterRole::StreamProbability) {
        let share = app.store.read_window::<f32>(probable, 0, at, (1, 1)).await?.values()[0];
        told["stream_probability"] = json!((share > 0.0).then_some(share));
    }
    let routed = there.contains_key(&RasterRole::Accumulation);
    let (Some(terrain), true) = (&facts.terrain, routed) else { return Ok(Json(told)) };
    let cell = Cell { row: row as usize, col: col as usize };
    let Some(flow) = app.grids.cell_flow(&app.store, &facts, cell, PATIENCE).await? else {
        return Ok(Json(told));
    };
    if let Some(sums) = there.get(&RasterRole::Weighted) {
        let sum = app.store.read_window::<f32>(sums, 0, at, (1, 1)).await?.values()[0];
        told["weighted"] = json!(sum.is_finite().then_some(sum));
        told["weighted_of"] = json!(facts.settings.weights.as_ref().map(|w| &w.meaning));
    }
    told["accumulation"] = json!(flow.accumulation);
    let method = facts.routing.as_ref().map(|r| r.method).filter(|&m| m != Method::D8);
    told["method"] = json!(method.map(Method::title));
    told["area_m2"] = json!(terrain.frame.area_of(flow.accumulation as u64 + 1).as_m2());
    told["direction"] = json!(flow.direction);
    told["waiting"] = json!(flow.further.is_none());
    if let Some(further) = flow.further {
        told["least"] = json!(further.is_least);
        if let Some((reach, order)) = further.reach {
            told["order"] = json!(order);
            told["reach"] = json!(reach);
        }
    }
    Ok(Json(told))
}

/// So long a question about a cell waits for the grids of its study.
const PATIENCE: Duration = Duration::from_millis(400);

/// A window of cells.
#[derive(Debug, Deserialize)]
pub struct Window {
    row: isize,
    col: isize,
    rows: usize,
    cols: usize,
}

/// Values of single cells, to be drawn one by one when the map is close.
pub async fn cells(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(w): Query<Window>,
) -> Result<Json<Value>> {
    if w.rows > 400 || w.cols > 400 || w.rows * w.cols > 40_000 {
        return Err(WebError::refused("at most 40 000 cells at a time"));
    }
    let (at, size) = ((w.row, w.col), (w.rows, w.cols));
    let read = |role| {
        let store = app.store.clone();
        async move { store.raster(study, role).await }
    };
    let mut told = json!({ "row": w.row, "col": w.col, "rows": w.rows, "cols": w.cols });
    if let Some(dem) = read(RasterRole::Dem).await? {
        let z = app.store.read_window::<f32>(&dem, 0, at, size).await?;
        told["elevation"] = z.values().iter().map(|v| v.is_finite().then_some(*v)).collect();
    }
    if let Some(direction) = read(RasterRole::Direction).await? {
        told["direction"] = json!(app.store.read_window::<u8>(&direction, 0, at, size).await?.values());
    }
    if let Some(area) = read(RasterRole::Accumulation).await? {
        let cells = app.store.read_window::<u32>(&area, 0, at, size).await?;
        told["accumulation"] = cells.values().iter().map(|v| (*v != u32::MAX).then_some(*v)).collect();
    }
    Ok(Json(told))
}
