//! Reading what a recipe names: the DEM, and lines, points and polygons.

use std::path::Path;

use bothros_core::catchments::{Holds, no_classes};
use bothros_core::conditioning::{Burn, ClosedBasin, Line, Polygons};
use bothros_core::memory::Step;
use bothros_core::{Frame, Grid, Monitor, Part, cells_within};
use bothros_formats::{
    Crs, CrsKind, Geometry, Piece, ReadFeature, Resampling, VerticalUnit, Wanted, Wish, inspect, plan_mosaic,
    read_features, read_mosaic, read_onto, utm_zone,
};

use crate::{BurnMethod, BurnSettings, Error, Recipe, Result};

/// The prepared DEM.
pub(crate) struct Prepared {
    pub dem: Grid<f32>,
    pub frame: Frame,
    pub crs: Crs,
    /// what was done that the recipe did not ask for by name
    pub notes: Vec<String>,
}

fn file_name(path: &Path) -> String {
    path.display().to_string()
}

/// Fails with an error of the recipe if a file does not exist.
fn exists(key: &str, recipe: &Recipe, path: &Path) -> Result<()> {
    let full = recipe.path(path);
    if full.is_file() { Ok(()) } else { Err(Error::key(key, format!("there is no file {}", full.display()))) }
}

fn formats(key: &str, error: bothros_formats::Error) -> Error {
    match error {
        bothros_formats::Error::Cancelled => Error::Cancelled,
        other => Error::data(key, other),
    }
}

/// Checks that every file is there, before any work begins.
pub(crate) fn check_files(recipe: &Recipe) -> Result<()> {
    for path in &recipe.terrain.dem {
        exists("terrain.dem", recipe, path)?;
    }
    for sheet in &recipe.sheets {
        exists("sheets.template", recipe, &sheet.template)?;
    }
    let (conditioning, catchments) = (recipe.conditioning.as_ref(), recipe.catchments.as_ref());
    let all = [
        ("terrain.clip", recipe.terrain.clip.as_ref()),
        ("conditioning.breach_lines", conditioning.and_then(|c| c.breach_lines.as_ref())),
        ("conditioning.walls", conditioning.and_then(|c| c.walls.as_ref())),
        ("conditioning.lakes", conditioning.and_then(|c| c.lakes.as_ref())),
        ("conditioning.closed_basins", conditioning.and_then(|c| c.closed_basins.as_ref())),
        ("conditioning.burn.streams", conditioning.and_then(|c| c.burn.as_ref()).map(|b| &b.streams)),
        ("routing.weights", recipe.routing.as_ref().and_then(|r| r.weights.as_ref())),
        ("catchments.pour_points", catchments.and_then(|c| c.pour_points.as_ref())),
        ("catchments.lines", catchments.and_then(|c| c.lines.as_ref())),
        ("catchments.sites", catchments.and_then(|c| c.sites.as_ref())),
        ("catchments.boundary", catchments.and_then(|c| c.boundary.as_ref())),
    ];
    for (key, path) in all {
        if let Some(path) = path {
            // `file.gpkg#layer` names a layer.
            exists(key, recipe, &split_layer(path).0)?;
        }
    }
    Ok(())
}

fn piece(recipe: &Recipe, path: &Path) -> Result<Piece> {
    let key = "terrain.dem";
    let (name, full) = (file_name(path), recipe.path(path));
    let info = inspect(&full, &name).map_err(|e| formats(key, e))?;
    let Some(crs) = info.crs.clone() else {
        return Err(Error::data(
            key,
            format!("{name} has no CRS: assign the one its coordinates are in, and save it again"),
        ));
    };
    if !info.georeferenced {
        return Err(Error::data(key, format!("{name} does not tell where it lies: georeference it first")));
    }
    let band = match (recipe.terrain.band, info.bands.len()) {
        (Some(band), bands) if band >= 1 && band <= bands => band,
        (Some(band), bands) => {
            return Err(Error::key("terrain.band", format!("there is no band {band}: {name} has {bands}")));
        }
        (None, 1) => 1,
        (None, bands) => {
            return Err(Error::key(
                "terrain.band",
                format!("is missing: {name} has {bands} bands; say which holds the elevations"),
            ));
        }
    };
    let unit =
        recipe.terrain.vertical_unit.or_else(|| info.vertical_unit(band)).unwrap_or(VerticalUnit::Metre);
    Ok(Piece { name, path: full, info, crs, band, unit })
}

