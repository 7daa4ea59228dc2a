//! The keys of `[terrain]`, and the DEM that they lead to.

use std::path::{Path, PathBuf};

use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_formats::{
    Crs, CrsKind, Laying, Piece, RasterInfo, Resampling, Transform, VerticalUnit, Wanted, Wish, inspect,
    plan_mosaic, read_elevation, read_mosaic, utm_zone,
};
use bothros_preparation::{Alignment, Clip, Preparing, Read};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::inputs::{features, file_name, formats, polygons_of};
use crate::recipe::{not_negative, positive};
use crate::room::Room;
use crate::{Error, Recipe, Result};

/// `[terrain]`
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Terrain {
    /// one or more files; where they overlap, the one named first counts
    pub dem: Vec<PathBuf>,
    /// CRS of the coordinates of files that do not tell theirs
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source_crs: Option<String>,
    /// whether each file is raised or lowered to fit those before it
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fit_heights: bool,
    /// warp to it; must be projected
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crs: Option<String>,
    /// metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cell_size: Option<f64>,
    /// a grid that the DEM is made to line up with, which decides CRS and cell size
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub align: Option<Align>,
    /// a file of polygons: what lies outside is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip: Option<PathBuf>,
    /// what is kept around them, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clip_margin_m: Option<f64>,
    /// unit of the elevations, m unless told
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vertical_unit: Option<VerticalUnit>,
    /// the band that holds the elevations, from 1; needed where a file has several
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub band: Option<usize>,
    /// resampling, where the DEM must be warped: bilinear by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resampling: Option<Resampling>,
    /// whether spikes are replaced by the median of their neighbours
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mend_spikes: bool,
    /// whether the sea is declared as outside
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sea_outside: bool,
    /// whether voids are filled from their rim before anything is warped
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mend_voids: bool,
    /// whether steps of rounding get a slope again
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub soften_steps: bool,
    /// whether the DEM is cropped to its largest full rectangle
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub full_rectangle: bool,
    /// whether voids are filled from their rim when it is conditioned; outside by default
    #[serde(default)]
    pub fill_voids: bool,
}

/// `align = …`: a raster, or a grid by its corner.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Align {
    /// the grid of a file
    Raster(PathBuf),
    /// a grid by one of its corners
    Grid(Lattice),
}

/// A grid by one of its corners.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lattice {
    /// its CRS
    pub crs: String,
    /// easting of the corner, CRS units
    pub left: f64,
    /// northing of the corner, CRS units
    pub top: f64,
    /// edge of a cell, CRS units
    pub cell_size: f64,
}

impl Terrain {
    /// How a DEM is prepared in the CRS that it is brought to, with a grid and a clip that were read.
    pub fn preparing(&self, crs: &Crs, align: Option<Alignment>, clip: Option<Clip>) -> Preparing {
        Preparing {
            crs: self.crs.clone(),
            cell_size: self.cell_size.map(|metres| metres / crs.unit_m),
            resampling: self.resampling.unwrap_or_default(),
            align,
            clip,
            full_rectangle: self.full_rectangle,
            spikes: self.mend_spikes,
            steps: self.soften_steps,
            sea: self.sea_outside,
            voids: self.mend_voids,
        }
    }

    pub(crate) fn check(&self) -> Result<()> {
        if self.dem.is_empty() {
            return Err(Error::key("terrain.dem", "names no file; name one or more, as in [\"north.tif\"]"));
        }
        positive("terrain.cell_size", self.cell_size)?;
        if let Some(margin) = self.clip_margin_m {
            not_negative("terrain.clip_margin_m", margin)?;
            if self.clip.is_none() {
                return Err(Error::key("terrain.clip_margin_m", "means nothing without clip"));
            }
        }
        if self.fit_heights && self.dem.len() < 2 {
            let what = "means nothing unless dem names several files";
            return Err(Error::key("terrain.fit_heights", what));
        }
        if let Some(align) = &self.align {
            for (key, there) in [("crs", self.crs.is_some()), ("cell_size", self.cell_size.is_some())] {
                if there {
                    let what = "is decided by the grid of align: leave one of them out";
                    return Err(Error::key(&format!("terrain.{key}"), what));
                }
            }
            if let Align::Grid(grid) = align {
                positive("terrain.align.cell_size", Some(grid.cell_size))?;
                if !(grid.left.is_finite() && grid.top.is_finite()) {
                    return Err(Error::key("terrain.align", "needs a corner in finite numbers"));
                }
            }
        }
        Ok(())
    }
}

