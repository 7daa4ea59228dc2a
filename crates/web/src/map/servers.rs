//! Pictures from map servers, laid onto the study's grid.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_formats::{Crs, encode_png};
use bothros_store::{RasterMeta, RasterRole};
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::map::tiles::TILE;

/// How many times finer than the cells of the DEM the finest tiles are, as a power of two.
const FINER: i32 = 5;
/// Levels that there are: from 1/32 of a cell to 32 768 cells a pixel.
const LEVELS: u32 = 21;

/// The maps that can be drawn, with the levels of their tiles.
pub async fn servers(State(app): State<App>) -> Json<Value> {
    let of =
        |server: &bothros_maps::MapServer| json!({ "name": server.name, "attribution": server.attribution });
    let all: Vec<Value> = app.options.maps.iter().flat_map(|maps| maps.servers().map(of)).collect();
    Json(json!({ "maps": all, "finer": 1 << FINER, "levels": LEVELS }))
}

/// West, south, east, north of a tile; `None` where it lies beyond the study.
fn extent_of(meta: &RasterMeta, level: u32, col: u32, row: u32) -> Option<[f64; 4]> {
    // A pixel is square on the map, also where cells are degrees.
    let edge = meta.cell_x * 2f64.powi(level as i32 - FINER) * TILE as f64;
    let (west, north) = (meta.left + f64::from(col) * edge, meta.top - f64::from(row) * edge);
    let (east, south) =
        (meta.left + meta.cols as f64 * meta.cell_x, meta.top - meta.rows as f64 * meta.cell_y);
    (west < east && north > south).then_some([west, north - edge, west + edge, north])
}

/// A tile of a map.
pub async fn tile(
    State(app): State<App>,
    Path((study, at, level, col, row)): Path<(i64, usize, u32, u32, u32)>,
    asked: HeaderMap,
) -> Result<Response> {
    let nothing = || WebError::nothing("there is no such tile");
    let maps = app.options.maps.clone().ok_or_else(nothing)?;
    let facts = app.facts(study).await?;
    let mut meta = app.store.raster(study, RasterRole::Dem).await?;
    if meta.is_none() {
        meta = app.store.raster(study, RasterRole::Source).await?;
    }
    let meta = meta.ok_or_else(nothing)?;
    let crs: Option<&Crs> =
        facts.terrain.as_ref().map(|t| &t.crs).or(facts.source.as_ref().and_then(|s| s.crs.as_ref()));
    let crs =
        crs.ok_or_else(|| WebError::refused("the study has no CRS yet: say which it is first"))?.clone();
    let extent = (level < LEVELS).then(|| extent_of(&meta, level, col, row)).flatten().ok_or_else(nothing)?;
    let tag = format!("\"map-{at}-{}-{level}-{col}-{row}\"", meta.id);
    if asked.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    let draw = async {
        let pixels = maps.picture(at, &crs, extent, (TILE, TILE)).await.map_err(failed)?;
        let png = bothros_workflow::blocking(move || Ok(encode_png(TILE, TILE, &pixels)?)).await?;
        Ok::<_, WebError>(("image/png", Bytes::from(png)))
    };
    let (kind, bytes) = app
        .tiles
        .try_get_with(format!("{study} {tag}"), draw)
        .await
        .map_err(|e: Arc<WebError>| (*e).clone())?;
    let headers = [
        (header::CONTENT_TYPE, kind.to_owned()),
        (header::CACHE_CONTROL, "private, max-age=3600".to_owned()),
        (header::ETAG, tag),
    ];
    Ok((headers, bytes).into_response())
}

fn failed(error: bothros_maps::Error) -> WebError {
    match error {
        bothros_maps::Error::Unknown => WebError::nothing(error.to_string()),
        error => WebError::outside(error.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn meta() -> RasterMeta {
        let (left, top, cell) = (100.0, 900.0, 4.0);
        RasterMeta {
            id: 1,
            rows: 1000,
            cols: 500,
            levels: 3,
            left,
            top,
            cell_x: cell,
            cell_y: cell,
            base: None,
        }
    }

    #[test]
    fn tiles_begin_at_the_studys_corner_and_end_with_it() {
        // Level 5 has pixels of one cell.
        assert_eq!(extent_of(&meta(), 5, 0, 0).unwrap(), [100.0, 900.0 - 1024.0, 1124.0, 900.0]);
        assert!(extent_of(&meta(), 5, 1, 3).is_some());
        assert_eq!(extent_of(&meta(), 5, 2, 0), None);
        assert_eq!(extent_of(&meta(), 5, 0, 4), None);
        // The finest has pixels of a 32nd of a cell.
        let [west, _, east, _] = extent_of(&meta(), 0, 3, 0).unwrap();
        assert_eq!((west, east - west), (196.0, 32.0));
    }
}
