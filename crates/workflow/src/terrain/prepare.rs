//! Making the DEM that everything else is computed on, from the files as they were given.

use std::time::Instant;

use bothros_core::terrain::{Summary, examine, largest_full_rectangle, summarise};
use bothros_core::{Grid, Monitor, Part};
use bothros_preparation::{Prepared, Preparing};
use bothros_store::{
    Inverse, JobHandle, JobKind, Kept, LogLine, NewRaster, RasterRole, Record, Store, StudyPart, kept,
};
use serde_json::{Value as Json, json};

use crate::study::kept_forms::KeptPreparing;
use crate::terrain::sources::{read_source, source_in};
use crate::{Facts, Result, SourceFacts, Stage, TerrainFacts, blocking};

/// Spikes that are kept with the facts; all of them are mended.
const SPIKES_KEPT: usize = 20;

/// Chooses how the DEM is prepared, and does it. It can be undone.
///
/// # Errors
/// [`Error::Refused`](crate::Error::Refused) where the choices cannot be followed; nothing is changed then.
pub async fn prepare(store: &Store, study: i64, how: Preparing) -> Result<()> {
    let change = store.change_idle(study).await?;
    how.place(&source_in(&change)?.as_read())?;
    let mut record = Record::job(JobKind::Prepare, Kept::of(&KeptPreparing(how))?);
    if let Some(before) = Facts::of(change.study())?.terrain.map(|t| t.prepared) {
        let inverse = Inverse::Prepare { preparing: serde_json::to_value(before)? };
        record = record.undone_by("how the DEM is prepared", inverse);
    }
    change.commit(record).await?;
    Ok(())
}

/// A prepared DEM, and what is known of it.
pub(crate) struct Made {
    pub values: Grid<f32>,
    pub facts: TerrainFacts,
}

/// Prepares elevations as they were read, and looks at the result. `read` are the facts of the elevations themselves, where they
/// are known.
pub(crate) fn make(
    values: Grid<f32>,
    read: Option<&Summary>,
    source: &SourceFacts,
    how: &Preparing,
    monitor: &dyn Monitor,
) -> Result<Made> {
    let preparing = Part::new(monitor, 0.0, 0.75);
    let Prepared { values, crs, frame, done, spikes } =
        bothros_preparation::prepare(values, &source.as_read(), how, &preparing)?;
    let unit_m = source.vertical_unit.metres();
    let summary = match read.filter(|_| done.is_empty()) {
        Some(known) => known.clone(),
        None => summarise(&values, unit_m, &Part::new(monitor, 0.75, 0.85))?,
    };
    let mut quality = examine(&values, &frame, unit_m, &Part::new(monitor, 0.85, 1.0))?;
    if spikes.len() as u64 > quality.spikes {
        (quality.spikes, quality.worst_spikes) = (spikes.len() as u64, spikes);
    }
    quality.worst_spikes.truncate(SPIKES_KEPT);
    let full = (summary.nodata_cells > 0).then(|| largest_full_rectangle(&values)).flatten();
    let full_rectangle =
        full.filter(|r| r.rows < frame.rows || r.cols < frame.cols).map(|r| (r.rows, r.cols));
    let facts = TerrainFacts { crs, frame, summary, prepared: how.clone(), done, quality, full_rectangle };
    Ok(Made { values, facts })
}

/// Later stages are emptied when the DEM changes.
fn after_terrain() -> Vec<RasterRole> {
    RasterRole::all().filter(|role| !matches!(role, RasterRole::Source | RasterRole::Dem)).collect()
}

/// Keeps a prepared DEM in place of the one before; what was computed from that goes.
pub(crate) async fn keep(
    store: &Store,
    study: i64,
    source: SourceFacts,
    made: &Made,
    line: LogLine,
    handle: &JobHandle,
) -> Result<()> {
    let new = NewRaster::at(RasterRole::Dem, &made.facts.frame);
    land(store, study, source, (new, &made.values), Some(Kept::of(&made.facts)?), line, handle).await
}

/// Keeps elevations that were read, with what is known of the files and, where they are prepared, of the DEM. What was
/// said of where files come from while they were read stays.
pub(crate) async fn land(
    store: &Store,
    study: i64,
    mut source: SourceFacts,
    (new, values): (NewRaster, &Grid<f32>),
    terrain: Option<Kept>,
    line: LogLine,
    handle: &JobHandle,
) -> Result<()> {
    handle.say("keeping the elevations");
    let writer = store.write(study).await?;
    writer.remove(&after_terrain()).await?;
    writer.remove(&[RasterRole::Source]).await?;
    if terrain.is_none() {
        writer.remove(&[RasterRole::Dem]).await?;
    }
    writer
        .put(new, values, &|share| {
            handle.progress(0.8 + 0.2 * share);
            !handle.is_cancelled()
        })
        .await?;
    let change = writer.into_change().await?;
    source.take_provenance(&source_in(&change)?);
    change
        .set(vec![
            (StudyPart::Source, Some(Kept::of(&source)?)),
            (StudyPart::Terrain, terrain),
            (StudyPart::Review, None),
            (StudyPart::Routing, None),
            (StudyPart::Network, None),
            (StudyPart::Uncertainty, None),
        ])
        .await?;
    change.commit(Record::log(line)).await?;
    Ok(())
}

pub(crate) async fn run(store: &Store, study: i64, request: &Json, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let KeptPreparing(how) = kept::read(request.clone())?;
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| crate::Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &mut source, handle, 0.25).await?;
    handle.say("preparing the DEM");
    let (now, choices, monitor) = (source.clone(), how.clone(), handle.clone());
    let made = blocking(move || make(values, None, &now, &choices, &Part::new(&monitor, 0.25, 0.8))).await?;
    let text = match made.facts.done.is_empty() {
        true => "Took the DEM as it was given".to_owned(),
        false => format!("Prepared the DEM: {}", made.facts.done.join("; ")),
    };
    // The polygons of a clip would fill the log.
    let mut settings = json!(how);
    if let Some(clip) = settings.get_mut("clip").and_then(Json::as_object_mut) {
        clip.remove("polygons");
    }
    let line = LogLine::new(Stage::Terrain.title(), text.clone()).with(settings).taking(begun.elapsed());
    keep(store, study, source, &made, line, handle).await?;
    Ok(text)
}
