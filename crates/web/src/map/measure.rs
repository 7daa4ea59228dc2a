//! The ground along a line: of barriers, or anything measured.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Cell;
use bothros_core::conditioning::Line;
use bothros_core::profile::{Profile, distances_along};
use bothros_store::{RasterMeta, RasterRole};
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::are_coordinates;
use crate::map::profile::{Along as Ground, ground_along};
use crate::stages::conditioning::actions::prepared;
use crate::ui::{page, quantity};

pub(crate) fn read_line(text: &str) -> Result<Line> {
    let line: Line = serde_json::from_str(text).map_err(|_| WebError::refused("the line cannot be read"))?;
    let long = line.windows(2).any(|w| w[0] != w[1]);
    if !long || !are_coordinates(line.iter().flatten()) || line.len() > 10_000 {
        return Err(WebError::refused("a line needs two different points"));
    }
    Ok(line)
}

/// A line as JSON.
#[derive(Deserialize)]
pub struct Along {
    line: String,
}

/// The values of a raster in the cells of a path.
async fn values_along(app: &App, meta: &RasterMeta, cells: &[Cell]) -> Result<Vec<Option<f32>>> {
    let mut out = Vec::with_capacity(cells.len());
    // In pieces whose windows stay small.
    for piece in cells.chunks(256) {
        let rows =
            (piece.iter().map(|c| c.row).min().unwrap_or(0), piece.iter().map(|c| c.row).max().unwrap_or(0));
        let cols =
            (piece.iter().map(|c| c.col).min().unwrap_or(0), piece.iter().map(|c| c.col).max().unwrap_or(0));
        let size = (rows.1 - rows.0 + 1, cols.1 - cols.0 + 1);
        let window = app.store.read_window::<f32>(meta, 0, (rows.0 as isize, cols.0 as isize), size).await?;
        out.extend(piece.iter().map(|c| {
            let cell = Cell { row: c.row - rows.0, col: c.col - cols.0 };
            window.get(cell).copied().filter(|z| !z.is_nan())
        }));
    }
    Ok(out)
}

/// The ground along any line: the prepared DEM, and the conditioned one where there is one.
pub async fn measured(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(along): Query<Along>,
) -> Result<Response> {
    let facts = prepared(&app, study).await?;
    let line = read_line(&along.line)?;
    let frame =
        facts.terrain.as_ref().map(|t| t.frame).ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let cells = bothros_core::cells_along(&line, &frame, bothros_core::Connection::Eight);
    if cells.is_empty() {
        return Err(WebError::refused("the line lies outside the DEM"));
    }
    let distance_m = distances_along(&cells, &frame);
    let dem = app
        .store
        .raster(study, RasterRole::Dem)
        .await?
        .ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let before_m = values_along(&app, &dem, &cells).await?;
    let after_m = match app.store.raster(study, RasterRole::Filled).await? {
        Some(ground) => values_along(&app, &ground, &cells).await?,
        None => before_m.clone(),
    };
    answer(&line, frame.unit_m, &Profile { distance_m, before_m, after_m })
}

#[derive(Template)]
#[template(path = "map/measured.html")]
struct Measured {
    profile: String,
    length: String,
    drop: Option<String>,
}

/// How the ground along a measured line is shown.
const GROUND: Ground = Ground {
    name: "profile",
    title: "Ground along the measured line",
    ends: ("start", "end"),
    grounds: ("as prepared", "conditioned"),
};

/// The ground along a line that was drawn to measure.
fn answer(line: &[[f64; 2]], unit_m: f64, along: &Profile) -> Result<Response> {
    let length: f64 =
        line.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1])).sum::<f64>() * unit_m;
    let ends = along.before_m.first().copied().flatten().zip(along.before_m.last().copied().flatten());
    page(&Measured {
        profile: ground_along(along, &GROUND),
        length: quantity::length(length),
        drop: ends.map(|(a, b)| format!("{} to {}", quantity::metres(a), quantity::metres(b))),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_need_two_places() {
        assert!(read_line("[[1,2],[3,4]]").is_ok());
        assert!(
            read_line("[[1,2],[1,2]]").is_err() && read_line("[[1,2]]").is_err() && read_line("x").is_err()
        );
    }
}
