//! From an upload to a DEM in the store.

use std::path::Path;
use std::time::Instant;

use bothros_core::memory::Step;
use bothros_core::terrain::summarise;
use bothros_core::{Grid, Monitor, Part};
use bothros_formats::{Crs, CrsKind, VerticalUnit, inspect};
use bothros_store::{
    FileRole, Job, JobHandle, JobKind, Kept, NewRaster, RasterRole, Store, Study, StudyPart, kept,
};
use serde_json::{Value as Json, json};

use crate::study::kept_forms::Reread;
use crate::terrain::prepare::{AFTER_TERRAIN, Made, keep, make};
use crate::terrain::sources::{NewDemFile, look_at, read_source};
use crate::{Error, Facts, Preparing, Provenance, Result, SourceFacts, blocking};

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
    let study = store.create_study(new.name, new.description, Some(Kept::of(&source)?)).await?;
    match keep_files(store, study.id, &new, &source).await {
        Ok(job) => Ok((study, job)),
        Err(error) => {
            // A study without its file would be of no use.
            store.delete_study(study.id).await?;
            Err(error)
        }
    }
}

/// Parks the DEM at work, and begins with another one of the same area.
///
/// # Errors
/// Those of [`begin_study`]; then the DEM at work stays.
pub async fn begin_candidate(store: &Store, study: i64, new: NewStudy<'_>) -> Result<Option<Job>> {
    let now = crate::terrain::sources::idle_source(store, study).await?;
    let source = source_of(&new).await?;
    store.begin_candidate(study, &now.title(), Kept::of(&source)?).await?;
    let text = format!("Began with another DEM, {}; {} is kept", source.title(), now.title());
    store.log(study, "Terrain", &text, json!({}), Default::default()).await?;
    keep_files(store, study, &new, &source).await
}

/// Takes up a parked DEM as it was left.
pub async fn take_up(store: &Store, grids: &crate::GridCache, study: i64, candidate: i64) -> Result<String> {
    let now = crate::terrain::sources::idle_source(store, study).await?;
    let taken = store.take_up(study, candidate, &now.title()).await?;
    let facts = Facts::of(&store.study(study).await?)?;
    if facts.routing.is_some() {
        crate::catchments::catchment::delineate_again(store, grids, study).await?;
    }
    let text = format!("Took up {}; {} is kept", taken.name, now.title());
    store.log(study, "Terrain", &text, json!({}), Default::default()).await?;
    Ok(text)
}

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
    for one in &new.more {
        let file = look_at(one, &source).await?;
        source.more.push(file);
    }
    Ok(source)
}

async fn keep_files(
    store: &Store,
    study: i64,
    new: &NewStudy<'_>,
    source: &SourceFacts,
) -> Result<Option<Job>> {
    put_files(store, study, new).await?;
    match source.band {
        Some(_) => Ok(Some(store.enqueue(study, JobKind::Import, Kept::empty()).await?)),
        None => Ok(None),
    }
}

/// Keeps the files of a DEM.
pub(crate) async fn put_files(store: &Store, study: i64, new: &NewStudy<'_>) -> Result<()> {
    store.put_file(study, FileRole::Dem, new.file, new.path).await?;
    if let Some(projection) = new.projection {
        store.put_file(study, FileRole::Projection, "dem.prj", projection).await?;
    }
    for one in &new.more {
        store.put_file(study, FileRole::DemPart, &one.file, &one.path).await?;
    }
    Ok(())
}

async fn change_source(
    store: &Store,
    study: i64,
    change: impl FnOnce(&mut SourceFacts) -> Result<()>,
) -> Result<Job> {
    if let Some(active) = store.active_job(study).await? {
        return Err(bothros_store::Error::Busy(active.title().into()).into());
    }
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    change(&mut source)?;
    store.change_study(study, vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    Ok(store.enqueue(study, JobKind::Import, Kept::empty()).await?)
}

/// Says which band holds the elevations, and reads it.
pub async fn choose_band(store: &Store, study: i64, band: usize) -> Result<Job> {
    change_source(store, study, |source| {
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
pub async fn set_vertical_unit(store: &Store, study: i64, unit: VerticalUnit) -> Result<Job> {
    change_source(store, study, |source| {
        source.vertical_unit = unit;
        Ok(())
    })
    .await
}

/// Says which CRS the coordinates of the file are in, and reads it again.
pub async fn set_crs(store: &Store, study: i64, crs: &str) -> Result<Job> {
    let crs = Crs::parse(crs)?;
    change_source(store, study, |source| {
        if crs.kind == CrsKind::Other {
            return Err(Error::Refused(format!("{} is neither projected nor geographic", crs.label())));
        }
        source.crs = Some(crs);
        source.crs_chosen = true;
        Ok(())
    })
    .await
}

pub(crate) async fn run(store: &Store, study: i64, request: &Json, handle: &JobHandle) -> Result<String> {
    // Where only the files have changed, what was chosen for them stays.
    let how = match kept::read::<Reread>(request.clone())?.keep {
        true => Facts::of(&store.study(study).await?)?.terrain.map(|t| t.prepared).unwrap_or_default(),
        false => Preparing::default(),
    };
    read_in(store, study, how, handle).await
}

/// Reads the files of a study's DEM, and prepares it as was chosen where it can be.
pub(crate) async fn read_in(store: &Store, study: i64, how: Preparing, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &mut source, handle, 0.5).await?;
    handle.say("looking at the elevations");
    let (now, choices, monitor) = (source.clone(), how, handle.clone());
    let (summary, read) = blocking(move || {
        let part = |from: f64, to: f64| Part::new(&monitor, from, to);
        let summary = summarise(&values, now.vertical_unit.metres(), &part(0.5, 0.55))?;
        let ready = now.is_ready() || choices.crs.is_some() || choices.align.is_some();
        Ok((
            summary,
            if ready {
                Read::Made(Box::new(make(values, &now, &choices, &part(0.55, 0.8))?))
            } else {
                Read::AsItIs(values)
            },
        ))
    })
    .await?;
    source.summary = Some(summary);
    match &read {
        Read::Made(made) => keep(store, study, &source, made, handle).await?,
        Read::AsItIs(values) => keep_source(store, study, &source, values, handle).await?,
    }
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
    store.log(study, "Terrain", &text, settings, begun.elapsed()).await?;
    Ok(text)
}

/// What was read: ready to be computed on, or waiting for a decision.
enum Read {
    Made(Box<Made>),
    AsItIs(Grid<f32>),
}

/// Keeps elevations that cannot be computed on yet, to be looked at.
async fn keep_source(
    store: &Store,
    study: i64,
    source: &SourceFacts,
    values: &Grid<f32>,
    handle: &JobHandle,
) -> Result<()> {
    handle.say("keeping the elevations");
    let (_, _, [left, width, _, top, _, height], _) = source.grid();
    let writer = store.write(study).await?;
    writer.remove(&AFTER_TERRAIN).await?;
    writer.remove(&[RasterRole::Source, RasterRole::Dem]).await?;
    let new = NewRaster { role: RasterRole::Source, left, top, cell_x: width.abs(), cell_y: height.abs() };
    writer
        .put(new, values, &|share| {
            handle.progress(0.8 + 0.2 * share);
            !handle.is_cancelled()
        })
        .await?;
    writer
        .change_study(vec![
            (StudyPart::Source, Some(Kept::of(source)?)),
            (StudyPart::Terrain, None),
            (StudyPart::Review, None),
            (StudyPart::Routing, None),
            (StudyPart::Network, None),
        ])
        .await?;
    writer.commit().await?;
    Ok(())
}
