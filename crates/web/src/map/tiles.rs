//! Map tiles: 256 x 256 cells of one level of a raster, as a picture or as numbers.
//!
//! The tile grid is that of the raster's levels, so that a tile is a quarter of one block. The number
//! of the raster is in the address: what an address gives never changes.

use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_core::terrain::Light;
use bothros_core::{Cell, Grid, Threshold};
use bothros_formats::encode_png;
use bothros_store::{RasterMeta, RasterRole};
use bothros_workflow::{
    Dot, LandIndex, Ramp, View, colour, derived_tint, halo, index_tint, relief_dots, shade_dots, usual_light,
    view_dots,
};
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};

pub(crate) const TILE: usize = 256;

/// How a tile is drawn.
#[derive(Debug, Deserialize)]
pub struct Drawing {
    low: Option<f32>,
    high: Option<f32>,
    /// where the light comes from, degrees clockwise from north
    azimuth: Option<f64>,
    /// its height over the horizon, degrees
    altitude: Option<f64>,
    /// elevations are multiplied by this for hillshade
    exaggeration: Option<f64>,
    /// hillshade lit from four sides at once
    four_sides: Option<bool>,
    /// radius of topographic position, metres
    radius: Option<f64>,
    /// threshold of the network that ways lead to
    cells: Option<u32>,
    /// name of a raster from a formula
    name: Option<String>,
    /// a formula that was typed a while ago
    of: Option<String>,
    /// name of an even ramp in the place of the layer's own
    ramp: Option<String>,
    /// from high to low
    reversed: Option<bool>,
}

impl Drawing {
    fn ramp(&self, layer: &str) -> Ramp {
        Ramp::of(layer, self.ramp.as_deref(), self.reversed == Some(true))
    }

    fn light(&self) -> Light {
        let usual = usual_light();
        Light {
            azimuth: self.azimuth.filter(|a| a.is_finite()).unwrap_or(usual.azimuth),
            altitude: self.altitude.filter(|a| a.is_finite()).unwrap_or(usual.altitude).clamp(1.0, 90.0),
            exaggeration: self
                .exaggeration
                .filter(|e| e.is_finite())
                .unwrap_or(usual.exaggeration)
                .clamp(0.1, 50.0),
        }
    }
}

fn role(what: &str) -> Option<RasterRole> {
    Some(match what {
        "source" => RasterRole::Source,
        "dem" | "shade" | "derived" => RasterRole::Dem,
        "filled" => RasterRole::Filled,
        "sinks" => RasterRole::FillDepth,
        "change" => RasterRole::CutFill,
        "direction" => RasterRole::Direction,
        "area" | "way" | "begun" => RasterRole::Accumulation,
        what if LandIndex::from_name(what).is_some() => RasterRole::Accumulation,
        "probable" => RasterRole::StreamProbability,
        "divide" => RasterRole::CatchmentProbability(0),
        _ => return None,
    })
}