/// Reads, mosaics, warps and clips the DEM as the recipe says.
pub(crate) fn prepare(recipe: &Recipe, monitor: &dyn Monitor) -> Result<Prepared> {
    let terrain = &recipe.terrain;
    let pieces: Vec<Piece> = terrain.dem.iter().map(|path| piece(recipe, path)).collect::<Result<_>>()?;
    let first = &pieces[0];
    let crs = match &terrain.crs {
        Some(definition) => Crs::parse(definition).map_err(|e| Error::key("terrain.crs", e))?,
        None => first.crs.clone(),
    };
    if crs.kind != CrsKind::Projected {
        let what =
            format!("{} is not projected, and areas and slopes need eastings and northings", crs.label());
        if terrain.crs.is_some() {
            return Err(Error::key("terrain.crs", what));
        }
        let zone = bothros_formats::Transform::to_wgs84(&crs).and_then(|t| {
            let (x, y) = first.info.centre();
            let (lon, lat) = t.point(x, y)?;
            utm_zone(lon, lat)
        });
        let hint = zone.ok().and_then(|z| z.epsg).map_or(String::new(), |code| {
            format!(": set terrain.crs, e.g. to \"EPSG:{code}\", the UTM zone of its centre")
        });
        return Err(Error::data("terrain.dem", format!("{}: {what}{hint}", first.name)));
    }

    let key = |e| match e {
        bothros_formats::Error::CellSize { .. } if terrain.cell_size.is_some() => {
            Error::key("terrain.cell_size", e)
        }
        other => formats("terrain.dem", other),
    };
    let cell_size = terrain.cell_size.map(|metres| metres / crs.unit_m);
    let wish = Wish { crs: Some(crs.clone()), cell_size, square: true };
    let plan = plan_mosaic(&pieces, &wish).map_err(key)?;
    Step::Recipe.check(plan.rows as u64 * plan.cols as u64).map_err(|e| Error::data("terrain.dem", e))?;
    let how = terrain.resampling.unwrap_or(Resampling::Bilinear);
    let part = Part::new(monitor, 0.0, 0.9);
    let mosaic = read_mosaic(&pieces, &plan, how, false, &part).map_err(|e| formats("terrain.dem", e))?;
    let (mut dem, mut frame, mut notes) = (mosaic.values, plan.frame(), mosaic.notes);
    if let Some(path) = &terrain.clip {
        (dem, frame) = clipped(recipe, path, dem, frame, &crs, &mut notes)?;
    }
    if dem.values().iter().all(|z| z.is_nan()) {
        return Err(Error::data("terrain.dem", bothros_core::Error::NoData));
    }
    monitor.progress(1.0);
    Ok(Prepared { dem, frame, crs, notes })
}

fn clipped(
    recipe: &Recipe,
    path: &Path,
    dem: Grid<f32>,
    frame: Frame,
    crs: &Crs,
    notes: &mut Vec<String>,
) -> Result<(Grid<f32>, Frame)> {
    let key = "terrain.clip";
    let polygons: Vec<_> = polygons_of(features(recipe, key, path, Wanted::Polygons, crs, notes)?).concat();
    let cells = cells_within(&polygons, &frame);
    let outside = || Error::data(key, format!("{} does not cover any cell of the DEM", file_name(path)));
    let (first, last) = (cells.first().ok_or_else(outside)?, cells.last().ok_or_else(outside)?);
    let (top, rows) = (first.row, last.row - first.row + 1);
    let left = cells.iter().map(|c| c.col).min().unwrap_or(0);
    let cols = cells.iter().map(|c| c.col).max().unwrap_or(0) - left + 1;
    let mut kept = Grid::filled(rows, cols, f32::NAN);
    for cell in cells {
        kept.values_mut()[(cell.row - top) * cols + cell.col - left] = dem.values()[dem.index(cell)];
    }
    Ok((kept, frame.window(top, left, rows, cols)))
}

/// `file.gpkg#layer` is a layer of a file.
fn split_layer(path: &Path) -> (std::path::PathBuf, Option<String>) {
    match path.to_str().and_then(|p| p.rsplit_once('#')) {
        Some((file, layer)) => (file.into(), Some(layer.to_owned())),
        None => (path.to_owned(), None),
    }
}

/// Reads features in the DEM's CRS.
pub(crate) fn features(
    recipe: &Recipe,
    key: &str,
    path: &Path,
    wanted: Wanted,
    crs: &Crs,
    notes: &mut Vec<String>,
) -> Result<Vec<ReadFeature>> {
    let (file, layer) = split_layer(path);
    let name = file_name(&file);
    let read = read_features(&recipe.path(&file), &name, layer.as_deref(), wanted, crs)
        .map_err(|e| formats(key, e))?;
    if let Some(from) = read.converted_from {
        notes.push(format!("{key}: {name} was converted from {} to {}", from.label(), crs.label()));
    }
    if read.left_out > 0 {
        notes.push(format!(
            "{key}: {} features of {name} without a usable shape were left out",
            read.left_out
        ));
    }
    Ok(read.features)
}

