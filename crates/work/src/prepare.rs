//! Warping and cropping the DEM.

use std::time::Instant;

use bothros_core::terrain::largest_full_rectangle;
use bothros_core::{Frame, Monitor, Part};
use bothros_formats::{Crs, CrsKind, Placed, Resampling, warp};
use bothros_store::{JobHandle, NewRaster, RasterRole, Store, StudyPart};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::import::{AFTER_TERRAIN, read_source, terrain_facts};
use crate::{Error, Facts, Preparation, Result, blocking};

/// What is to be done to the DEM.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "snake_case")]
pub enum PrepareRequest {
    /// warp the file to a projected CRS on square cells
    Warp {
        /// EPSG code or definition
        crs: String,
        /// edge of a cell, units of that CRS
        cell_size: f64,
        /// how values between cells are found
        resampling: Resampling,
    },
    /// crop the prepared DEM to its largest full rectangle
    Crop,
}

pub(crate) async fn run(store: &Store, study: i64, request: &Json, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let request: PrepareRequest = serde_json::from_value(request.clone())?;
    let facts = Facts::of(&store.study(study).await?)?;
    let source = facts.source.clone().ok_or_else(|| Error::Refused("the study has no DEM".into()))?;
    let unit_m = source.vertical_unit.metres();
    let monitor = handle.clone();
    let (values, terrain, text) = match request.clone() {
        PrepareRequest::Warp { crs, cell_size, resampling } => {
            let to = Crs::parse(&crs)?;
            if to.kind != CrsKind::Projected {
                return Err(Error::Refused(format!(
                    "{} is not projected: areas and slopes need eastings and northings",
                    to.label()
                )));
            }
            let from = source
                .crs
                .clone()
                .ok_or_else(|| Error::Refused("choose the CRS of the file first".into()))?;
            let values = read_source(store, study, &source, handle, 0.25).await?;
            handle.say("warping");
            blocking(move || {
                let placed = Placed { values: &values, geo_transform: source.info.geo_transform, crs: &from };
                let (warped, frame) =
                    warp(&placed, &to, cell_size, resampling, &Part::new(&monitor, 0.25, 0.7))?;
                drop(values);
                let label = to.label();
                // Warped elevations are no whole numbers any more; that fact belongs to the source.
                let mut terrain = terrain_facts(&warped, to, frame, unit_m, &Part::new(&monitor, 0.7, 0.8))?;
                terrain.preparation = Some(Preparation { from: from.label(), resampling });
                let text = format!(
                    "Warped from {} to {label} on cells of {cell_size} ({})",
                    from.label(),
                    resampling.code()
                );
                Ok((warped, terrain, text))
            })
            .await?
        }
        PrepareRequest::Crop => {
            let before = facts
                .terrain
                .clone()
                .ok_or_else(|| Error::Refused("there is no prepared DEM to crop".into()))?;
            let meta =
                store.raster(study, RasterRole::Dem).await?.ok_or(bothros_store::Error::NotFound("DEM"))?;
            handle.say("reading elevations");
            let values = store.read_raster::<f32>(&meta).await?;
            handle.say("cropping");
            blocking(move || {
                let keep = largest_full_rectangle(&values).ok_or(bothros_core::Error::NoData)?;
                let frame = Frame {
                    rows: keep.rows,
                    cols: keep.cols,
                    left: before.frame.left + keep.col as f64 * before.frame.cell_size,
                    top: before.frame.top - keep.row as f64 * before.frame.cell_size,
                    ..before.frame
                };
                let cropped = values.window(keep.row, keep.col, keep.rows, keep.cols);
                let mut terrain =
                    terrain_facts(&cropped, before.crs, frame, unit_m, &Part::new(&monitor, 0.3, 0.8))?;
                terrain.preparation = before.preparation;
                terrain.cropped = true;
                let text = format!(
                    "Cropped from {} x {} to {} x {} cells, the largest full rectangle",
                    before.frame.cols, before.frame.rows, keep.cols, keep.rows
                );
                Ok((cropped, terrain, text))
            })
            .await?
        }
    };
    handle.say("keeping the elevations");
    let writer = store.write(study).await?;
    writer.remove(&AFTER_TERRAIN).await?;
    writer
        .put(NewRaster::at(RasterRole::Dem, &terrain.frame), &values, &|share| {
            handle.progress(0.8 + 0.2 * share);
            !handle.is_cancelled()
        })
        .await?;
    writer
        .change_study(vec![
            (StudyPart::Terrain, Some(serde_json::to_value(&terrain)?)),
            (StudyPart::Review, None),
            (StudyPart::Routing, None),
            (StudyPart::Network, None),
        ])
        .await?;
    writer.commit().await?;
    store.log(study, "Terrain", &text, json!(request), begun.elapsed()).await?;
    Ok(text)
}