pub async fn tile(
    State(app): State<App>,
    Path((study, what, raster, level, col, row)): Path<(i64, String, i64, usize, usize, usize)>,
    Query(stretch): Query<Drawing>,
    headers: HeaderMap,
) -> Result<Response> {
    let nothing = || WebError::nothing("there is no such tile");
    let view = View::from_name(&what);
    let role = view.map(|_| RasterRole::Dem).or_else(|| role(&what)).ok_or_else(nothing)?;
    let tag = format!("\"{what}-{raster}-{level}-{col}-{row}-{stretch:?}\"");
    if headers.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    let (of, meta) = app.store.raster_by_number(study, raster).await?;
    // Which of the catchments it is, the number of the raster tells.
    let catchment = |role| matches!(role, RasterRole::CatchmentProbability(_));
    // Where nothing but filling was done, the depth of fill is the cut and fill.
    let same = of == role
        || (catchment(of) && catchment(role))
        || (of, role) == (RasterRole::FillDepth, RasterRole::CutFill);
    if !same || level >= meta.levels {
        return Err(nothing());
    }
    let (rows, cols) = meta.size_of_level(level);
    if row > rows / TILE || col > cols / TILE {
        return Err(nothing());
    }
    // The ground is drawn alike whichever of its rasters it comes from.
    let ramp =
        stretch.ramp(if ["source", "dem", "filled"].contains(&what.as_str()) { "relief" } else { &what });
    let wanted = Wanted { study, role, plain: what == "shade", view, ramp, meta, level, col, row };
    let key = format!("{study} {tag}");
    let draw = async {
        // As many at a time as there are processors: who came first is answered first.
        let _turn = app.drawing.acquire().await.map_err(std::io::Error::other)?;
        drawn(&app, &wanted, &stretch).await
    };
    let index = LandIndex::from_name(&what);
    // What these show follows changes by hand, which their addresses do not tell.
    let follows = index.is_some() || ["way", "begun", "derived"].contains(&what.as_str());
    let (kind, bytes) = match index {
        Some(index) => land(&app, &wanted, &stretch, index).await?,
        None if what == "begun" => begun(&app, &wanted).await?,
        None if what == "derived" => derived(&app, &wanted, &stretch).await?,
        None if follows => way(&app, &wanted, &stretch).await?,
        None => app.tiles.try_get_with(key, draw).await.map_err(|e: Arc<WebError>| (*e).clone())?,
    };
    let kept = if follows { "no-cache" } else { "private, max-age=604800, immutable" };
    let headers = [(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, kept)];
    let mut response = (headers, bytes).into_response();
    if !follows && let Ok(tag) = tag.parse() {
        response.headers_mut().insert(header::ETAG, tag);
    }
    Ok(response)
}

/// Which tile of which raster.
struct Wanted {
    study: i64,
    role: RasterRole,
    /// hillshade alone
    plain: bool,
    view: Option<View>,
    ramp: Ramp,
    meta: RasterMeta,
    level: usize,
    col: usize,
    row: usize,
}

impl Wanted {
    fn at(&self) -> (isize, isize) {
        ((self.row * TILE) as isize, (self.col * TILE) as isize)
    }
}

