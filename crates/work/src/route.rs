//! Filling sinks, flow directions and flow accumulation, as one job.

use std::time::Instant;

use bothros_core::conditioning::{fill, list_sinks};
use bothros_core::routing::{ACCUMULATION_NODATA, flow_accumulation, flow_directions};
use bothros_core::{Frame, Grid, Monitor, Part, Threshold};
use bothros_store::{JobHandle, NewRaster, RasterRole, Store, StudyPart};
use serde_json::json;

use crate::catchment::delineate_again;
use crate::{Error, Facts, GridCache, Result, RoutingFacts, blocking};

/// Sinks kept in the list, the largest by volume.
const SINKS_LISTED: usize = 200;

struct Routed {
    filled: Grid<f32>,
    depth: Grid<f32>,
    directions: Grid<u8>,
    accumulation: Grid<u32>,
    facts: RoutingFacts,
}

fn compute(dem: Grid<f32>, frame: &Frame, handle: &JobHandle) -> Result<Routed> {
    let begun = Instant::now();
    let part = |from: f64, to: f64| Part::new(handle, from, to);
    handle.say("filling sinks");
    let filled = fill(&dem, &part(0.05, 0.35))?;
    handle.say("measuring sinks");
    let sinks = list_sinks(&dem, &filled, frame, SINKS_LISTED, &part(0.35, 0.4))?;
    let depth = Grid::from_vec(
        dem.rows(),
        dem.cols(),
        dem.values().iter().zip(filled.values()).map(|(z, f)| if f > z { f - z } else { f32::NAN }).collect(),
    );
    drop(dem);
    handle.say("finding flow directions");
    let directions = flow_directions(&filled, &part(0.4, 0.55))?;
    handle.say("accumulating flow");
    let accumulation = flow_accumulation(&directions, &part(0.55, 0.65))?;
    let largest_cells =
        accumulation.values().iter().filter(|&&a| a != ACCUMULATION_NODATA).max().map_or(0, |a| a + 1);
    let facts = RoutingFacts {
        sinks,
        largest_cells,
        log_percentiles: log_percentiles(&accumulation),
        took_s: begun.elapsed().as_secs_f64(),
    };
    Ok(Routed { filled, depth, directions, accumulation, facts })
}

/// 2 % and 98 % of the decimal logarithm of contributing area in cells, from an even sample.
fn log_percentiles(accumulation: &Grid<u32>) -> (f64, f64) {
    let every = accumulation.len().div_ceil(1 << 18).max(1);
    let mut sample: Vec<u32> =
        accumulation.values().iter().step_by(every).copied().filter(|&a| a != ACCUMULATION_NODATA).collect();
    sample.sort_unstable();
    let at = |p: f64| {
        sample.get((sample.len().saturating_sub(1) as f64 * p).round() as usize).copied().unwrap_or(0)
    };
    let log = |a: u32| (a as f64 + 1.0).log10();
    (log(at(0.02)), log(at(0.98)).max(log(at(0.02)) + 0.5))
}

pub(crate) async fn run(store: &Store, grids: &GridCache, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let meta = store.raster(study, RasterRole::Dem).await?.ok_or(bothros_store::Error::NotFound("DEM"))?;
    handle.say("reading elevations");
    let dem = store.read_raster::<f32>(&meta).await?;
    handle.progress(0.05);
    let (frame, monitor) = (terrain.frame, handle.clone());
    let routed = blocking(move || compute(dem, &frame, &monitor)).await?;

    handle.say("keeping the results");
    let writer = store.write(study).await?;
    let keep = |from: f64, to: f64| {
        move |share: f64| {
            handle.progress(from + (to - from) * share);
            !handle.is_cancelled()
        }
    };
    writer.put(NewRaster::at(RasterRole::Filled, &frame), &routed.filled, &keep(0.65, 0.77)).await?;
    writer.put(NewRaster::at(RasterRole::FillDepth, &frame), &routed.depth, &keep(0.77, 0.82)).await?;
    writer.put(NewRaster::at(RasterRole::Direction, &frame), &routed.directions, &keep(0.82, 0.87)).await?;
    writer
        .put(NewRaster::at(RasterRole::Accumulation, &frame), &routed.accumulation, &keep(0.87, 0.97))
        .await?;
    writer
        .change_study(vec![
            (StudyPart::Routing, Some(serde_json::to_value(&routed.facts)?)),
            (StudyPart::Network, None),
        ])
        .await?;
    writer.commit().await?;

    handle.say("drawing the network");
    // A first look: 1 % of the largest contributing area.
    let threshold = Threshold::cells(routed.facts.largest_cells / 100);
    crate::threshold::keep_network(store, grids, study, threshold).await?;
    delineate_again(store, grids, study).await?;
    let sinks = &routed.facts.sinks;
    let text = format!(
        "Filled {} sinks ({} cells raised, {:.0} m³), routed flow by D8 and accumulated it",
        sinks.sinks, sinks.cells_raised, sinks.volume_m3
    );
    let settings = json!({ "sinks": "fill", "routing": "d8" });
    store.log(study, "Conditioning", &text, settings, begun.elapsed()).await?;
    Ok(text)
}
