//! The files that a DEM is put together from: added, ordered, removed, read.

use bothros_core::memory::Step;
use bothros_core::terrain::{seam_lines, seams};
use bothros_core::{Grid, Monitor, Part};
use bothros_formats::{
    Laying, Mosaic, MosaicPlan, Piece, Resampling, Wish, inspect, plan_mosaic, read_mosaic,
};
use bothros_store::{
    Change, FileRole, FileSum, Inverse, JobHandle, JobKind, Kept, LogLine, Record, Store, StudyPart, kept,
};
use serde_json::json;
use std::path::PathBuf;

use crate::study::as_read::Rounds;
use crate::study::kept_forms::Reread;
use crate::{Error, Facts, PlacedSeam, Provenance, Result, SourceFacts, SourceFile, Stage, blocking, boxed};

/// More straight pieces of seams are not drawn.
const MOST_SEAM_LINES: usize = 4000;

/// A file that a DEM is put together from, as it came.
#[derive(Debug, Clone)]
pub struct NewDemFile {
    /// name as the user knows it
    pub file: String,
    /// where it lies; for an ASCII grid with its .prj beside it
    pub path: PathBuf,
}

/// Looks at a file that is to be put under others, and finds out what it does not say from the first of them.
pub(crate) async fn look_at(new: &NewDemFile, first: &SourceFacts) -> Result<SourceFile> {
    let (path, file) = (new.path.clone(), new.file.clone());
    let (info, sha256, bytes) = blocking(move || {
        let info = inspect(&path, &file)?;
        let (sha256, bytes) = FileSum::of(&path)?;
        Ok((info, sha256, bytes))
    })
    .await?;
    let file = new.file.clone();
    let crs = info.crs.clone().ok_or_else(|| {
        Error::Refused(format!(
            "{file} does not say its CRS, so it cannot be put beside {}: assign it, and save the file again",
            first.file
        ))
    })?;
    if first.crs.is_none() {
        return Err(Error::Refused(format!(
            "choose the CRS of {} first, so that {file} can be put beside it",
            first.file
        )));
    }
    let band = match info.bands.len() {
        1 => 1,
        bands => first.band.filter(|&b| b <= bands).ok_or_else(|| {
            Error::Refused(format!("{file} has {bands} bands: choose the band of {} first", first.file))
        })?,
    };
    let vertical_unit = info.vertical_unit(band).unwrap_or(first.vertical_unit);
    Ok(SourceFile { file, bytes, sha256, info, band, vertical_unit, crs, provenance: Provenance::default() })
}

/// Puts more files under those that a DEM has, and reads it anew. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a file without a CRS, with bands that need a choice, or that is there already;
/// nothing is changed then.
#[boxed]
pub async fn add_dem_files(store: &Store, study: i64, new: Vec<NewDemFile>) -> Result<()> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let mut source = facts.source.clone().ok_or_else(no_dem)?;
        let mut looked = Vec::new();
        let first_sum = store.file(study, FileRole::Dem).await?.map(|f| f.sha256);
        for one in &new {
            let file = look_at(one, &source).await?;
            let known = source.more.iter().map(|f| &f.sha256).chain(first_sum.as_ref());
            if known.clone().any(|sum| *sum == file.sha256) {
                return Err(Error::Refused(format!("{} is part of this DEM already", file.file)));
            }
            source.more.push(file.clone());
            looked.push(file);
        }
        let pieces = pieces(&source, &mut |_| PathBuf::new())?;
        check_mosaic(&plan_mosaic(&pieces, &Wish::default())?)?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        change.check_idle().await?;
        for (one, file) in new.iter().zip(&looked) {
            if store.dem_part(study, &file.sha256).await?.is_none() {
                change.put_file(FileRole::DemPart, &one.file, &one.path).await?;
            }
        }
        let names: Vec<&str> = looked.iter().map(|f| f.file.as_str()).collect();
        return changed(change, source, format!("{} added to the DEM", names.join(", "))).await;
    }
}