/// A tile as it is sent: its kind, its bytes.
pub(crate) type Tile = (&'static str, Bytes);

const SIZE: (usize, usize) = (TILE, TILE);

async fn coloured<T: bothros_store::CellValue>(
    app: &App,
    tile: &Wanted,
    colour: impl Fn(T) -> [u8; 4] + Send + 'static,
) -> Result<Tile> {
    let values = app.store.read_window::<T>(&tile.meta, tile.level, tile.at(), SIZE).await?;
    let draw = move || Ok(png(TILE, TILE, values.values().iter().map(|&v| colour(v))));
    Ok(("image/png", bothros_workflow::blocking(draw).await??.into()))
}

async fn drawn(app: &App, tile: &Wanted, stretch: &Drawing) -> Result<Tile> {
    let (store, meta, level) = (&app.store, &tile.meta, tile.level);
    if let Some(view) = tile.view {
        let (cell_m, _) = cell_metres(app, tile.study, tile.role, meta, level).await?;
        let range = (stretch.low.unwrap_or(0.0), stretch.high.unwrap_or(1.0));
        let ramp = tile.ramp.clone();
        let (top, left) = tile.at();
        let (more, _) = halo(view, stretch.radius, cell_m);
        let (at, size) = ((top - more as isize, left - more as isize), TILE + 2 * more);
        let window = store.read_window::<f32>(meta, level, at, (size, size)).await?;
        let radius = stretch.radius;
        let draw = move || Ok(dots_png(&view_dots(&window, view, cell_m, radius, range, &ramp)?));
        let bytes = bothros_workflow::blocking(draw).await??;
        return Ok(("image/png", bytes.into()));
    }
    match tile.role {
        RasterRole::Accumulation => {
            let cells = store.read_window::<u32>(meta, level, tile.at(), SIZE).await?;
            let mut bytes = Vec::with_capacity(TILE * TILE * 4);
            for &cell in cells.values() {
                // Contributing area in cells, the cell itself counted; 0 where there is none.
                let area = if cell == u32::MAX { 0.0 } else { cell as f32 + 1.0 };
                bytes.extend(area.to_le_bytes());
            }
            Ok(("application/octet-stream", bytes.into()))
        }
        RasterRole::Direction => coloured::<u8>(app, tile, colour::direction).await,
        RasterRole::FillDepth => {
            let deepest = stretch.high.unwrap_or(1.0).max(0.01);
            // The square root shows shallow sinks too.
            let ramp = tile.ramp.clone();
            let tint = move |d: f32| match d.is_nan() {
                true => [0; 4],
                false => ramp.pixel((d / deepest).sqrt(), 225),
            };
            coloured::<f32>(app, tile, tint).await
        }
        RasterRole::CutFill => {
            let most = stretch.high.unwrap_or(1.0).max(0.01);
            let ramp = tile.ramp.clone();
            let tint = move |c: f32| match c.is_nan() {
                true => [0; 4],
                // The square root shows small changes too; the deepest cut at one end, the highest fill at the other.
                false => ramp.pixel((1.0 + (c.abs() / most).sqrt().min(1.0).copysign(c)) / 2.0, 235),
            };
            coloured::<f32>(app, tile, tint).await
        }
        RasterRole::StreamProbability | RasterRole::CatchmentProbability(_) => {
            let ramp = tile.ramp.clone();
            let tint = move |p: f32| match p > 0.0 {
                true => ramp.pixel(p, 230),
                false => [0; 4],
            };
            coloured::<f32>(app, tile, tint).await
        }
        _ => {
            let (top, left) = tile.at();
            let halo =
                store.read_window::<f32>(meta, level, (top - 1, left - 1), (TILE + 2, TILE + 2)).await?;
            let range = (stretch.low.unwrap_or(0.0), stretch.high.unwrap_or(1000.0));
            let (x, y) = cell_metres(app, tile.study, tile.role, meta, level).await?;
            let light = stretch.light();
            let (plain, four) = (tile.plain, stretch.four_sides == Some(true));
            let ramp = tile.ramp.clone();
            let draw = move || match plain {
                true => dots_png(&shade_dots(&halo, x, y, light, four)),
                false => dots_png(&relief_dots(&halo, range, x, y, light, &ramp)),
            };
            let bytes = bothros_workflow::blocking(move || Ok(draw())).await??;
            Ok(("image/png", bytes.into()))
        }
    }
}

/// A tile of a grid that is in memory, whole at its finest level only.
async fn sampled<T: Send + Sync + 'static>(
    tile: &Wanted,
    of: Arc<T>,
    values: impl Fn(&T) -> &Grid<f32> + Send + 'static,
    colour: impl Fn(f32) -> [u8; 4] + Send + 'static,
) -> Result<Tile> {
    let (level, row, col) = (tile.level, tile.row, tile.col);
    let draw = move || {
        // Of a coarser level the cell in the middle of those it stands for.
        let place = |at: usize| (at << level) + (1usize << level) / 2;
        let grid = values(&of);
        let pixels = (0..TILE * TILE).map(|i| {
            let (down, across) = (row * TILE + i / TILE, col * TILE + i % TILE);
            match grid.get(Cell { row: place(down), col: place(across) }) {
                Some(v) if !v.is_nan() => colour(*v),
                // Thin lines are seen from afar too.
                _ => any_of(grid, level, down, across).map_or([0; 4], &colour),
            }
        });
        Ok(png(TILE, TILE, pixels))
    };
    Ok(("image/png", bothros_workflow::blocking(draw).await??.into()))
}

