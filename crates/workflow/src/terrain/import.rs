//! From an upload to a DEM in the store.

use std::path::Path;
use std::time::Instant;

use bothros_core::memory::Step;
use bothros_core::terrain::summarise;
use bothros_core::{Grid, Part};
use bothros_formats::{Crs, CrsKind, VerticalUnit, inspect};
use bothros_store::{
    Change, FileRole, Job, JobHandle, JobKind, Kept, LogLine, NewRaster, RasterRole, Record, Store, Study,
    StudyPart, kept,
};
use serde_json::{Value as Json, json};

use crate::catchments::pour_points::{Delineating, delineate_again, delineate_all};
use crate::study::as_read::Rounds;
use crate::study::kept_forms::Reread;
use crate::terrain::prepare::{Made, Told, keep, land, make};
use crate::terrain::sources::{NewDemFile, look_at, read_source, source_in};
use crate::{Error, Facts, GridCache, Preparing, Provenance, Result, SourceFacts, Stage, blocking, boxed};

/// An upload that is to become a study.
pub struct NewStudy<'a> {
    /// name of the study
    pub name: &'a str,
    /// what it is for
    pub description: &'a str,
    /// name of the DEM file as the user knows it
    pub file: &'a str,
    /// the file on disk; for an ASCII grid with its .prj beside it
    pub path: &'a Path,
    /// the .prj on disk, if one came with it
    pub projection: Option<&'a Path>,
    /// more files that the DEM is put together from
    pub more: Vec<NewDemFile>,
    /// where it comes from
    pub provenance: Provenance,
}

/// Looks at the file, makes a study of it, keeps the file, and asks for its values to be read
/// unless the band must be chosen first.
///
/// # Errors
/// Those of [`inspect`]; then no study is made.
pub async fn begin_study(store: &Store, new: NewStudy<'_>) -> Result<(Study, Option<Job>)> {
    let source = source_of(&new).await?;
    let change = store.create_study(new.name, new.description, Some(Kept::of(&source)?)).await?;
    put_files(&change, &new).await?;
    let study = change.study().clone();
    let job = change.commit(reading(&source)).await?;
    Ok((study, job))
}

/// The job that reads files; none while their band is not known.
fn reading(source: &SourceFacts) -> Record {
    match source.band {
        Some(_) => Record::job(JobKind::Import, Kept::empty()),
        None => Record::default(),
    }
}

/// Parks the DEM at work, and begins with another one of the same area.
///
/// # Errors
/// Those of [`begin_study`]; [`bothros_store::Error::Busy`] where a job runs. The DEM at work stays then.
pub async fn begin_candidate(store: &Store, study: i64, new: NewStudy<'_>) -> Result<Option<Job>> {
    let source = source_of(&new).await?;
    let change = store.change_idle(study).await?;
    let now = source_in(&change)?;
    change.begin_candidate(&now.title(), Kept::of(&source)?).await?;
    put_files(&change, &new).await?;
    let text = format!("Began with another DEM, {}; {} is kept", source.title(), now.title());
    let line = LogLine::new(Stage::Terrain.title(), text);
    Ok(change.commit(Record { log: Some(line), ..reading(&source) }).await?)
}

/// Takes up a parked DEM as it was left.
///
/// # Errors
/// [`bothros_store::Error::Busy`] where a job runs, [`bothros_store::Error::NotFound`] where there is no such DEM.
#[boxed]
pub async fn take_up(store: &Store, grids: &crate::GridCache, study: i64, candidate: i64) -> Result<String> {
    let change = store.change_idle(study).await?;
    let now = source_in(&change)?;
    let taken = change.take_up(candidate, &now.title()).await?;
    let text = format!("Took up {taken}; {} is kept", now.title());
    change.commit(Record::log(LogLine::new(Stage::Terrain.title(), text.clone()))).await?;
    // Pour points belong to the study: their catchments are found on the DEM that was taken up.
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        if facts.routing.is_none() {
            return Ok(text);
        }
        let with = Delineating::of(store, grids, &facts).await?;
        let done = delineate_all(&with, store.pour_points(study).await?).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        delineate_again(&change, &with, done).await?;
        change.commit(Record::default()).await?;
        return Ok(text);
    }
}

