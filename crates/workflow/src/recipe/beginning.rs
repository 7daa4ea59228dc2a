//! Where a recipe begins: with the DEM as it was prepared, or with the files that it was made of.

use std::path::{Path, PathBuf};

use bothros_formats::{Crs, Geometry, Shape, VerticalUnit};
use bothros_preparation::Preparing;
use bothros_recipe::{Align, Lattice, Terrain, definition};
use bothros_store::{FileRole, Store};

use super::inputs::{Inputs, Placed};
use crate::{Error, Facts, Result, SourceFacts};

/// From the DEM as it was prepared.
pub(crate) fn prepared(short: &str) -> Terrain {
    let name = format!("{short}_{}.tif", bothros_products::PREPARED.name);
    Terrain { dem: vec![PathBuf::from(name)], ..Terrain::default() }
}

/// Whether a file is an ASCII grid, which lies beside its CRS.
fn is_ascii(format: &str) -> bool {
    format == "ASCII grid"
}

/// What the files of a DEM are called beside a recipe, in the order in which they count.
fn names(source: &SourceFacts, short: &str) -> Vec<String> {
    let formats = |n: usize| n.checked_sub(1).map_or(&source.info.format, |n| &source.more[n].info.format);
    let name = |(at, (number, name)): (usize, (usize, &str))| {
        let stem = Path::new(name).file_stem().map(|s| s.to_string_lossy()).unwrap_or_default();
        let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
        let stem: String = stem.chars().map(plain).take(40).collect();
        let end = if is_ascii(formats(number)) { "asc" } else { "tif" };
        format!("{short}_dem_{}_{stem}.{end}", at + 1)
    };
    source.order().into_iter().zip(source.names()).enumerate().map(name).collect()
}

/// A file of a DEM, as it was given.
pub(crate) struct DemFile {
    /// what it is called beside a recipe
    pub name: String,
    /// its number in the store
    pub file: i64,
    /// the CRS that lies beside it, as a definition
    pub projection: Option<String>,
}

/// The files of a study's DEM, in the order in which they count.
///
/// # Errors
/// Those of the database; [`Error::Refused`] where one is no longer kept.
pub(crate) async fn dem_files(store: &Store, facts: &Facts, short: &str) -> Result<Vec<DemFile>> {
    let source = facts.source.as_ref().ok_or_else(Error::not_prepared)?;
    let mut out = Vec::new();
    for (number, name) in source.order().into_iter().zip(names(source, short)) {
        let part = number.checked_sub(1).map(|n| &source.more[n]);
        let file = match (facts.aside, part) {
            (None, None) => store.file(facts.study, FileRole::Dem).await?,
            (None, Some(part)) => store.dem_part(facts.study, &part.sha256).await?,
            (Some(dem), None) => store.file_of_dem(dem, FileRole::Dem, None).await?,
            (Some(dem), Some(part)) => store.file_of_dem(dem, FileRole::DemPart, Some(&part.sha256)).await?,
        };
        let (info, crs) = part.map_or((&source.info, source.crs.as_ref()), |p| (&p.info, Some(&p.crs)));
        let file = file.ok_or_else(|| {
            Error::Refused(format!("{} is no longer kept: give it again", source.names()[out.len()]))
        })?;
        let projection = crs.filter(|_| is_ascii(&info.format)).map(|crs| crs.wkt.clone());
        out.push(DemFile { name, file: file.id, projection });
    }
    Ok(out)
}

/// From the files of the DEM, prepared as it was chosen. What a recipe does not tell is added to `untold`.
///
/// # Errors
/// Those of the CRS of a clip.
pub(crate) fn of_files(
    facts: &Facts,
    short: &str,
    inputs: &mut Inputs,
    untold: &mut Vec<String>,
) -> Result<Terrain> {
    let source = facts.source.as_ref().ok_or_else(Error::not_prepared)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let how = &terrain.prepared;
    let mut clip = None;
    if let Some(chosen) = &how.clip {
        let shape = Geometry::Polygons(chosen.polygons_in(&terrain.crs)?);
        let name = Some(chosen.name.clone());
        clip = inputs.add("clip", Shape::Polygons, vec![Placed { name, ..Placed::of(shape) }]);
    }
    let align = how.align.as_ref().map(|a| {
        let (crs, left, top, cell_size) = (a.crs.clone(), a.left, a.top, a.cell_size);
        Align::Grid(Lattice { crs, left, top, cell_size })
    });
    let Preparing { resampling, full_rectangle, spikes, steps, sea, voids, .. } = *how;
    Ok(Terrain {
        dem: names(source, short).into_iter().map(PathBuf::from).collect(),
        source_crs: source_crs(source, untold),
        fit_heights: source.level && !source.more.is_empty(),
        crs: how.crs.clone().filter(|_| align.is_none()),
        cell_size: how.cell_size.filter(|_| align.is_none()).map(|size| in_metres(size, &terrain.crs)),
        align,
        clip_margin_m: how.clip.as_ref().map(|c| c.margin_m).filter(|m| *m > 0.0 && clip.is_some()),
        clip,
        vertical_unit: vertical_unit(source, untold),
        band: band(source),
        resampling: Some(resampling).filter(|how| *how != Default::default()),
        mend_spikes: spikes,
        sea_outside: sea,
        mend_voids: voids,
        soften_steps: steps,
        full_rectangle,
        fill_voids: false,
    })
}

/// A cell size in metres that gives the same number again when it is brought back to units of the CRS.
fn in_metres(size: f64, crs: &Crs) -> f64 {
    let metres = size * crs.unit_m;
    let near = [metres, metres.next_up(), metres.next_down()];
    near.into_iter().find(|m| m / crs.unit_m == size).unwrap_or(metres)
}

/// The CRS that was said of a file which does not tell its own.
fn source_crs(source: &SourceFacts, untold: &mut Vec<String>) -> Option<String> {
    let crs = source.crs.as_ref().filter(|_| source.crs_chosen)?;
    // That of an ASCII grid is written beside it.
    if is_ascii(&source.info.format) {
        return None;
    }
    if source.info.crs.is_some() {
        untold.push(format!(
            "that coordinates of {} are in {}, whatever the file says",
            source.file,
            crs.label()
        ));
    }
    Some(definition(crs))
}

/// The band of files that have several.
fn band(source: &SourceFacts) -> Option<usize> {
    let more = source.more.iter().map(|f| (f.info.bands.len(), Some(f.band)));
    let several = |(bands, band): (usize, Option<usize>)| band.filter(|_| bands > 1);
    std::iter::once((source.info.bands.len(), source.band)).chain(more).find_map(several)
}

/// The unit of elevations, where the files do not tell it.
fn vertical_unit(source: &SourceFacts, untold: &mut Vec<String>) -> Option<VerticalUnit> {
    let more = source.more.iter().map(|f| (f.info.vertical_unit(f.band), f.vertical_unit));
    let first = (source.band.and_then(|band| source.info.vertical_unit(band)), source.vertical_unit);
    let all: Vec<(Option<VerticalUnit>, VerticalUnit)> = std::iter::once(first).chain(more).collect();
    if all.iter().all(|(told, used)| told.unwrap_or(VerticalUnit::Metre) == *used) {
        return None;
    }
    if all.iter().any(|(_, used)| *used != all[0].1) {
        untold
            .push("units of elevations that differ from file to file, and that the files do not tell".into());
        return None;
    }
    Some(all[0].1)
}