/// Moves a file of the DEM to another place in the order, from 0; the first counts most.
#[boxed]
pub async fn move_dem_file(store: &Store, study: i64, from: usize, to: usize) -> Result<()> {
    let change = store.change_idle(study).await?;
    let mut source = source_in(&change)?;
    let count = source.more.len() + 1;
    if from >= count || to >= count || from == to {
        return Err(Error::Refused("there is no such place in the order of files".into()));
    }
    // The order is kept beside the files: the first file stays where it is kept.
    let mut order = source.order();
    let moved = order.remove(from);
    order.insert(to, moved);
    source.order = order;
    changed(change, source, "order of the files changed".into()).await
}

/// Takes a file out of the DEM; the file at `place` in the order.
#[boxed]
pub async fn remove_dem_file(store: &Store, study: i64, place: usize) -> Result<()> {
    let change = store.change_idle(study).await?;
    let mut source = source_in(&change)?;
    let number = *source
        .order()
        .get(place)
        .ok_or_else(|| Error::Refused("there is no such file in this DEM".into()))?;
    if number == 0 {
        return Err(Error::Refused(format!(
            "{} is the file that this DEM began with: begin another DEM to do without it",
            source.file
        )));
    }
    let gone = source.more.remove(number - 1);
    source.order =
        source.order.iter().filter(|&&n| n != number).map(|&n| n - usize::from(n > number)).collect();
    changed(change, source, format!("{} taken out of the DEM", gone.file)).await
}

/// Whether files are raised or lowered to fit those above them.
#[boxed]
pub async fn level_dem_files(store: &Store, study: i64, level: bool) -> Result<()> {
    let change = store.change_idle(study).await?;
    let mut source = source_in(&change)?;
    source.level = level;
    let what = if level { "files fitted to each other in height" } else { "files left at their own heights" };
    changed(change, source, what.into()).await
}

fn no_dem() -> Error {
    Error::Refused("the study has no DEM".into())
}

/// The source of a study that is being changed.
pub(crate) fn source_in(change: &Change) -> Result<SourceFacts> {
    Facts::of(change.study())?.source.ok_or_else(no_dem)
}