/// Deletes a parked DEM with all that was done to it.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where there is no such DEM.
#[boxed]
pub async fn delete_candidate(store: &Store, study: i64, candidate: i64) -> Result<()> {
    let change = store.change(study).await?;
    change.delete_candidate(candidate).await?;
    let line = LogLine::new(Stage::Terrain.title(), "Deleted a DEM that was kept aside");
    change.commit(Record::log(line)).await?;
    Ok(())
}

/// Reads the DEM's files once more.
///
/// # Errors
/// [`bothros_store::Error::Busy`] where a job runs.
#[boxed]
pub async fn read_again(store: &Store, study: i64) -> Result<Job> {
    Ok(store.enqueue(study, JobKind::Import, Kept::empty()).await?)
}

/// Files that are looked at side by side.
const LOOKED_AT_ONCE: usize = 8;

/// What is known of the files before they are read.
pub(crate) async fn source_of(new: &NewStudy<'_>) -> Result<SourceFacts> {
    let (path, file) = (new.path.to_owned(), new.file.to_owned());
    let info = blocking(move || Ok(inspect(&path, &file)?)).await?;
    Step::Terrain.check(info.rows as u64 * info.cols as u64)?;
    let band = (info.bands.len() == 1).then_some(1);
    let mut source = SourceFacts {
        file: new.file.into(),
        bytes: std::fs::metadata(new.path)?.len(),
        vertical_unit: info.vertical_unit(band.unwrap_or(1)).unwrap_or(VerticalUnit::Metre),
        band,
        crs: info.crs.clone(),
        crs_chosen: false,
        summary: None,
        info,
        provenance: new.provenance.clone(),
        more: Vec::new(),
        order: Vec::new(),
        level: false,
        mosaic: None,
        overlaps: Vec::new(),
        seams: Vec::new(),
        seam_lines: Vec::new(),
        notes: Vec::new(),
    };
    for some in new.more.chunks(LOOKED_AT_ONCE) {
        let mut looking = Vec::new();
        for one in some {
            looking.push(look_at(one, &source));
        }
        let files = futures::future::try_join_all(looking).await?;
        source.more.extend(files);
    }
    Ok(source)
}

/// Keeps the files of a DEM.
pub(crate) async fn put_files(change: &Change, new: &NewStudy<'_>) -> Result<()> {
    change.put_file(FileRole::Dem, new.file, new.path).await?;
    if let Some(projection) = new.projection {
        change.put_file(FileRole::Projection, "dem.prj", projection).await?;
    }
    for one in &new.more {
        change.put_file(FileRole::DemPart, &one.file, &one.path).await?;
    }
    Ok(())
}