pub(crate) fn lines_of(features: Vec<ReadFeature>) -> Vec<Line> {
    let line = |f: ReadFeature| match f.shape {
        Geometry::Line(line) => Some(line),
        _ => None,
    };
    features.into_iter().filter_map(line).collect()
}

pub(crate) fn polygons_of(features: Vec<ReadFeature>) -> Vec<Polygons> {
    let polygons = |f: ReadFeature| match f.shape {
        Geometry::Polygons(polygons) => Some(polygons),
        _ => None,
    };
    features.into_iter().filter_map(polygons).collect()
}

/// All inputs of conditioning that come from files.
pub(crate) fn conditioning(
    recipe: &Recipe,
    crs: &Crs,
    notes: &mut Vec<String>,
) -> Result<bothros_core::conditioning::Conditioning> {
    use bothros_core::conditioning::{BreachLimits, Conditioning, TreatSinks};
    let Some(settings) = &recipe.conditioning else {
        return Ok(Conditioning {
            sinks: TreatSinks::Keep,
            fill_voids: recipe.terrain.fill_voids,
            volumes_only: true,
            ..Default::default()
        });
    };
    let mut lines = |key: &str, path: &Option<std::path::PathBuf>| -> Result<Vec<Line>> {
        match path {
            Some(path) => Ok(lines_of(features(recipe, key, path, Wanted::Lines, crs, notes)?)),
            None => Ok(Vec::new()),
        }
    };
    let breach_lines = lines("conditioning.breach_lines", &settings.breach_lines)?;
    let walls = lines("conditioning.walls", &settings.walls)?;
    let burn = match &settings.burn {
        Some(burn) => {
            Some((lines("conditioning.burn.streams", &Some(burn.streams.clone()))?, burn_method(burn)))
        }
        None => None,
    };
    let lakes = match &settings.lakes {
        Some(path) => {
            polygons_of(features(recipe, "conditioning.lakes", path, Wanted::Polygons, crs, notes)?)
        }
        None => Vec::new(),
    };
    let closed_basins = match &settings.closed_basins {
        Some(path) => {
            features(recipe, "conditioning.closed_basins", path, Wanted::PointsOrPolygons, crs, notes)?
                .into_iter()
                .filter_map(|f| match f.shape {
                    Geometry::Point(at) => Some(ClosedBasin::At(at)),
                    Geometry::Polygons(polygons) => Some(ClosedBasin::Within(polygons)),
                    Geometry::Line(_) => None,
                })
                .collect()
        }
        None => Vec::new(),
    };
    Ok(Conditioning {
        rebuild: Vec::new(),
        volumes_only: true,
        fill_voids: recipe.terrain.fill_voids,
        lakes,
        burn,
        walls,
        breach_lines,
        closed_basins,
        sinks: match settings.sinks {
            crate::Sinks::Fill => TreatSinks::Fill,
            crate::Sinks::Breach => TreatSinks::Breach,
            crate::Sinks::BreachThenFill => TreatSinks::BreachThenFill,
            crate::Sinks::Keep => TreatSinks::Keep,
        },
        max_fill_depth_m: settings.max_fill_depth_m,
        breach_limits: BreachLimits {
            length_m: settings.max_breach_length_m,
            depth_m: settings.max_breach_depth_m,
        },
    })
}

fn burn_method(burn: &BurnSettings) -> Burn {
    // The depths have been checked with the recipe.
    let depth_m = burn.depth_m.unwrap_or(0.0);
    match burn.method {
        BurnMethod::Trench => Burn::Trench { depth_m },
        BurnMethod::Graded => Burn::Graded {
            depth_m,
            buffer_m: burn.buffer_m.unwrap_or(0.0),
            buffer_depth_m: burn.buffer_depth_m.unwrap_or(depth_m / 5.0),
        },
        BurnMethod::Normalised => Burn::Normalised,
        BurnMethod::Carve => Burn::Carve,
    }
}

/// Reads a raster onto the DEM's grid: values bilinearly; of classes the nearest cell counts.
pub(crate) fn raster(
    recipe: &Recipe,
    (key, path): (&str, &Path),
    holds: Holds,
    (frame, crs): (&Frame, &Crs),
    notes: &mut Vec<String>,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let (name, full) = (file_name(path), recipe.path(path));
    let (resampling, how) = match holds {
        Holds::Values => (Resampling::Bilinear, "bilinear"),
        Holds::Classes => (Resampling::Nearest, "nearest cell"),
    };
    let (values, from) =
        read_onto(&full, &name, crs, frame, resampling, monitor).map_err(|e| formats(key, e))?;
    if let Some(own) = from {
        notes.push(format!("{key}: {name} was warped from {} onto the DEM's grid ({how})", own.label()));
    }
    match no_classes(&values).filter(|_| holds == Holds::Classes) {
        Some(why) => Err(Error::data(key, format!("{name}: {why}; classes are whole numbers"))),
        None => Ok(values),
    }
}