/// Keeps other files of a DEM, and reads it anew.
async fn changed(change: Change, source: SourceFacts, what: String) -> Result<()> {
    let before = serde_json::to_value(source_in(&change)?)?;
    change.set(vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    let line = LogLine::new(Stage::Terrain.title(), what.clone()).with(json!({ "files": source.names() }));
    let record = Record::log(line).undone_by(what, Inverse::SetSource { source: before });
    change.commit(record.starting(JobKind::Import, Kept::of(&Reread { keep: true })?)).await?;
    Ok(())
}

/// Puts the files of a DEM back as they were; the job that reads it anew is still to be started.
pub(crate) async fn restore_source(change: &Change, source: serde_json::Value) -> Result<(JobKind, Kept)> {
    let source: SourceFacts = kept::read(source)?;
    change.set(vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    Ok((JobKind::Import, Kept::of(&Reread { keep: true })?))
}

/// The files of a DEM in their order, at the paths that `path` gives for their numbers.
fn pieces(source: &SourceFacts, path: &mut dyn FnMut(usize) -> PathBuf) -> Result<Vec<Piece>> {
    let band = source
        .band
        .ok_or_else(|| Error::Refused("choose the band that holds the elevations first".into()))?;
    let crs = source.crs.clone().ok_or_else(|| Error::Refused("choose the CRS of the file first".into()))?;
    let piece = |number: usize| match number.checked_sub(1).and_then(|n| source.more.get(n)) {
        None => Piece {
            name: source.file.clone(),
            path: path(0),
            info: source.info.clone(),
            crs: crs.clone(),
            band,
            unit: source.vertical_unit,
        },
        Some(f) => Piece {
            name: f.file.clone(),
            path: path(number),
            info: f.info.clone(),
            crs: f.crs.clone(),
            band: f.band,
            unit: f.vertical_unit,
        },
    };
    Ok(source.order().into_iter().map(piece).collect())
}

/// Refuses a mosaic of more cells than memory allows.
fn check_mosaic(plan: &MosaicPlan) -> Result<()> {
    Ok(Step::Terrain.check(plan.rows as u64 * plan.cols as u64)?)
}

fn name_of(format: &str) -> &'static str {
    if format == "ASCII grid" { "dem.asc" } else { "dem.tif" }
}

/// Reads the elevations of a DEM's files; what was found in putting them together goes into `source`.
pub(crate) async fn read_source(
    store: &Store,
    study: i64,
    source: &mut SourceFacts,
    handle: &JobHandle,
    to: f64,
) -> Result<Grid<f32>> {
    if source.band.is_none() {
        return Err(Error::Refused("choose the band that holds the elevations first".into()));
    }
    handle.say("fetching the files");
    let dir = tempfile::tempdir()?;
    // The names are ours: what the user calls a file never becomes a path.
    let place = |number: usize, format: &str| dir.path().join(format!("{number}_{}", name_of(format)));
    let mut paths = vec![place(0, &source.info.format)];
    let file = store.file(study, FileRole::Dem).await?.ok_or(bothros_store::Error::NotFound("DEM file"))?;
    store.fetch_file(file.id, &paths[0]).await?;
    for (number, part) in source.more.iter().enumerate() {
        let path = place(number + 1, &part.info.format);
        let file = store.dem_part(study, &part.sha256).await?;
        let file = file.ok_or(bothros_store::Error::NotFound("DEM file"))?;
        store.fetch_file(file.id, &path).await?;
        handle.progress(to * 0.3 * (number + 1) as f64 / source.more.len() as f64);
        paths.push(path);
    }
    handle.say("reading elevations");
    let (now, monitor) = (source.clone(), handle.clone());
    let (values, put_together) = blocking(move || {
        let part = Part::new(&monitor, to * 0.3, to);
        if now.more.is_empty() {
            // Alone, it may be read before its CRS is known.
            let band = now.band.unwrap_or(1);
            let values =
                bothros_formats::read_elevation(&paths[0], &now.file, band, now.vertical_unit, &part)?;
            drop(dir);
            return Ok((values, None));
        }
        let pieces = pieces(&now, &mut |number| paths[number].clone())?;
        let plan = plan_mosaic(&pieces, &Wish::default())?;
        check_mosaic(&plan)?;
        let laying = Laying { resampling: Resampling::Bilinear, level: now.level, origin: true };
        let Mosaic { values, origin, overlaps, notes } = read_mosaic(&pieces, &plan, laying, &part)?;
        drop(dir);
        let [left, width, _, top, _, height] = plan.geo_transform;
        let corner = |[row, col]: [u32; 2]| [left + col as f64 * width, top + row as f64 * height];
        let (seams, lines) = match origin {
            Some(origin) => (seams(&values, &origin)?, seam_lines(&origin, MOST_SEAM_LINES)),
            None => Default::default(),
        };
        let lines: Vec<[[f64; 2]; 2]> = lines.into_iter().map(|line| line.map(corner)).collect();
        let placed = seams.into_iter().map(|seam| PlacedSeam {
            x: left + (seam.at.col as f64 + 0.5) * width,
            y: top + (seam.at.row as f64 + 0.5) * height,
            names: [seam.pieces.0, seam.pieces.1].map(|p| pieces[p as usize].name.clone()),
            seam,
        });
        let placed = placed.collect();
        Ok((values, Some((plan, overlaps, notes, placed, lines))))
    })
    .await?;
    match put_together {
        Some((plan, overlaps, notes, seams, lines)) => {
            source.mosaic = Some(plan);
            source.seam_lines = lines;
            (source.overlaps, source.notes, source.seams) = (overlaps, notes, seams);
        }
        None => {
            source.mosaic = None;
            source.seam_lines = Vec::new();
            (source.overlaps, source.notes, source.seams) = Default::default();
        }
    }
    Ok(values)
}

/// Keeps where a file comes from; `place` is its place in the order.
#[boxed]
pub async fn set_provenance(store: &Store, study: i64, place: usize, provenance: Provenance) -> Result<()> {
    let change = store.change(study).await?;
    let mut source = source_in(&change)?;
    let number = *source
        .order()
        .get(place)
        .ok_or_else(|| Error::Refused("there is no such file in this DEM".into()))?;
    let name = match number.checked_sub(1).and_then(|n| source.more.get_mut(n)) {
        Some(file) => {
            file.provenance = provenance.clone();
            file.file.clone()
        }
        None => {
            source.provenance = provenance.clone();
            source.file.clone()
        }
    };
    change.set(vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    let line = LogLine::new(Stage::Terrain.title(), format!("Said where {name} comes from"));
    change.commit(Record::log(line.with(serde_json::to_value(provenance)?))).await?;
    Ok(())
}
