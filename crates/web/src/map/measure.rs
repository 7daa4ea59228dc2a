//! The ground along a line: of barriers, or anything measured.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Cell;
use bothros_core::conditioning::Line;
use bothros_core::profile::{Profile, Station, stations_along};
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

/// The values of a raster at places along a line.
pub(crate) async fn values_along(
    app: &App,
    meta: &RasterMeta,
    stations: &[Station],
) -> Result<Vec<Option<f32>>> {
    let mut out = Vec::with_capacity(stations.len());
    // In pieces whose windows stay small.
    for piece in stations.chunks(256) {
        let inside = || piece.iter().filter_map(|s| s.cell);
        let span = |of: fn(Cell) -> usize| inside().map(of).min().zip(inside().map(of).max());
        let (Some(rows), Some(cols)) = (span(|c| c.row), span(|c| c.col)) else {
            out.extend(piece.iter().map(|_| None));
            continue;
        };
        let size = (rows.1 - rows.0 + 1, cols.1 - cols.0 + 1);
        let window = app.store.read_window::<f32>(meta, 0, (rows.0 as isize, cols.0 as isize), size).await?;
        out.extend(piece.iter().map(|s| {
            let c = s.cell?;
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
    let stations = stations_along(&line, &frame, MOST_STATIONS);
    if stations.iter().all(|s| s.cell.is_none()) {
        return Err(WebError::refused("the line lies outside the DEM"));
    }
    let distance_m = stations.iter().map(|s| s.distance_m).collect();
    let dem = app
        .store
        .raster(study, RasterRole::Dem)
        .await?
        .ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let before_m = values_along(&app, &dem, &stations).await?;
    let after_m = match app.store.raster(study, RasterRole::Filled).await? {
        Some(ground) => values_along(&app, &ground, &stations).await?,
        None => before_m.clone(),
    };
    let area_m2 = ring_area(&line) * frame.unit_m * frame.unit_m;
    answer(&Profile { distance_m, before_m, after_m }, area_m2)
}

/// Area that a line holds where its end is joined to its beginning, square units of the CRS; 0 for a straight one.
fn ring_area(line: &Line) -> f64 {
    let Some(&[x, y]) = line.first() else { return 0.0 };
    let shifted: Vec<[f64; 2]> = line.iter().map(|p| [p[0] - x, p[1] - y]).collect();
    let twice: f64 = shifted.windows(2).map(|w| w[0][0] * w[1][1] - w[1][0] * w[0][1]).sum();
    twice.abs() / 2.0
}

/// Places that a line is looked at in; on a longer one they lie farther apart.
const MOST_STATIONS: usize = 20_000;

#[derive(Template)]
#[template(path = "map/measured.html")]
struct Measured {
    profile: String,
    length: String,
    ends: Option<String>,
    /// what the line holds where it is closed
    area: Option<String>,
}

/// How the ground along a measured line is shown.
const GROUND: Ground = Ground {
    name: "profile",
    title: "Ground along the measured line",
    ends: ("start", "end"),
    grounds: ("as prepared", "conditioned"),
};

/// The ground along a line that was drawn to measure.
fn answer(along: &Profile, area_m2: f64) -> Result<Response> {
    let length = along.distance_m.last().copied().unwrap_or(0.0);
    let ends = along.before_m.first().copied().flatten().zip(along.before_m.last().copied().flatten());
    page(&Measured {
        profile: ground_along(along, &GROUND),
        length: quantity::length(length),
        area: (area_m2 > 0.0).then(|| quantity::area(area_m2)),
        ends: ends.map(|(a, b)| difference(a, b, length)),
    })
}

/// The elevations of both ends, their difference, and what slope that makes.
fn difference(start: f32, end: f32, length_m: f64) -> String {
    let from_to = format!("{} to {}", quantity::metres(start), quantity::metres(end));
    let by = f64::from(end) - f64::from(start);
    let way = match by {
        d if d > 0.0 => "up",
        d if d < 0.0 => "down",
        _ => return format!("{from_to}: level"),
    };
    format!(
        "{from_to}: {} {way}, {} on the mean",
        quantity::metres(by.abs() as f32),
        percent(by.abs() / length_m)
    )
}

/// A slope in percent, with two digits that count.
fn percent(slope: f64) -> String {
    let percent = slope * 100.0;
    if percent < 1.0 { format!("{percent:.2} %") } else { format!("{percent:.1} %") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_that_bends_holds_an_area_where_it_is_closed() {
        let corner = vec![[500_000.0, 4_000_000.0], [500_030.0, 4_000_000.0], [500_030.0, 4_000_040.0]];
        assert_eq!(ring_area(&corner), 600.0);
        assert_eq!(ring_area(&vec![[1.0, 1.0], [5.0, 9.0]]), 0.0);
    }

    #[test]
    fn the_difference_between_the_ends_is_told_with_its_way() {
        assert_eq!(difference(100.0, 88.0, 600.0), "100.00 m to 88.00 m: 12.00 m down, 2.0 % on the mean");
        assert_eq!(difference(88.0, 100.0, 600.0), "88.00 m to 100.00 m: 12.00 m up, 2.0 % on the mean");
        assert_eq!(difference(5.0, 5.0, 600.0), "5.00 m to 5.00 m: level");
    }

    #[test]
    fn lines_need_two_places() {
        assert!(read_line("[[1,2],[3,4]]").is_ok());
        assert!(
            read_line("[[1,2],[1,2]]").is_err() && read_line("[[1,2]]").is_err() && read_line("x").is_err()
        );
    }
}
