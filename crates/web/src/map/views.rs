//! Views of the ground: slope, curvature, topographic position, contours.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_core::terrain::{
    Light, Radius, contours, curvatures, hillshade, hillshade_from_four_sides, slope, topographic_position,
};
use bothros_core::{Frame, Grid, Silent};
use bothros_store::{RasterMeta, RasterRole};
use bothros_workflow::blocking;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::map::colour::{self, Ramp};
use crate::map::tiles::{TILE, png};

/// A view computed from elevations on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// degrees
    Slope,
    /// profile curvature, 1/100 m; convex is positive
    Curvature,
    /// elevation less the mean around, metres
    Position,
}

impl View {
    pub fn from_name(name: &str) -> Option<Self> {
        match name {
            "slope" => Some(Self::Slope),
            "curvature" => Some(Self::Curvature),
            "near" | "far" => Some(Self::Position),
            _ => None,
        }
    }
}

/// Largest neighbourhood evaluated for a tile, in cells of its level.
const WIDEST: f64 = 120.0;

/// Cells that a view needs around a tile.
fn halo(view: View, radius_m: Option<f64>, cell_m: f64) -> (usize, f64) {
    match view {
        View::Position => {
            let radius =
                (radius_m.filter(|r| r.is_finite()).unwrap_or(10.0 * cell_m) / cell_m).clamp(1.5, WIDEST);
            (radius.ceil() as usize, radius)
        }
        _ => (1, 1.0),
    }
}

/// The values of a view over a window that has `halo` cells more on each side.
fn values(window: &Grid<f32>, view: View, cell_m: f64, radius: f64) -> bothros_core::Result<Grid<f32>> {
    let frame = Frame {
        rows: window.rows(),
        cols: window.cols(),
        left: 0.0,
        top: 0.0,
        cell_size: cell_m,
        unit_m: 1.0,
    };
    Ok(match view {
        View::Slope => {
            let mut tangent = slope(window, cell_m, &Silent)?;
            for value in tangent.values_mut() {
                *value = value.atan().to_degrees();
            }
            tangent
        }
        View::Curvature => {
            let mut profile = curvatures(window, cell_m, &Silent)?.profile;
            for value in profile.values_mut() {
                *value *= 100.0;
            }
            profile
        }
        View::Position => topographic_position(window, &frame, Radius::Cells(radius), &Silent)?,
    })
}

/// A tile of a view as a picture.
#[allow(clippy::too_many_arguments)]
pub async fn view_tile(
    app: &App,
    meta: &RasterMeta,
    level: usize,
    (row, col): (isize, isize),
    cell_m: f64,
    view: View,
    radius_m: Option<f64>,
    (low, high): (f32, f32),
    ramp: Ramp,
) -> Result<Vec<u8>> {
    let (more, radius) = halo(view, radius_m, cell_m);
    let size = TILE + 2 * more;
    let at = (row - more as isize, col - more as isize);
    let window = app.store.read_window::<f32>(meta, level, at, (size, size)).await?;
    let picture = blocking(move || {
        let all = values(&window, view, cell_m, radius)?;
        let tile = all.window(more, more, TILE, TILE);
        let most = low.abs().max(high.abs()).max(f32::MIN_POSITIVE);
        let colour = |v: f32| match view {
            _ if v.is_nan() => [0; 4],
            View::Slope => ramp.pixel((v - low) / (high - low).max(f32::MIN_POSITIVE), 255),
            // What is even lies in the middle of the ramp.
            _ => ramp.pixel((v / most + 1.0) / 2.0, 255),
        };
        Ok(png(TILE, TILE, tile.values().iter().map(|&v| colour(v))))
    });
    picture.await?
}

/// Hillshade in greys; `halo` has a rim of one cell.
pub fn shade(halo: &Grid<f32>, cell_x: f64, cell_y: f64, light: Light, four_sides: bool) -> Result<Vec<u8>> {
    let shade = match four_sides {
        true => hillshade_from_four_sides(halo, cell_x, cell_y, light),
        false => hillshade(halo, cell_x, cell_y, light),
    };
    let grey = |&brightness: &f32| match brightness.is_nan() {
        true => [0; 4],
        false => {
            let g = (brightness.clamp(0.0, 1.0) * 255.0).round() as u8;
            [g, g, g, 255]
        }
    };
    png(shade.rows(), shade.cols(), shade.values().iter().map(grey))
}

