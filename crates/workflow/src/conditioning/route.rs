//! Conditioning, flow directions and flow accumulation, as one job.

use std::sync::Arc;
use std::time::Instant;

use bothros_core::conditioning::{
    Conditioned, Conditioning, bed_below_banks, condition, difference, list_sinks,
};
use bothros_core::memory::Step;
use bothros_core::routing::{
    ACCUMULATION_NODATA, DIRECTION_NODATA, Method, accumulate_by, flow_directions_to_outlets,
    weighted_accumulation,
};
use bothros_core::{Frame, Grid, Monitor, Part, Quiet};
use bothros_store::{JobHandle, Kept, LogLine, RasterRole, Record, Store, StudyPart};
use rayon::prelude::*;
use serde_json::json;

use crate::catchments::pour_points::{Delineating, delineate_again, delineate_all};
use crate::conditioning::changed::what_changed;
use crate::conditioning::choices::{conditioning_key, conditioning_of};
use crate::conditioning::keeping::{Made, Making, way};
use crate::conditioning::review::SINKS_LISTED;
use crate::conditioning::together::{Together, together};
use crate::inputs::weights::read_weights;
use crate::network::evidence::first_threshold;
use crate::network::map::StreamMap;
use crate::network::threshold::figures_of;
use crate::study::grids::{StreamRules, prepared_dem};
use crate::{Error, Facts, GridCache, Grids, Result, RoutingFacts, Stage, Streams, blocking};

struct Routed {
    ground: Arc<Grid<f32>>,
    directions: Arc<Grid<u8>>,
    accumulation: Arc<Grid<u32>>,
    facts: RoutingFacts,
}

/// How a DEM is conditioned and routed.
struct Ways {
    conditioning: Conditioning,
    method: Method,
    weights: Option<Grid<f32>>,
    /// of the conditioning
    key: String,
}

fn compute(
    dem: Arc<Grid<f32>>,
    frame: &Frame,
    ways: Ways,
    shared: (&str, &str),
    handle: &JobHandle,
    making: &Making,
) -> Result<Routed> {
    let begun = Instant::now();
    let Ways { conditioning: how, method, weights, key } = ways;
    let part = |from: f64, to: f64| Part::new(handle, from, to);
    handle.say("conditioning the DEM");
    let (done, routed) = match together(&dem, frame, (&how, method), shared, handle)? {
        Some(Together { done, directions, accumulation }) => (done, Some((directions, accumulation))),
        None => (condition(&dem, frame, &how, &part(0.05, 0.35))?, None),
    };
    let Conditioned { ground, routing, open, steps, remarks } = done;
    let ground = Arc::new(ground);
    making.is_made(Made::Ground(Arc::clone(&ground), Arc::clone(&dem)))?;
    let surface = routing.as_ref().unwrap_or(&ground);
    handle.say("measuring sinks");
    // What was filled is measured on the ground as the steps before left it.
    let mut before = how.clone();
    before.sinks = bothros_core::conditioning::TreatSinks::Keep;
    let unfilled = match needs_more_than_filling(&how) {
        true => Some(condition(&dem, frame, &before, &part(0.35, 0.38))?.ground),
        false => None,
    };
    let from = unfilled.as_ref().unwrap_or(&dem);
    let sinks = list_sinks(from, &ground, frame, SINKS_LISTED, &part(0.38, 0.42))?;
    let depth = from.values().par_iter().zip(ground.values());
    let depth = depth.map(|(z, f)| if f > z { f - z } else { f32::NAN }).collect();
    let depth = Grid::from_vec(dem.rows(), dem.cols(), depth);
    drop(unfilled);
    handle.say("measuring cut and fill");
    let mut change = difference(&dem, surface)?;
    let mut conditioned = what_changed(&dem, &ground, routing.as_ref(), &change, frame)?;
    conditioned.key = key;
    conditioned.beds = how.burn.as_ref().map(|(streams, _)| bed_below_banks(surface, frame, streams));
    (conditioned.open, conditioned.steps, conditioned.remarks) = (open.len(), steps, remarks);
    drop(dem);
    change.values_mut().par_iter_mut().filter(|change| **change == 0.0).for_each(|change| *change = f32::NAN);
    let differs = |(a, b): (&f32, &f32)| a.to_bits() != b.to_bits() && !(a.is_nan() && b.is_nan());
    let change = depth.values().par_iter().zip(change.values()).any(differs).then_some(change);
    making.is_made(Made::Depth(depth))?;
    making.is_made(Made::Change(change))?;
    let (directions, accumulation) = match routed {
        Some(routed) => routed,
        None => {
            handle.say("finding flow directions");
            let directions = flow_directions_to_outlets(surface, &open, &part(0.42, 0.55))?;
            handle.say("accumulating flow");
            let accumulation = accumulate_by(method, surface, &directions, &part(0.55, 0.65))?;
            (directions, accumulation)
        }
    };
    let (directions, accumulation) = (Arc::new(directions), Arc::new(accumulation));
    making.is_made(Made::Directions(Arc::clone(&directions)))?;
    making.is_made(Made::Accumulation(Arc::clone(&accumulation)))?;
    making.is_made(Made::Surface(routing.filter(|_| method.divides())))?;
    let weighted = match &weights {
        Some(weights) => {
            handle.say("accumulating weights");
            let sums = weighted_accumulation(&directions, weights, &part(0.63, 0.65))?;
            // Kept as it is drawn and read: with seven digits.
            let each = sums.values().iter().zip(weights.values()).zip(directions.values());
            let with_own = each.map(|((sum, own), &code)| match code {
                DIRECTION_NODATA => f32::NAN,
                _ => (sum + if own.is_nan() { 0.0 } else { *own as f64 }) as f32,
            });
            Some(Grid::from_vec(sums.rows(), sums.cols(), with_own.collect()))
        }
        None => None,
    };
    making.is_made(Made::Weighted(weighted))?;
    let largest = accumulation.values().par_iter().filter(|&&a| a != ACCUMULATION_NODATA).max();
    let facts = RoutingFacts {
        method,
        conditioned: Some(conditioned),
        sinks,
        largest_cells: largest.map_or(0, |a| a + 1),
        log_percentiles: bothros_core::routing::log_percentiles(&accumulation),
        took_s: begun.elapsed().as_secs_f64(),
    };
    Ok(Routed { ground, directions, accumulation, facts })
}

