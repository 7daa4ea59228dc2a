//! Making the DEM that everything else is computed on, from the files as they were given.

use std::time::Instant;

use bothros_core::conditioning::fill_voids;
use bothros_core::terrain::{
    Spike, examine, largest_full_rectangle, mend_spikes, remove_level, soften_steps, summarise,
};
use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_formats::{Placed, Transform, plan_warp, warp_onto};
use bothros_store::{
    Inverse, JobHandle, JobKind, Kept, LogLine, NewRaster, RasterRole, Record, Store, StudyPart, kept,
};
use serde_json::{Value as Json, json};

use crate::terrain::preparing::kept_cells;
use crate::terrain::sources::{read_source, source_in};
use crate::{Facts, Preparing, Result, SourceFacts, Stage, TerrainFacts, blocking};

/// Spikes that are kept with the facts; all of them are mended.
const SPIKES_KEPT: usize = 20;
/// Spikes that hid behind greater ones come out in the next round.
const ROUNDS: usize = 4;

/// Chooses how the DEM is prepared, and does it. It can be undone.
///
/// # Errors
/// [`Error::Refused`](crate::Error::Refused) where the choices cannot be followed; nothing is changed then.
pub async fn prepare(store: &Store, study: i64, how: Preparing) -> Result<()> {
    let change = store.change_idle(study).await?;
    how.place(&source_in(&change)?)?;
    let mut record = Record::job(JobKind::Prepare, Kept::of(&how)?);
    if let Some(before) = Facts::of(change.study())?.terrain.map(|t| t.prepared) {
        let inverse = Inverse::Prepare { preparing: serde_json::to_value(before)? };
        record = record.undone_by("how the DEM is prepared", inverse);
    }
    change.commit(record).await?;
    Ok(())
}

/// A prepared DEM.
pub(crate) struct Made {
    pub values: Grid<f32>,
    pub facts: TerrainFacts,
}