/// Terrain tint over hillshade; `halo` has a rim of one cell.
pub fn relief(
    halo: &Grid<f32>,
    (low, high): (f32, f32),
    cell_x: f64,
    cell_y: f64,
    light: Light,
    ramp: &Ramp,
) -> Result<Vec<u8>> {
    let shade = hillshade(halo, cell_x, cell_y, light);
    let span = (high - low).max(0.01);
    let (rows, cols) = (shade.rows(), shade.cols());
    let pixels = shade.values().iter().enumerate().map(|(i, &brightness)| {
        if brightness.is_nan() {
            return [0; 4];
        }
        let z = halo.values()[(i / cols + 1) * halo.cols() + i % cols + 1];
        colour::shaded(ramp.at((z - low) / span), brightness)
    });
    png(rows, cols, pixels)
}

#[derive(Deserialize)]
pub struct Asked {
    radius: Option<f64>,
    /// share of the values that is left out at each end, percent
    outer: Option<f64>,
}

/// Share left out at each end by default, percent.
const OUTER: f64 = 2.0;
/// More than that is no range any more.
const MOST_OUTER: f64 = 40.0;

/// Windows that a range is found from, along each side, and their size.
const LOOKS: usize = 4;
const LOOK: usize = 96;

/// The range of elevations or of a view between two percentiles, by default 2 % and 98 %, from windows spread
/// over the DEM at full resolution.
pub async fn range(
    State(app): State<App>,
    Path((study, what)): Path<(i64, String)>,
    Query(asked): Query<Asked>,
) -> Result<Json<Value>> {
    let view = match what.as_str() {
        "relief" => None,
        what => Some(View::from_name(what).ok_or_else(|| WebError::nothing("there is no such view"))?),
    };
    let outer = asked.outer.unwrap_or(OUTER);
    if !(0.0..=MOST_OUTER).contains(&outer) {
        return Err(WebError::refused(format!("between 0 and {MOST_OUTER} % can be left out at each end")));
    }
    let facts = app.facts(study).await?;
    let frame = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?.frame;
    let meta = app.store.raster(study, RasterRole::Dem).await?;
    let meta = meta.ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let cell_m = frame.cell_m();
    let (more, radius) = view.map_or((0, 1.0), |view| halo(view, asked.radius, cell_m));
    let mut all = Vec::new();
    for i in 0..LOOKS {
        for j in 0..LOOKS {
            let at = |n: usize, count: usize| {
                (count.saturating_sub(LOOK) * n / (LOOKS - 1)) as isize - more as isize
            };
            let place = (at(i, frame.rows), at(j, frame.cols));
            let size = (LOOK + 2 * more, LOOK + 2 * more);
            let window = app.store.read_window::<f32>(&meta, 0, place, size).await?;
            let found = blocking(move || {
                let all = match view {
                    Some(view) => values(&window, view, cell_m, radius)?,
                    None => window,
                };
                let inner = all.window(more, more, LOOK, LOOK);
                Ok(inner.values().iter().copied().filter(|v| !v.is_nan()).collect::<Vec<_>>())
            });
            all.extend(found.await?);
        }
    }
    if all.is_empty() {
        return Err(WebError::refused("there is no ground to find a range from"));
    }
    all.sort_unstable_by(f32::total_cmp);
    let percentile = |p: f64| all[((all.len() - 1) as f64 * p).round() as usize];
    let (low, high) = (percentile(outer / 100.0), percentile(1.0 - outer / 100.0));
    Ok(Json(json!({ "low": low, "high": high.max(low + 1e-3) })))
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
/// More lines than that cannot be told apart.
const MOST_LEVELS: f64 = 120.0;

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
        let known = window.values().iter().copied().filter(|z| !z.is_nan());
        let (low, high) = known.fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), z| (l.min(z), h.max(z)));
        let relief = (high - low).max(0.0) as f64;
        if !relief.is_finite() {
            return Ok(json!({ "interval": view.interval, "lines": [] }));
        }
        // About twenty lines in view, at a number that is easy to say.
        let interval =
            view.interval.unwrap_or_else(|| bothros_formats::sensible_cell_size((relief / 20.0).max(0.1)));
        let interval = interval.max(relief / MOST_LEVELS);
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

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Cell;

    #[test]
    fn values_of_plain_shapes_are_what_geometry_says() {
        // A plane that falls by a quarter: 14.036 degrees everywhere (its arc tangent), and not bent.
        let plane = Grid::from_fn(9, 9, |c| 100.0 - 2.5 * c.col as f32);
        let at = |grid: &Grid<f32>| *grid.get(Cell { row: 4, col: 4 }).unwrap();
        assert!((at(&values(&plane, View::Slope, 10.0, 1.0).unwrap()) - 14.036).abs() < 1e-3);
        assert!(at(&values(&plane, View::Curvature, 10.0, 1.0).unwrap()).abs() < 1e-4);
        assert!(at(&values(&plane, View::Position, 10.0, 3.0).unwrap()).abs() < 1e-4);
        // The top of a cone stands above what lies around it, its mirror image below.
        let cone = |sign: f32| {
            Grid::from_fn(9, 9, |c| {
                let (x, y) = (c.col as f32 - 4.0, c.row as f32 - 4.0);
                100.0 - sign * 3.0 * x.hypot(y)
            })
        };
        let position = |sign| at(&values(&cone(sign), View::Position, 10.0, 3.0).unwrap());
        assert!(position(1.0) > 3.0 && (position(1.0) + position(-1.0)).abs() < 1e-4);
        // A ridge that falls away ever steeper is convex, which is positive.
        let ridge = Grid::from_fn(9, 9, |c| 100.0 - 0.1 * (c.col as f32).powi(2));
        assert!(at(&values(&ridge, View::Curvature, 10.0, 1.0).unwrap()) > 0.0);
    }

    #[test]
    fn a_view_looks_as_far_as_it_needs_and_no_farther() {
        assert_eq!(halo(View::Slope, Some(500.0), 5.0), (1, 1.0));
        assert_eq!(halo(View::Position, Some(50.0), 5.0), (10, 10.0));
        // Ten cells by default; a cell and a half at least, 120 at most; no number is none.
        assert_eq!(halo(View::Position, None, 5.0), (10, 10.0));
        assert_eq!(halo(View::Position, Some(f64::NAN), 5.0), (10, 10.0));
        assert_eq!(halo(View::Position, Some(-3.0), 5.0), (2, 1.5));
        assert_eq!(halo(View::Position, Some(1e9), 5.0), (120, 120.0));
    }

    #[test]
    fn relief_is_clear_where_nothing_is_known_and_lit_from_its_side() {
        let mut ground =
            Grid::from_fn(12, 22, |c| if c.col < 11 { c.col as f32 } else { 22.0 - c.col as f32 });
        let hole = ground.index(Cell { row: 5, col: 5 });
        ground.values_mut()[hole] = f32::NAN;
        let light = Light { azimuth: 270.0, ..Light::default() };
        let ramp = Ramp::of("relief", None, false);
        let bytes = relief(&ground, (0.0, 11.0), 1.0, 1.0, light, &ramp).unwrap();
        let mut picture = png::Decoder::new(std::io::Cursor::new(bytes)).read_info().unwrap();
        let mut pixels = vec![0; picture.output_buffer_size().unwrap()];
        picture.next_frame(&mut pixels).unwrap();
        assert_eq!((picture.info().width, picture.info().height), (20, 10));
        let pixel = |row: usize, col: usize| &pixels[(row * 20 + col) * 4..][..4];
        assert_eq!(pixel(4, 4)[3], 0, "a hole is clear");
        let bright = |row, col| pixel(row, col)[..3].iter().map(|&v| u32::from(v)).sum::<u32>();
        // Equally high on both sides of the crest; the one towards the light is the brighter.
        assert!(bright(8, 6) > bright(8, 14) + 30, "{} {}", bright(8, 6), bright(8, 14));
    }
}
