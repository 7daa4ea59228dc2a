//! Making the DEM that everything else is computed on, from the files as they were given.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

use bothros_core::terrain::{Spike, Summary, examine, largest_full_rectangle, summarise};
use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_formats::Crs;
use bothros_preparation::{Prepared, Preparing};
use bothros_store::{
    Inverse, JobHandle, JobKind, Kept, LogLine, NewRaster, RasterRole, Record, Store, StudyPart, kept,
};
use serde_json::{Value as Json, json};

use crate::study::kept_forms::KeptPreparing;
use crate::terrain::sources::{read_source, source_in};
use crate::{Error, Facts, GridCache, Result, SourceFacts, Stage, TerrainFacts, blocking, boxed};

/// Spikes that are kept with the facts; all of them are mended.
const SPIKES_KEPT: usize = 20;

/// Chooses how the DEM is prepared, and does it. It can be undone.
///
/// # Errors
/// [`Error::Refused`] where the choices cannot be followed; nothing is changed then.
#[boxed]
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

/// A prepared DEM, before it is looked at.
pub(crate) struct Made {
    pub values: Arc<Grid<f32>>,
    pub frame: Frame,
    crs: Crs,
    done: Vec<String>,
    spikes: Vec<Spike>,
}

/// Prepares elevations as they were read.
pub(crate) fn make(
    values: Grid<f32>,
    source: &SourceFacts,
    how: &Preparing,
    monitor: &dyn Monitor,
) -> Result<Made> {
    let Prepared { values, crs, frame, done, spikes } =
        bothros_preparation::prepare(values, &source.as_read(), how, monitor)?;
    Ok(Made { values: Arc::new(values), frame, crs, done, spikes })
}

impl Made {
    /// Looks at a prepared DEM. `read` are the facts of the elevations as they were read, where they are known.
    fn look(
        &self,
        read: Option<&Summary>,
        source: &SourceFacts,
        how: &Preparing,
        monitor: &dyn Monitor,
    ) -> Result<TerrainFacts> {
        let (values, frame) = (&self.values, &self.frame);
        let unit_m = source.vertical_unit.metres();
        let summary = match read.filter(|_| self.done.is_empty()) {
            Some(known) => known.clone(),
            None => summarise(values, unit_m, &Part::new(monitor, 0.0, 0.4))?,
        };
        let mut quality = examine(values, frame, unit_m, &Part::new(monitor, 0.4, 1.0))?;
        if self.spikes.len() as u64 > quality.spikes {
            (quality.spikes, quality.worst_spikes) = (self.spikes.len() as u64, self.spikes.clone());
        }
        quality.worst_spikes.truncate(SPIKES_KEPT);
        let full = (summary.nodata_cells > 0).then(|| largest_full_rectangle(values)).flatten();
        let full_rectangle =
            full.filter(|r| r.rows < frame.rows || r.cols < frame.cols).map(|r| (r.rows, r.cols));
        Ok(TerrainFacts {
            crs: self.crs.clone(),
            frame: *frame,
            summary,
            prepared: how.clone(),
            done: self.done.clone(),
            quality,
            full_rectangle,
        })
    }
}

/// Later stages are emptied when the DEM changes.
fn after_terrain() -> Vec<RasterRole> {
    RasterRole::all().filter(|role| !matches!(role, RasterRole::Source | RasterRole::Dem)).collect()
}

/// What is told of elevations that are kept.
pub(crate) struct Told {
    /// what is known of the files
    pub source: SourceFacts,
    /// what is known of the DEM, where it is prepared
    pub terrain: Option<Kept>,
    pub line: LogLine,
}

/// Keeps a prepared DEM in place of the one before, while it is looked at; what was computed from that goes. `line` is its line in the log.
pub(crate) async fn keep(
    (store, grids): (&Store, &GridCache),
    study: i64,
    (source, how): (SourceFacts, Preparing),
    (made, read): (Made, Option<Summary>),
    line: impl FnOnce() -> LogLine,
    handle: &JobHandle,
) -> Result<()> {
    let new = NewRaster::at(RasterRole::Dem, &made.frame);
    let (made, monitor) = (Arc::new(made), handle.clone());
    let looked_at = Arc::clone(&made);
    let told = async {
        let look = blocking(move || {
            let facts = looked_at.look(read.as_ref(), &source, &how, &Part::new(&monitor, 0.55, 0.8))?;
            Ok((source, facts))
        });
        let (source, facts) = look.await?;
        let line = line();
        Ok(Told { source, terrain: Some(Kept::of(&facts)?), line })
    };
    let number = land(store, study, (new, &made.values), told, handle).await?;
    // Flow is routed over it next.
    grids.know_dem(number, Arc::clone(&made.values)).await;
    Ok(())
}

/// Keeps elevations that were read, while what is told of them is found out. What was said of where files come from while they were
/// read stays. Returns the number of the raster.
pub(crate) async fn land(
    store: &Store,
    study: i64,
    (new, values): (NewRaster, &Grid<f32>),
    told: impl Future<Output = Result<Told>>,
    handle: &JobHandle,
) -> Result<i64> {
    let writer = store.write(study).await?;
    writer.remove(&after_terrain()).await?;
    writer.remove(&[RasterRole::Source]).await?;
    if new.role != RasterRole::Dem {
        writer.remove(&[RasterRole::Dem]).await?;
    }
    let all_told = AtomicBool::new(false);
    let told = async {
        let told = told.await?;
        handle.say("keeping the elevations");
        all_told.store(true, Ordering::Relaxed);
        Ok(told)
    };
    let kept = |share: f64| {
        if all_told.load(Ordering::Relaxed) {
            handle.progress(0.8 + 0.2 * share);
        }
        !handle.is_cancelled()
    };
    let keep = async { Ok::<_, Error>(writer.put(new, values, &kept).await?) };
    let (number, Told { mut source, terrain, line }) = tokio::try_join!(keep, told)?;
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
    Ok(number)
}

pub(crate) async fn run(
    store: &Store,
    grids: &GridCache,
    study: i64,
    request: &Json,
    handle: &JobHandle,
) -> Result<String> {
    let begun = Instant::now();
    let KeptPreparing(how) = kept::read(request.clone())?;
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &mut source, handle, 0.25).await?;
    handle.say("preparing the DEM");
    let (now, choices, monitor) = (source.clone(), how.clone(), handle.clone());
    let made = blocking(move || make(values, &now, &choices, &Part::new(&monitor, 0.25, 0.55))).await?;
    let text = match made.done.is_empty() {
        true => "Took the DEM as it was given".to_owned(),
        false => format!("Prepared the DEM: {}", made.done.join("; ")),
    };
    // The polygons of a clip would fill the log.
    let mut settings = json!(how);
    if let Some(clip) = settings.get_mut("clip").and_then(Json::as_object_mut) {
        clip.remove("polygons");
    }
    let line = LogLine::new(Stage::Terrain.title(), text.clone()).with(settings);
    let line = || line.taking(begun.elapsed());
    handle.say("looking at the elevations");
    keep((store, grids), study, (source, how), (made, None), line, handle).await?;
    Ok(text)
}