/// The largest value among the cells that a coarser one stands for; none where all are none.
fn any_of(grid: &Grid<f32>, level: usize, row: usize, col: usize) -> Option<f32> {
    let past = |at: usize, most: usize| ((at + 1) << level).min(most);
    let (right, left) = (past(col, grid.cols()), (col << level).min(grid.cols()));
    let known = (row << level..past(row, grid.rows()))
        .flat_map(|row| &grid.values()[row * grid.cols()..][left.min(right)..right])
        .filter(|v| !v.is_nan());
    known.copied().reduce(f32::max)
}

/// The network that a tile follows.
fn threshold(stretch: &Drawing) -> Threshold {
    Threshold::cells(stretch.cells.unwrap_or(1).max(1))
}

/// The largest threshold, in cells, at which each cell is stream, where that is not the contributing area; of a coarser level the largest of the cells that it stands
/// for, so that no stream falls between two.
async fn begun(app: &App, tile: &Wanted) -> Result<Tile> {
    let facts = app.facts(tile.study).await?;
    let streams = app.grids.streams(&app.store, &facts).await?;
    let (level, row, col) = (tile.level, tile.row, tile.col);
    let draw = move || {
        let told = streams.accumulation();
        let (rows, cols) = (told.rows(), told.cols());
        let side = 1usize << level;
        let mut out = vec![0u32; TILE * TILE];
        for y in (row * TILE * side)..((row + 1) * TILE * side).min(rows) {
            let line = &told.values()[y * cols..(y + 1) * cols];
            let at = (y / side - row * TILE) * TILE;
            for x in (col * TILE * side)..((col + 1) * TILE * side).min(cols) {
                let cell = &mut out[at + x / side - col * TILE];
                *cell = (*cell).max(Threshold::most(line[x]));
            }
        }
        Ok(out.into_iter().flat_map(|cells| (cells as f32).to_le_bytes()).collect::<Vec<u8>>())
    };
    Ok(("application/octet-stream", bothros_workflow::blocking(draw).await?.into()))
}

/// How far water runs over land before it meets the network at a threshold.
async fn way(app: &App, tile: &Wanted, stretch: &Drawing) -> Result<Tile> {
    let facts = app.facts(tile.study).await?;
    let ways = app.grids.ways(&app.store, &facts, threshold(stretch)).await?;
    let most = stretch.high.filter(|m| *m > 0.0).unwrap_or(ways.most_m as f32).max(1.0);
    let ramp = tile.ramp.clone();
    sampled(tile, ways, |w| &w.far, move |d| ramp.pixel(d / most, 255)).await
}

/// An index of the land.
async fn land(app: &App, tile: &Wanted, stretch: &Drawing, index: LandIndex) -> Result<Tile> {
    let facts = app.facts(tile.study).await?;
    let found = app.grids.land_index(&app.store, &facts, threshold(stretch), index).await?;
    let colour = index_tint(index, found.low, found.high, tile.ramp.clone());
    sampled(tile, found, |i| &i.values, colour).await
}

/// A raster from a formula.
async fn derived(app: &App, tile: &Wanted, stretch: &Drawing) -> Result<Tile> {
    let facts = app.facts(tile.study).await?;
    let (name, of) = (stretch.name.as_deref().unwrap_or_default(), stretch.of.as_deref().unwrap_or_default());
    let formula = crate::derived::typed(app, &facts, name, of).await?;
    let found = app.grids.derived(&app.store, &facts, &formula).await?;
    let (low, high) = (stretch.low.unwrap_or(found.low), stretch.high.unwrap_or(found.high));
    let colour = derived_tint(low, high, tile.ramp.clone());
    sampled(tile, found, |d| &*d.values, colour).await
}

