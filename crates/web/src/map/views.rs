//! Views of the ground on the map: their ranges, contours.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_core::Frame;
use bothros_core::terrain::contours;
use bothros_store::RasterRole;
use bothros_workflow::{OUTER, View, blocking, contour_interval};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};

#[derive(Deserialize)]
pub struct Asked {
    radius: Option<f64>,
    /// share of the values that is left out at each end, percent
    outer: Option<f64>,
}

/// The range of elevations or of a view between two percentiles, by default 2 % and 98 %.
pub async fn range(
    State(app): State<App>,
    Path((study, what)): Path<(i64, String)>,
    Query(asked): Query<Asked>,
) -> Result<Json<Value>> {
    let view = match what.as_str() {
        "relief" => None,
        what => Some(View::from_name(what).ok_or_else(|| WebError::nothing("there is no such view"))?),
    };
    let facts = app.facts(study).await?;
    let outer = asked.outer.unwrap_or(OUTER);
    let (low, high) = bothros_workflow::range(&app.store, &facts, view, asked.radius, outer).await?;
    Ok(Json(json!({ "low": low, "high": high })))
}

#[derive(Deserialize)]
pub struct Contours {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
    /// metres between two lines; chosen by the range in view where it is not given
    interval: Option<f64>,
    /// CRS units of a pixel
    resolution: f64,
}

/// Largest number of cells contoured; beyond it a coarser level is used.
const MOST_CELLS: usize = 1_200_000;

/// Contours in view.
pub async fn contour_lines(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<Contours>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let frame = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?.frame;
    let meta = app.store.raster(study, RasterRole::Dem).await?;
    let meta = meta.ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let sides = [view.west, view.south, view.east, view.north, view.resolution];
    if sides.iter().any(|v| !v.is_finite()) || view.interval.is_some_and(|i| !i.is_finite() || i <= 0.0) {
        return Err(WebError::refused("the interval of contours must be greater than 0"));
    }
    if view.west > view.east || view.south > view.north {
        return Err(WebError::refused("a view has its west and south below its east and north"));
    }
    let mut level = 0;
    let (row, col, rows, cols, cell_size) = loop {
        let cell_size = frame.cell_size * (1u64 << level) as f64;
        let (all_rows, all_cols) = meta.size_of_level(level);
        let cell = |distance: f64, most: usize| (distance / cell_size).clamp(0.0, most as f64);
        let row = cell(frame.top - view.north, all_rows).floor() as usize;
        let col = cell(view.west - frame.left, all_cols).floor() as usize;
        let rows = cell(frame.top - view.south, all_rows).ceil() as usize - row;
        let cols = cell(view.east - frame.left, all_cols).ceil() as usize - col;
        // Cells much finer than a pixel are not seen.
        let fine = rows * cols > MOST_CELLS || cell_size * 2.0 < view.resolution;
        if !fine || level + 1 >= meta.levels {
            break (row, col, rows, cols, cell_size);
        }
        level += 1;
    };
    let place = (row as isize, col as isize);
    let window = app.store.read_window::<f32>(&meta, level, place, (rows, cols)).await?;
    let answer = blocking(move || {
        let Some(interval) = contour_interval(&window, view.interval) else {
            return Ok(json!({ "interval": view.interval, "lines": [] }));
        };
        let here = Frame {
            rows,
            cols,
            left: frame.left + col as f64 * cell_size,
            top: frame.top - row as f64 * cell_size,
            cell_size,
            unit_m: frame.unit_m,
        };
        let lines: Vec<Value> = contours(&window, &here, interval)
            .into_iter()
            .filter(|c| c.points.len() > 3)
            .map(|c| {
                let points: Vec<[f64; 2]> =
                    c.points.iter().map(|p| p.map(|v| (v * 100.0).round() / 100.0)).collect();
                json!({ "elevation": c.elevation_m, "line": points })
            })
            .collect();
        Ok(json!({ "interval": interval, "lines": lines }))
    });
    Ok(Json(answer.await?))
}
