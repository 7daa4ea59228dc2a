//! The ground as numbers, for the view in three dimensions.

use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_store::RasterRole;
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};

/// A part of the study, in its CRS, and how many rows and columns there may be at most.
#[derive(Deserialize)]
pub struct Wanted {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
    #[serde(default = "usual_size")]
    size: usize,
}

fn usual_size() -> usize {
    256
}

/// Most rows and columns.
const MOST: usize = 1024;

/// Elevations of the part as little-endian float32, row by row, `NaN` where there is none; headers tell rows, columns, the
/// place of the first cell's corner and the size of a cell in units of the CRS.
pub async fn surface(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(wanted): Query<Wanted>,
) -> Result<Response> {
    let rasters = app.store.rasters(study).await?;
    let of = |role: RasterRole| rasters.get(&role).copied();
    let meta = of(RasterRole::Filled).or_else(|| of(RasterRole::Dem)).or_else(|| of(RasterRole::Source));
    let meta = meta.ok_or_else(|| WebError::refused("there is no terrain yet"))?;
    let all = [wanted.west, wanted.south, wanted.east, wanted.north];
    if all.iter().any(|v| !v.is_finite()) || wanted.west >= wanted.east || wanted.south >= wanted.north {
        return Err(WebError::refused("the part of the study must have a west, south, east and north"));
    }
    let size = wanted.size.clamp(2, MOST) as f64;
    // The finest level that is not too large.
    let fits = |level: &usize| {
        let times = (1u64 << level) as f64;
        (wanted.east - wanted.west) / (meta.cell_x * times) <= size
            && (wanted.north - wanted.south) / (meta.cell_y * times) <= size
    };
    let level = (0..meta.levels).find(fits).unwrap_or(meta.levels - 1);
    let (cell_x, cell_y) = (meta.cell_x * (1u64 << level) as f64, meta.cell_y * (1u64 << level) as f64);
    let (rows, cols) = meta.size_of_level(level);
    let clamp = |place: f64, most: usize| place.clamp(0.0, most as f64) as usize;
    let (left, right) = (
        clamp(((wanted.west - meta.left) / cell_x).floor(), cols),
        clamp(((wanted.east - meta.left) / cell_x).ceil(), cols),
    );
    let (top, bottom) = (
        clamp(((meta.top - wanted.north) / cell_y).floor(), rows),
        clamp(((meta.top - wanted.south) / cell_y).ceil(), rows),
    );
    if right < left + 2 || bottom < top + 2 {
        return Err(WebError::refused("no part of the study lies there: move the map over the terrain"));
    }
    let (height, width) = ((bottom - top).min(MOST), (right - left).min(MOST));
    let at = (top as isize, left as isize);
    let values = app.store.read_window::<f32>(&meta, level, at, (height, width)).await?;
    // A raster of one level may be finer than what is asked for: one cell of each square is taken, the middle one.
    let step = height.max(width).div_ceil(size as usize).max(1);
    let (height, width) = (height.div_ceil(step), width.div_ceil(step));
    let middle = |at: usize, most: usize| (at * step + step / 2).min(most - 1);
    let (whole_rows, whole_cols) = (values.rows(), values.cols());
    let taken = (0..height).flat_map(|row| (0..width).map(move |col| (row, col)));
    let index = |(row, col)| middle(row, whole_rows) * whole_cols + middle(col, whole_cols);
    let bytes: Vec<u8> = taken.flat_map(|cell| values.values()[index(cell)].to_le_bytes()).collect();
    let (cell_x, cell_y) = (cell_x * step as f64, cell_y * step as f64);
    let (left, top) =
        (meta.left + left as f64 * cell_x / step as f64, meta.top - top as f64 * cell_y / step as f64);
    let told = |value: f64| value.to_string();
    let headers = [
        (header::CONTENT_TYPE.as_str(), "application/octet-stream".to_owned()),
        (header::CACHE_CONTROL.as_str(), "no-store".to_owned()),
        ("x-rows", height.to_string()),
        ("x-cols", width.to_string()),
        ("x-left", told(left)),
        ("x-top", told(top)),
        ("x-cell-x", told(cell_x)),
        ("x-cell-y", told(cell_y)),
    ];
    let mut response = bytes.into_response();
    for (name, value) in headers {
        if let (Ok(name), Ok(value)) =
            (name.parse::<axum::http::HeaderName>(), value.parse::<axum::http::HeaderValue>())
        {
            response.headers_mut().insert(name, value);
        }
    }
    Ok(response)
}