/// Width and height in metres of a cell of a level.
pub(crate) async fn cell_metres(
    app: &App,
    study: i64,
    role: RasterRole,
    meta: &RasterMeta,
    level: usize,
) -> Result<(f64, f64)> {
    let facts = app.facts(study).await?;
    let times = (1u64 << level) as f64;
    let unit = match (role, &facts.terrain, &facts.source) {
        (RasterRole::Source, _, Some(source)) => {
            let crs = source.crs.as_ref();
            if crs.is_some_and(|c| c.kind == bothros_formats::CrsKind::Geographic) {
                // Metres in a degree of the mean sphere.
                const DEGREE: f64 = 111_195.0;
                let latitude = (meta.top - meta.cell_y * meta.rows as f64 / 2.0).clamp(-85.0, 85.0);
                return Ok((
                    meta.cell_x * DEGREE * latitude.to_radians().cos() * times,
                    meta.cell_y * DEGREE * times,
                ));
            }
            crs.map_or(1.0, |c| c.unit_m)
        }
        (_, Some(terrain), _) => terrain.frame.unit_m,
        _ => 1.0,
    };
    Ok((meta.cell_x * unit * times, meta.cell_y * unit * times))
}

fn dots_png(dots: &Grid<Dot>) -> Result<Vec<u8>> {
    png(dots.rows(), dots.cols(), dots.values().iter().copied())
}

pub(crate) fn png(rows: usize, cols: usize, pixels: impl Iterator<Item = [u8; 4]>) -> Result<Vec<u8>> {
    let data: Vec<u8> = pixels.flatten().collect();
    Ok(encode_png(cols, rows, &data)?)
}

/// A small picture of a study's terrain for the start page.
pub async fn picture(State(app): State<App>, Path(study): Path<i64>, headers: HeaderMap) -> Result<Response> {
    let facts = app.facts(study).await?;
    let mut found = None;
    for role in [RasterRole::Dem, RasterRole::Source] {
        if found.is_none() {
            found = app.store.raster(study, role).await?.map(|m| (role, m));
        }
    }
    let (role, meta) = found.ok_or_else(|| WebError::nothing("the study has no terrain yet"))?;
    let tag = format!("\"picture-{}\"", meta.id);
    if headers.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    let level = meta.levels - 1;
    let (rows, cols) = meta.size_of_level(level);
    let halo = app.store.read_window::<f32>(&meta, level, (-1, -1), (rows + 2, cols + 2)).await?;
    let summary = facts.terrain.as_ref().map(|t| &t.summary);
    let summary = summary.or(facts.source.as_ref().and_then(|s| s.summary.as_ref()));
    let range = summary.map_or((0.0, 1000.0), |s| (s.percentile_2_m, s.percentile_98_m));
    let (x, y) = cell_metres(&app, study, role, &meta, level).await?;
    let headers = [
        (header::CONTENT_TYPE, "image/png".to_owned()),
        (header::ETAG, tag),
        (header::CACHE_CONTROL, "no-cache".to_owned()),
    ];
    let ramp = Ramp::of("relief", None, false);
    Ok((headers, dots_png(&relief_dots(&halo, range, x, y, usual_light(), &ramp))?).into_response())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thin_lines_are_found_among_the_cells_of_a_coarser_one() {
        let mut values = vec![f32::NAN; 5 * 7];
        (values[2 * 7 + 3], values[4 * 7 + 6]) = (4.0, 9.0);
        let grid = Grid::from_vec(5, 7, values);
        assert_eq!(any_of(&grid, 0, 2, 3), Some(4.0));
        assert_eq!(any_of(&grid, 1, 1, 1), Some(4.0));
        assert_eq!(any_of(&grid, 1, 0, 0), None);
        // At the edge, and beyond it.
        assert_eq!(any_of(&grid, 2, 1, 1), Some(9.0));
        assert_eq!(any_of(&grid, 3, 0, 0), Some(9.0));
        assert_eq!(any_of(&grid, 2, 5, 5), None);
    }
}