async fn change_source(
    store: &Store,
    study: i64,
    text: String,
    how: impl FnOnce(&mut SourceFacts) -> Result<()>,
) -> Result<()> {
    let change = store.change_idle(study).await?;
    let mut source = source_in(&change)?;
    how(&mut source)?;
    change.set(vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    let line = LogLine::new(Stage::Terrain.title(), text);
    change.commit(Record::log(line).starting(JobKind::Import, Kept::empty())).await?;
    Ok(())
}

/// Says which band holds the elevations, and reads it.
#[boxed]
pub async fn choose_band(store: &Store, study: i64, band: usize) -> Result<()> {
    change_source(store, study, format!("Chose band {band} for elevations"), |source| {
        let bands = source.info.bands.len();
        if band == 0 || band > bands {
            return Err(bothros_formats::Error::NoBand { band, bands }.into());
        }
        source.band = Some(band);
        source.vertical_unit = source.info.vertical_unit(band).unwrap_or(source.vertical_unit);
        Ok(())
    })
    .await
}

/// Says what unit the elevations have, and reads them again.
#[boxed]
pub async fn set_vertical_unit(store: &Store, study: i64, unit: VerticalUnit) -> Result<()> {
    change_source(store, study, format!("Said that elevations are in {}", unit.code()), |source| {
        source.vertical_unit = unit;
        Ok(())
    })
    .await
}

/// Says which CRS the coordinates of the file are in, and reads it again.
#[boxed]
pub async fn set_crs(store: &Store, study: i64, crs: &str) -> Result<()> {
    let crs = Crs::parse(crs)?;
    change_source(store, study, format!("Said that coordinates are in {}", crs.label()), |source| {
        if crs.kind == CrsKind::Other {
            return Err(Error::Refused(format!("{} is neither projected nor geographic", crs.label())));
        }
        source.crs = Some(crs);
        source.crs_chosen = true;
        Ok(())
    })
    .await
}

pub(crate) async fn run(
    store: &Store,
    grids: &GridCache,
    study: i64,
    request: &Json,
    handle: &JobHandle,
) -> Result<String> {
    // Where only the files have changed, what was chosen for them stays.
    let how = match kept::read::<Reread>(request.clone())?.keep {
        true => Facts::of(&store.study(study).await?)?.terrain.map(|t| t.prepared).unwrap_or_default(),
        false => Preparing::default(),
    };
    read_in((store, grids), study, how, handle).await
}

/// Reads the files of a study's DEM, and prepares it as was chosen where it can be.
pub(crate) async fn read_in(
    (store, grids): (&Store, &GridCache),
    study: i64,
    how: Preparing,
    handle: &JobHandle,
) -> Result<String> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &mut source, handle, 0.45).await?;
    handle.say("looking at the elevations");
    let (now, choices, monitor) = (source.clone(), how.clone(), handle.clone());
    let (summary, read) = blocking(move || {
        let part = |from: f64, to: f64| Part::new(&monitor, from, to);
        let summary = summarise(&values, now.vertical_unit.metres(), &part(0.45, 0.5))?;
        let ready = now.is_ready() || choices.crs.is_some() || choices.align.is_some();
        let read = match ready {
            true => Read::Made(Box::new(make(values, &now, &choices, &part(0.5, 0.55))?)),
            false => Read::AsItIs(values),
        };
        Ok((summary, read))
    })
    .await?;
    source.summary = Some(summary.clone());
    let (rows, cols, _, crs) = source.grid();
    let text = format!(
        "Read {}: {cols} x {rows} cells, {}{}",
        source.title(),
        crs.map_or("no CRS".into(), Crs::label),
        source.notes.iter().map(|n| format!("; {n}")).collect::<String>()
    );
    let file = store.file(study, FileRole::Dem).await?;
    let settings = json!({ "files": source.names(), "band": source.band, "vertical_unit": source.vertical_unit.code(),
        "sha256": file.map(|f| f.sha256), "provenance": source.provenance, "overlaps": source.overlaps });
    let line = LogLine::new(Stage::Terrain.title(), text.clone()).with(settings);
    match read {
        Read::Made(made) => {
            let line = || line.taking(begun.elapsed());
            keep((store, grids), study, (source, how), (*made, Some(summary)), line, handle).await?;
        }
        Read::AsItIs(values) => {
            // They cannot be computed on yet, but can be looked at.
            let (_, _, [left, width, _, top, _, height], _) = source.grid();
            let (cell_x, cell_y) = (width.abs(), height.abs());
            let new = NewRaster { role: RasterRole::Source, left, top, cell_x, cell_y };
            let told = async { Ok(Told { source, terrain: None, line: line.taking(begun.elapsed()) }) };
            land(store, study, (new, &values), told, handle).await?;
        }
    }
    Ok(text)
}

/// What was read: ready to be computed on, or waiting for a decision.
enum Read {
    Made(Box<Made>),
    AsItIs(Grid<f32>),
}