/// Whether anything is done to the ground before its sinks are filled.
fn needs_more_than_filling(how: &Conditioning) -> bool {
    how.fill_voids || !how.rebuild.is_empty() || !how.lakes.is_empty() || !how.breach_lines.is_empty()
}

pub(crate) async fn run(store: &Store, grids: &GridCache, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let row = store.study(study).await?;
    let (facts, made) = (Facts::of(&row)?, row.created_at);
    let terrain = facts.terrain.clone().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    Step::Route.check(terrain.frame.cells() as u64)?;
    let meta = prepared_dem(store, study, &terrain).await?;
    handle.say("reading elevations");
    let dem = grids.dem(store, &meta).await?;
    handle.progress(0.05);
    let facts = Facts::of(&store.study(study).await?)?;
    let (how, key) = (conditioning_of(store, &facts).await?, conditioning_key(store, &facts).await?);
    let (frame, lines) = (terrain.frame, how.breach_lines.len());
    let (burned, method) = (how.burn.is_some(), facts.settings.conditioning.routing);
    if facts.settings.weights.is_some() {
        handle.say("reading weights");
    }
    let weights = read_weights(store, &facts, &terrain.crs, &frame, &Quiet(handle.clone())).await?;
    // Two databases may share a place: their studies were not made at the same time.
    let name = format!("study-{study}-{}", made.timestamp_micros());
    let about = format!("DEM {}, {key}", meta.id);
    let ways = Ways { conditioning: how, method, weights, key };
    let mut rules = StreamRules::of(&facts.settings);
    let (making, keeping, state) = way();

    let monitor = handle.clone();
    let compute = blocking(move || compute(dem, &frame, ways, (&name, &about), &monitor, &making));
    let computing = async {
        let Routed { ground, directions, accumulation, facts: found } = compute.await?;
        handle.say("drawing the network");
        let of = blocking(move || Grids::new(frame, directions, accumulation, ground, method));
        let drawn_on = Arc::new(of.await?);
        let chosen = facts.network.map(|n| n.threshold).filter(|t| t.as_cells() <= found.largest_cells);
        let (on, monitor, largest) = (Arc::clone(&drawn_on), handle.clone(), found.largest_cells);
        let (drawn_by, map) = (rules.clone(), StreamMap::of(store, &facts, &frame).await?);
        let draw = blocking(move || {
            let streams = Streams::on(on, &drawn_by, &Quiet(&monitor))?;
            let threshold = match chosen {
                Some(chosen) => chosen,
                None => first_threshold(&streams, largest, &map, &Part::new(&monitor, 0.65, 0.68))?,
            };
            let network = streams.network(threshold, &Part::new(&monitor, 0.68, 0.7))?;
            Ok((threshold, Arc::new(network), streams))
        });
        let (threshold, network, streams) = draw.await?;
        // Catchments are found before anybody has to wait for them.
        let with = Delineating { grids: drawn_on, streams, threshold };
        let points = delineate_all(&with, store.pour_points(study).await?).await?;
        handle.say("keeping the results");
        state.all_made();
        Ok((found, with, network, points))
    };
    let computing = async { computing.await.inspect_err(|_| state.failed()) };
    let writer = store.write(study).await?;
    let keeping = keeping.keep(&writer, &meta, &frame, handle, (0.7, 0.98));
    let ((found, mut with, mut network, points), number) = match tokio::join!(computing, keeping) {
        (Ok(computed), Ok(Some(number))) => (computed, number),
        // Where one of both fails the other is given up: the reason is that of the first.
        (Err(given_up), Err(why)) if given_up.is_cancelled() => return Err(why),
        (Err(why), _) | (_, Err(why)) => return Err(why),
        (Ok(_), Ok(None)) => return Err(bothros_core::Error::Cancelled.into()),
    };
    let mut threshold = with.threshold;
    let change = writer.into_change().await?;
    if change.raster(RasterRole::Dem).await?.is_none_or(|now| now.id != meta.id) {
        return Err(Error::Refused("the DEM was changed meanwhile: condition and route flow again".into()));
    }
    // Threshold and edits may have been changed in the meantime; from here on nobody changes them.
    let now = Facts::of(change.study())?;
    let moved = now.network.map(|n| n.threshold).filter(|t| t.as_cells() <= found.largest_cells);
    let wanted = (moved.unwrap_or(threshold), StreamRules::of(&now.settings));
    if wanted == (threshold, rules.clone()) {
        delineate_again(&change, &with, points).await?;
    } else {
        (threshold, rules) = wanted;
        let (on, drawn_by, monitor) = (Arc::clone(&with.grids), rules.clone(), handle.clone());
        let (drawn, streams) = blocking(move || {
            let quiet = Quiet(&monitor);
            let streams = Streams::on(on, &drawn_by, &quiet)?;
            Ok((Arc::new(streams.network(threshold, &quiet)?), streams))
        })
        .await?;
        // Where streams are others, points snap to other places.
        network = drawn;
        with = Delineating { grids: with.grids, streams, threshold };
        delineate_again(&change, &with, Vec::new()).await?;
    }
    let figures = figures_of(&network, &terrain, threshold);
    change
        .set(vec![
            (StudyPart::Routing, Some(Kept::of(&found)?)),
            (StudyPart::Network, Some(Kept::of(&figures)?)),
        ])
        .await?;
    grids.know(number, with.grids, (threshold, &rules), network).await?;

    let sinks = &found.sinks;
    let burned = if burned { "Burned mapped streams; " } else { "" };
    let lowered = match lines {
        0 => String::new(),
        1 => "Lowered the ground along 1 breach line; ".into(),
        n => format!("Lowered the ground along {n} breach lines; "),
    };
    let text = format!(
        "{burned}{lowered}{} {} sinks ({} cells raised, {:.0} m³), routed flow by {} and accumulated it",
        if lowered.is_empty() && burned.is_empty() { "Filled" } else { "filled" },
        sinks.sinks,
        sinks.cells_raised,
        sinks.volume_m3,
        method.title()
    )
    .replace("  ", " ");
    let settings = json!({ "conditioning": facts.settings.conditioning, "breach_lines": lines, "routing": method.name() });
    let text = text.trim().to_owned();
    let line = LogLine::new(Stage::Conditioning.title(), text.clone()).with(settings).taking(begun.elapsed());
    change.commit(Record::log(line)).await?;
    Ok(text)
}
