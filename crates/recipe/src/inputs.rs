//! Reading what a recipe names beside the DEM: lines, points, polygons, rasters.

use std::path::Path;

use bothros_core::catchments::{Holds, no_classes};
use bothros_core::conditioning::{ClosedBasin, Line, Polygons, Rebuild, lines_near};
use bothros_core::{Frame, Grid, Monitor};
use bothros_formats::{Crs, Geometry, ReadFeature, Resampling, Wanted, read_features, read_onto};

use crate::{Error, RebuildSettings, Recipe, Result};

pub(crate) fn file_name(path: &Path) -> String {
    path.display().to_string()
}

pub(crate) fn formats(key: &str, error: bothros_formats::Error) -> Error {
    match error {
        bothros_formats::Error::Cancelled => Error::Cancelled,
        other => Error::data(key, other),
    }
}

/// `file.gpkg#layer` is a layer of a file.
pub fn split_layer(path: &Path) -> (std::path::PathBuf, Option<String>) {
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
        Some(burn) => Some((lines("conditioning.burn.streams", &Some(burn.streams.clone()))?, burn.method())),
        None => None,
    };
    let lakes = match &settings.lakes {
        Some(path) => {
            polygons_of(features(recipe, "conditioning.lakes", path, Wanted::Polygons, crs, notes)?)
        }
        None => Vec::new(),
    };
    let mut closed_basins = Vec::new();
    for path in &settings.closed_basins.0 {
        let key = "conditioning.closed_basins";
        let read = features(recipe, key, path, Wanted::PointsOrPolygons, crs, notes)?;
        closed_basins.extend(read.into_iter().filter_map(|f| match f.shape {
            Geometry::Point(at) => Some(ClosedBasin::At(at)),
            Geometry::Polygons(polygons) => Some(ClosedBasin::Within(polygons)),
            Geometry::Line(_) => None,
        }));
    }
    let rebuild = match &settings.rebuild {
        Some(how) => rebuilding(recipe, how, &breach_lines, crs, notes)?,
        None => Vec::new(),
    };
    Ok(Conditioning {
        rebuild,
        volumes_only: true,
        fill_voids: recipe.terrain.fill_voids,
        lakes,
        burn,
        walls,
        breach_lines,
        closed_basins,
        sinks: settings.sinks.into(),
        max_fill_depth_m: settings.max_fill_depth_m,
        breach_limits: BreachLimits {
            length_m: settings.max_breach_length_m,
            depth_m: settings.max_breach_depth_m,
        },
    })
}

/// Tension of rebuilt ground where none is told.
const TENSION: f64 = 0.3;

/// Areas whose ground is made anew, with what is known inside them.
fn rebuilding(
    recipe: &Recipe,
    how: &RebuildSettings,
    breach_lines: &[Line],
    crs: &Crs,
    notes: &mut Vec<String>,
) -> Result<Vec<Rebuild>> {
    let mut read = |key: &str, path: &Path, wanted| features(recipe, key, path, wanted, crs, notes);
    let areas = polygons_of(read("conditioning.rebuild.areas", &how.areas, Wanted::Polygons)?);
    let (mut points, mut contours, mut flat) = (Vec::new(), Vec::new(), 0);
    if let Some(path) = &how.points {
        for feature in read("conditioning.rebuild.points", path, Wanted::Points)? {
            match (feature.shape, feature.elevation) {
                (Geometry::Point([x, y]), Some(z)) if !z.is_nan() => points.push([x, y, z]),
                _ => flat += 1,
            }
        }
    }
    if let Some(path) = &how.contours {
        for feature in read("conditioning.rebuild.contours", path, Wanted::Lines)? {
            match (feature.shape, feature.elevation) {
                (Geometry::Line(line), Some(z)) if !z.is_nan() => contours.push((z, line)),
                _ => flat += 1,
            }
        }
    }
    if flat > 0 {
        notes.push(format!("conditioning.rebuild: {flat} points and contour lines have no elevation"));
    }
    let rebuild = |area: Polygons| Rebuild {
        points: points.clone(),
        contours: contours.clone(),
        breach_lines: lines_near(&area, breach_lines),
        own: how.own,
        tension: how.tension.unwrap_or(TENSION),
        blend_m: how.blend_m.unwrap_or(0.0),
        area,
    };
    Ok(areas.into_iter().map(rebuild).collect())
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