/// The prepared DEM.
pub(crate) struct Prepared {
    pub dem: Grid<f32>,
    pub frame: Frame,
    pub crs: Crs,
    /// what was done that the recipe did not ask for by name
    pub notes: Vec<String>,
}

const DEM: &str = "terrain.dem";

fn piece(recipe: &Recipe, path: &Path) -> Result<Piece> {
    let (name, full) = (file_name(path), recipe.path(path));
    let info = inspect(&full, &name).map_err(|e| formats(DEM, e))?;
    let assumed = || {
        let parse = |text: &String| Crs::parse(text).map_err(|e| Error::key("terrain.source_crs", e));
        recipe.terrain.source_crs.as_ref().map(parse).transpose()
    };
    let crs = match info.crs.clone() {
        Some(crs) => crs,
        None => assumed()?.ok_or_else(|| {
            let what = "has no CRS: name the one its coordinates are in as terrain.source_crs, or assign it and save the file again";
            Error::data(DEM, format!("{name} {what}"))
        })?,
    };
    if !info.georeferenced {
        return Err(Error::data(DEM, format!("{name} does not tell where it lies: georeference it first")));
    }
    let band = match (recipe.terrain.band, info.bands.len()) {
        (Some(band), bands) if band >= 1 && band <= bands => band,
        // Of files with several bands the recipe tells which.
        (Some(_), 1) if recipe.terrain.dem.len() > 1 => 1,
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

/// Elevations as they lie in the files, put together.
struct AsRead {
    values: Grid<f32>,
    rows: usize,
    cols: usize,
    geo_transform: [f64; 6],
    crs: Crs,
    notes: Vec<String>,
}

fn read(pieces: &[Piece], fit: bool, room: &Room, part: &dyn Monitor) -> Result<AsRead> {
    let check = |rows: usize, cols: usize| room.check(rows as u64 * cols as u64);
    if let [Piece { name, path, info, crs, band, unit }] = pieces {
        check(info.rows, info.cols)?;
        let values = read_elevation(path, name, *band, *unit, part).map_err(|e| formats(DEM, e))?;
        let RasterInfo { rows, cols, geo_transform, .. } = *info;
        return Ok(AsRead { values, rows, cols, geo_transform, crs: crs.clone(), notes: Vec::new() });
    }
    let plan = plan_mosaic(pieces, &Wish::default()).map_err(|e| formats(DEM, e))?;
    check(plan.rows, plan.cols)?;
    let laying = Laying { resampling: Resampling::Bilinear, level: fit, origin: false };
    let mosaic = read_mosaic(pieces, &plan, laying, part).map_err(|e| formats(DEM, e))?;
    let notes = mosaic.notes;
    let (rows, cols, geo_transform) = (plan.rows, plan.cols, plan.geo_transform);
    Ok(AsRead { values: mosaic.values, rows, cols, geo_transform, crs: plan.crs, notes })
}

/// Reads the DEM and prepares it as the recipe says.
pub(crate) fn prepare(recipe: &Recipe, room: &Room, monitor: &dyn Monitor) -> Result<Prepared> {
    let terrain = &recipe.terrain;
    // Each is looked at by a process of its own; of several faults the first in the list is told.
    let looked: Vec<Result<Piece>> = terrain.dem.par_iter().map(|path| piece(recipe, path)).collect();
    let mut pieces: Vec<Piece> = looked.into_iter().collect::<Result<_>>()?;
    // What tells no unit of its elevations has that of the first file, as in a study.
    if terrain.vertical_unit.is_none() {
        let unit = pieces[0].unit;
        for piece in pieces.iter_mut().filter(|p| p.info.vertical_unit(p.band).is_none()) {
            piece.unit = unit;
        }
    }
    let align = terrain.align.as_ref().map(|align| alignment(recipe, align)).transpose()?;
    let chosen = match (&align, &terrain.crs) {
        (Some(align), _) => Some(Crs::parse(&align.crs).map_err(|e| Error::key("terrain.align", e))?),
        (None, Some(definition)) => Some(Crs::parse(definition).map_err(|e| Error::key("terrain.crs", e))?),
        (None, None) => None,
    };
    // Told before elevations are read.
    projected(&pieces, chosen.as_ref(), align.is_some())?;
    let mut read = read(&pieces, terrain.fit_heights, room, &Part::new(monitor, 0.0, 0.5))?;
    let crs = chosen.unwrap_or_else(|| read.crs.clone());
    let mut notes = std::mem::take(&mut read.notes);
    let clip = terrain.clip.as_deref().map(|path| clip(recipe, path, &crs, &mut notes)).transpose()?;
    let how = terrain.preparing(&crs, align, clip);
    let unit = pieces[0].unit;
    let AsRead { values, rows, cols, geo_transform, crs: own, .. } = read;
    let lies = Read { rows, cols, geo_transform, crs: Some(&own), vertical_unit: unit, reckoned: None };
    let (frame, part) = (how.place(&lies).map_err(|e| told(recipe, e))?.frame, Part::new(monitor, 0.5, 1.0));
    room.check(frame.cells() as u64)?;
    let made = bothros_preparation::prepare(values, &lies, &how, &part).map_err(|e| told(recipe, e))?;
    if made.values.values().iter().all(|z| z.is_nan()) {
        return Err(Error::data(DEM, bothros_core::Error::NoData));
    }
    notes.extend(made.done.into_iter().map(|what| format!("terrain: {what}")));
    monitor.progress(1.0);
    Ok(Prepared { dem: made.values, frame: made.frame, crs: made.crs, notes })
}

/// Refuses a CRS that is not projected, with one that would do.
fn projected(pieces: &[Piece], chosen: Option<&Crs>, aligned: bool) -> Result<()> {
    let first = &pieces[0];
    let crs = chosen.unwrap_or(&first.crs);
    // Several files in degrees that share no grid are put together in a UTM zone; it is not relied upon.
    if crs.kind == CrsKind::Projected {
        return Ok(());
    }
    let what = format!("{} is not projected, and areas and slopes need eastings and northings", crs.label());
    if chosen.is_some() {
        return Err(Error::key(if aligned { "terrain.align" } else { "terrain.crs" }, what));
    }
    let zone = Transform::to_wgs84(crs).and_then(|t| {
        let (x, y) = first.info.centre();
        let (lon, lat) = t.point(x, y)?;
        utm_zone(lon, lat)
    });
    let hint = zone.ok().and_then(|z| z.epsg).map_or(String::new(), |code| {
        format!(": set terrain.crs, e.g. to \"EPSG:{code}\", the UTM zone of its centre")
    });
    Err(Error::data(DEM, format!("{}: {what}{hint}", first.name)))
}

/// An error of preparing, with the key that it belongs to.
fn told(recipe: &Recipe, error: bothros_preparation::Error) -> Error {
    use bothros_preparation::Error as E;
    match error {
        E::Formats(bothros_formats::Error::Cancelled) | E::Core(bothros_core::Error::Cancelled) => {
            Error::Cancelled
        }
        E::Formats(e @ bothros_formats::Error::CellSize { .. }) if recipe.terrain.cell_size.is_some() => {
            Error::key("terrain.cell_size", e)
        }
        E::Outside { clip } => {
            Error::data("terrain.clip", format!("{clip} does not cover any cell of the DEM"))
        }
        other => Error::data(DEM, other),
    }
}

fn clip(recipe: &Recipe, path: &Path, crs: &Crs, notes: &mut Vec<String>) -> Result<Clip> {
    let read = features(recipe, "terrain.clip", path, Wanted::Polygons, crs, notes)?;
    Ok(Clip {
        name: file_name(path),
        polygons: polygons_of(read).concat(),
        crs: definition(crs),
        margin_m: recipe.terrain.clip_margin_m.unwrap_or(0.0),
    })
}

/// What a CRS is called in a recipe.
pub fn definition(crs: &Crs) -> String {
    crs.epsg.map_or_else(|| crs.wkt.clone(), |code| format!("EPSG:{code}"))
}

fn alignment(recipe: &Recipe, align: &Align) -> Result<Alignment> {
    let key = "terrain.align";
    match align {
        Align::Grid(Lattice { crs, left, top, cell_size }) => Ok(Alignment {
            name: "the grid that the recipe tells".into(),
            crs: crs.clone(),
            left: *left,
            top: *top,
            cell_size: *cell_size,
        }),
        Align::Raster(path) => {
            let name = file_name(path);
            let info = inspect(&recipe.path(path), &name).map_err(|e| formats(key, e))?;
            let unfit = |what: &str| Error::data(key, format!("{name} {what}"));
            let crs = info.crs.as_ref().ok_or_else(|| unfit("has no CRS"))?;
            if !info.is_ready() {
                return Err(unfit(
                    "is no grid to line up with: it must be projected, north up, with square cells",
                ));
            }
            let [left, cell_size, _, top, _, _] = info.geo_transform;
            Ok(Alignment { name: name.clone(), crs: definition(crs), left, top, cell_size })
        }
    }
}