/// Prepares elevations as they were read.
pub(crate) fn make(
    mut values: Grid<f32>,
    source: &SourceFacts,
    how: &Preparing,
    monitor: &dyn Monitor,
) -> Result<Made> {
    let place = how.place(source)?;
    let unit_m = source.vertical_unit.metres();
    let mut done = Vec::new();
    let (rows, cols, geo_transform, from) = source.grid();
    let from =
        from.cloned().ok_or_else(|| crate::Error::Refused("choose the CRS of the file first".into()))?;
    let part = |a: f64, b: f64| Part::new(monitor, a, b);
    // In degrees the ground that a cell covers stands for its size.
    let cell_size = match source.frame() {
        Some(frame) => frame.cell_size,
        None => plan_warp(rows, cols, geo_transform, &from, &place.crs)?.native_cell_size,
    };
    let rough = Frame { rows, cols, left: 0.0, top: 0.0, cell_size, unit_m: place.crs.unit_m };
    // Each as it lies in the files: a spike before a void is filled from it or warping smears it, a sea while it is level and before it could pass for a void, a void
    // before warping widens it, and steps of rounding at last, on ground that is whole.
    let mut spikes = Vec::new();
    if how.spikes {
        let mut mended = 0;
        for _ in 0..ROUNDS {
            let spikes = examine(&values, &rough, unit_m, &part(0.0, 0.05))?.worst_spikes;
            if spikes.is_empty() {
                break;
            }
            mended += spikes.len();
            mend_spikes(&mut values, &spikes);
        }
        done.push(format!("{mended} spikes replaced by the median of their neighbours"));
    } else if place.warped {
        let found = examine(&values, &rough, unit_m, &part(0.0, 0.05))?;
        spikes = found.worst_spikes;
    }
    let sea = if how.sea { examine(&values, &rough, unit_m, &part(0.05, 0.1))?.sea } else { None };
    if let Some(sea) = &sea {
        let removed = remove_level(&mut values, sea);
        let area = rough.area_of(removed).as_km2();
        done.push(format!("sea of {area:.3} km² at {:.2} m declared as outside", sea.elevation_m));
    }
    // Looked for before voids are filled with elevations that were never rounded.
    let step = if how.steps { examine(&values, &rough, unit_m, &part(0.1, 0.12))?.step_m } else { None };
    if how.voids {
        let (whole, filled) = fill_voids(&values, &part(0.12, 0.15))?;
        values = whole;
        done.push(match filled {
            0 => "no void was found".into(),
            cells => format!("voids of {cells} cells filled smoothly from their rim"),
        });
    }
    if how.steps {
        match step {
            Some(step) => {
                let moved = soften_steps(&mut values, step, &part(0.15, 0.35))?;
                done.push(format!("{moved} cells moved by up to {} m, half a step of rounding", step / 2.0));
            }
            None => done.push("no step of rounding was found".into()),
        }
    }
    let mut frame = place.frame;
    if place.warped {
        let placed = Placed { values: &values, geo_transform, crs: &from };
        values = warp_onto(&placed, &place.crs, &frame, how.resampling, &part(0.35, 0.7))?;
        done.push(format!(
            "reprojected from {} to {} on cells of {} ({})",
            from.label(),
            place.crs.label(),
            frame.cell_size,
            how.resampling.code()
        ));
    }
    if let (Some((row, col, rows, cols)), Some(polygons)) = (place.window, &place.clip) {
        values = values.window(row, col, rows, cols);
        frame = place.clipped();
        for (value, keep) in values.values_mut().iter_mut().zip(kept_cells(polygons, &frame)) {
            if !keep {
                *value = f32::NAN;
            }
        }
        let name = how.clip.as_ref().map_or("", |c| c.name.as_str());
        done.push(format!("clipped to {name}: {cols} x {rows} cells"));
    }
    // One that is level only on the grid that it was brought to, or once the rest is clipped away.
    if how.sea && sea.is_none() {
        match examine(&values, &frame, unit_m, &part(0.7, 0.75))?.sea {
            Some(sea) => {
                let removed = remove_level(&mut values, &sea);
                let area = frame.area_of(removed).as_km2();
                done.push(format!("sea of {area:.3} km² at {:.2} m declared as outside", sea.elevation_m));
            }
            None => done.push("no sea was found".into()),
        }
    }
    if how.full_rectangle {
        let keep = largest_full_rectangle(&values).ok_or(bothros_core::Error::NoData)?;
        values = values.window(keep.row, keep.col, keep.rows, keep.cols);
        frame = frame.window(keep.row, keep.col, keep.rows, keep.cols);
        done.push(format!("cropped to the largest full rectangle, {} x {} cells", keep.cols, keep.rows));
    }
    let summary = summarise(&values, unit_m, &part(0.75, 0.85))?;
    let mut quality = examine(&values, &frame, unit_m, &part(0.85, 1.0))?;
    if !spikes.is_empty() && !how.full_rectangle {
        let placed = brought(&spikes, geo_transform, &Transform::new(&from, &place.crs)?, &frame);
        if placed.len() as u64 > quality.spikes {
            (quality.spikes, quality.worst_spikes) = (placed.len() as u64, placed);
        }
    }
    quality.worst_spikes.truncate(SPIKES_KEPT);
    let full = (summary.nodata_cells > 0).then(|| largest_full_rectangle(&values)).flatten();
    let full_rectangle =
        full.filter(|r| r.rows < frame.rows || r.cols < frame.cols).map(|r| (r.rows, r.cols));
    let facts =
        TerrainFacts { crs: place.crs, frame, summary, prepared: how.clone(), done, quality, full_rectangle };
    Ok(Made { values, facts })
}

/// Spikes of a grid as cells of the one that it was brought to, without those that lie outside it.
fn brought(spikes: &[Spike], geo: [f64; 6], to: &Transform, frame: &Frame) -> Vec<Spike> {
    let place = |spike: &Spike| {
        let (col, row) = (spike.at.col as f64 + 0.5, spike.at.row as f64 + 0.5);
        let (x, y) = (geo[0] + col * geo[1] + row * geo[2], geo[3] + col * geo[4] + row * geo[5]);
        let (x, y) = to.point(x, y).ok()?;
        Some(Spike { at: frame.cell_at(x, y)?, ..*spike })
    };
    spikes.iter().filter_map(place).collect()
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
    let how: Preparing = kept::read(request.clone())?;
    let facts = Facts::of(&store.study(study).await?)?;
    let mut source = facts.source.ok_or_else(|| crate::Error::Refused("the study has no DEM".into()))?;
    let values = read_source(store, study, &mut source, handle, 0.25).await?;
    handle.say("preparing the DEM");
    let (now, choices, monitor) = (source.clone(), how.clone(), handle.clone());
    let made = blocking(move || make(values, &now, &choices, &Part::new(&monitor, 0.25, 0.8))).await?;
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
