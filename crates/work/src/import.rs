//! From an upload to a DEM in the store.

use std::path::Path;
use std::time::Instant;

use bothros_core::terrain::{largest_full_rectangle, summarise};
use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_formats::{Crs, CrsKind, VerticalUnit, inspect, read_elevation};
use bothros_store::{FileRole, Job, JobHandle, JobKind, NewRaster, RasterRole, Store, Study, StudyPart};
use serde_json::json;

use crate::{Error, Facts, Result, SourceFacts, TerrainFacts, blocking};

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
}

/// Looks at the file, makes a study of it, keeps the file, and asks for its values to be read
/// unless the band must be chosen first.
///
/// # Errors
/// Those of [`inspect`]; then no study is made.
pub async fn begin_study(store: &Store, new: NewStudy<'_>) -> Result<(Study, Option<Job>)> {
    let (path, file) = (new.path.to_owned(), new.file.to_owned());
    let info = blocking(move || Ok(inspect(&path, &file)?)).await?;
    let band = (info.bands.len() == 1).then_some(1);
    let source = SourceFacts {
        file: new.file.into(),
        bytes: std::fs::metadata(new.path)?.len(),
        vertical_unit: info.vertical_unit(band.unwrap_or(1)).unwrap_or(VerticalUnit::Metre),
        band,
        crs: info.crs.clone(),
        crs_chosen: false,
        summary: None,
        info,
    };
    let study = store.create_study(new.name, new.description, Some(serde_json::to_value(&source)?)).await?;
    let kept = async {
        store.put_file(study.id, FileRole::Dem, new.file, new.path).await?;
        if let Some(projection) = new.projection {
            store.put_file(study.id, FileRole::Projection, "dem.prj", projection).await?;
        }
        match band {
            Some(_) => Ok(Some(store.enqueue(study.id, JobKind::Import, json!({})).await?)),
            None => Ok(None),
        }
    };
    match kept.await {
        Ok(job) => Ok((study, job)),
        Err(error) => {
            // A study without its file would be of no use.
            store.delete_study(study.id).await?;
            Err(error)
        }
    }
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
    store.change_study(study, vec![(StudyPart::Source, Some(serde_json::to_value(&source)?))]).await?;
    Ok(store.enqueue(study, JobKind::Import, json!({})).await?)
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

/// Reads the elevations of the study's file.
pub(crate) async fn read_source(
    store: &Store,
    study: i64,
    source: &SourceFacts,
    handle: &JobHandle,
    to: f64,
) -> Result<Grid<f32>> {
    let band = source
        .band
        .ok_or_else(|| Error::Refused("choose the band that holds the elevations first".into()))?;
    handle.say("fetching the file");
    let dir = tempfile::tempdir()?;
    // The name is ours: what the user calls it never becomes a path.
    let path = dir.path().join(if source.info.format == "ASCII grid" { "dem.asc" } else { "dem.tif" });
    let file = store.file(study, FileRole::Dem).await?.ok_or(bothros_store::Error::NotFound("DEM file"))?;
    store.fetch_file(file.id, &path).await?;
    handle.progress(to * 0.3);
    handle.say("reading elevations");
    let (name, unit, monitor) = (source.file.clone(), source.vertical_unit, handle.clone());
    blocking(move || {
        let part = Part::new(&monitor, to * 0.3, to);
        let values = read_elevation(&path, &name, band, unit, &part)?;
        drop(dir);
        Ok(values)
    })
    .await
}

/// What a DEM in place is like.
pub(crate) fn terrain_facts(
    values: &Grid<f32>,
    crs: Crs,
    frame: Frame,
    unit_m: f64,
    handle: &dyn Monitor,
) -> Result<TerrainFacts> {
    let summary = summarise(values, unit_m, handle)?;
    let full = (summary.nodata_cells > 0).then(|| largest_full_rectangle(values)).flatten();
    let full_rectangle =
        full.filter(|r| r.rows < frame.rows || r.cols < frame.cols).map(|r| (r.rows, r.cols));
    Ok(TerrainFacts { crs, frame, summary, preparation: None, cropped: false, full_rectangle })
}

/// Later stages are emptied when the DEM changes.
pub(crate) const AFTER_TERRAIN: [RasterRole; 5] = [
    RasterRole::Filled,
    RasterRole::FillDepth,
    RasterRole::CutFill,
    RasterRole::Direction,
    RasterRole::Accumulation,
];

pub(crate) async fn run(store: &Store, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &source, handle, 0.5).await?;
    handle.say("looking at the elevations");
    let (crs, frame, unit_m, monitor) =
        (source.crs.clone(), source.frame(), source.vertical_unit.metres(), handle.clone());
    let (values, summary, terrain) = blocking(move || {
        let part = Part::new(&monitor, 0.5, 0.6);
        match (crs, frame) {
            (Some(crs), Some(frame)) => {
                let terrain = terrain_facts(&values, crs, frame, unit_m, &part)?;
                Ok((values, terrain.summary.clone(), Some(terrain)))
            }
            _ => {
                let summary = summarise(&values, unit_m, &part)?;
                Ok((values, summary, None))
            }
        }
    })
    .await?;
    source.summary = Some(summary);
    handle.say("keeping the elevations");
    let [left, width, _, top, _, height] = source.info.geo_transform;
    let writer = store.write(study).await?;
    writer.remove(&AFTER_TERRAIN).await?;
    writer.remove(&[RasterRole::Source, RasterRole::Dem]).await?;
    let new = match &terrain {
        Some(terrain) => NewRaster::at(RasterRole::Dem, &terrain.frame),
        None => NewRaster { role: RasterRole::Source, left, top, cell_x: width.abs(), cell_y: height.abs() },
    };
    writer
        .put(new, &values, &|share| {
            handle.progress(0.6 + 0.4 * share);
            !handle.is_cancelled()
        })
        .await?;
    writer
        .change_study(vec![
            (StudyPart::Source, Some(serde_json::to_value(&source)?)),
            (StudyPart::Terrain, terrain.as_ref().map(serde_json::to_value).transpose()?),
            (StudyPart::Review, None),
            (StudyPart::Routing, None),
            (StudyPart::Network, None),
        ])
        .await?;
    writer.commit().await?;
    let text = format!(
        "Read {}: {} x {} cells, {}",
        source.file,
        source.info.cols,
        source.info.rows,
        source.crs.as_ref().map_or("no CRS".into(), Crs::label)
    );
    let file = store.file(study, FileRole::Dem).await?;
    let settings = json!({ "file": source.file, "band": source.band, "vertical_unit": source.vertical_unit.code(),
        "sha256": file.map(|f| f.sha256) });
    store.log(study, "Terrain", &text, settings, begun.elapsed()).await?;
    Ok(text)
}
