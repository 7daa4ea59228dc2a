//! Conditioning, flow directions and flow accumulation, as one job.

use std::sync::Arc;
use std::time::Instant;

use bothros_core::conditioning::{
    Conditioned, Conditioning, bed_below_banks, condition, cut_and_fill, deepest_cuts, difference, list_sinks,
};
use bothros_core::memory::Step;
use bothros_core::routing::{
    ACCUMULATION_NODATA, DIRECTION_NODATA, Method, accumulate_by, flow_directions_to_outlets,
    weighted_accumulation,
};
use bothros_core::{Cell, Frame, Grid, Monitor, Part, Quiet};
use bothros_store::{JobHandle, Kept, LogLine, NewRaster, RasterRole, Record, Store, StudyPart};
use rayon::prelude::*;
use serde_json::json;

use crate::catchments::pour_points::{Delineating, delineate_again, delineate_all};
use crate::conditioning::choices::{conditioning_key, conditioning_of};
use crate::conditioning::review::SINKS_LISTED;
use crate::conditioning::together::{Together, together};
use crate::inputs::weights::read_weights;
use crate::network::evidence::first_threshold;
use crate::network::map::StreamMap;
use crate::network::threshold::figures_of;
use crate::study::grids::{StreamRules, prepared_dem};
use crate::{
    ConditionedFacts, Error, Facts, GridCache, Grids, Result, RoutingFacts, Stage, Streams, blocking,
};

struct Routed {
    ground: Grid<f32>,
    /// what flow was divided over, where that is not the ground
    surface: Option<Grid<f32>>,
    depth: Grid<f32>,
    change: Option<Grid<f32>>,
    directions: Grid<u8>,
    accumulation: Grid<u32>,
    weighted: Option<Grid<f32>>,
    facts: RoutingFacts,
}

fn compute(
    dem: Grid<f32>,
    frame: &Frame,
    (how, method): (&Conditioning, Method),
    weights: Option<Grid<f32>>,
    key: String,
    shared: (&str, &str),
    handle: &JobHandle,
) -> Result<Routed> {
    let begun = Instant::now();
    let part = |from: f64, to: f64| Part::new(handle, from, to);
    handle.say("conditioning the DEM");
    let (done, routed) = match together(&dem, frame, (how, method), shared, handle)? {
        Some(Together { done, directions, accumulation }) => (done, Some((directions, accumulation))),
        None => (condition(&dem, frame, how, &part(0.05, 0.35))?, None),
    };
    handle.say("measuring sinks");
    // What was filled is measured on the ground as the steps before left it.
    let mut before = how.clone();
    before.sinks = bothros_core::conditioning::TreatSinks::Keep;
    let unfilled = match needs_more_than_filling(how) {
        true => Some(condition(&dem, frame, &before, &part(0.35, 0.38))?.ground),
        false => None,
    };
    let from = unfilled.as_ref().unwrap_or(&dem);
    let sinks = list_sinks(from, &done.ground, frame, SINKS_LISTED, &part(0.38, 0.42))?;
    let depth = from.values().par_iter().zip(done.ground.values());
    let depth = depth.map(|(z, f)| if f > z { f - z } else { f32::NAN }).collect();
    let depth = Grid::from_vec(dem.rows(), dem.cols(), depth);
    drop(unfilled);
    handle.say("measuring cut and fill");
    let mut change = difference(&dem, done.routing_surface())?;
    let mut conditioned = what_changed(&dem, &done, &change, frame, key)?;
    conditioned.beds =
        how.burn.as_ref().map(|(streams, _)| bed_below_banks(done.routing_surface(), frame, streams));
    drop(dem);
    change.values_mut().par_iter_mut().filter(|change| **change == 0.0).for_each(|change| *change = f32::NAN);
    let (directions, accumulation) = match routed {
        Some(routed) => routed,
        None => {
            handle.say("finding flow directions");
            let surface = done.routing_surface();
            let directions = flow_directions_to_outlets(surface, &done.open, &part(0.42, 0.55))?;
            handle.say("accumulating flow");
            let accumulation = accumulate_by(method, surface, &directions, &part(0.55, 0.65))?;
            (directions, accumulation)
        }
    };
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
    let largest = accumulation.values().par_iter().filter(|&&a| a != ACCUMULATION_NODATA).max();
    let largest_cells = largest.map_or(0, |a| a + 1);
    let facts = RoutingFacts {
        method,
        conditioned: Some(conditioned),
        sinks,
        largest_cells,
        log_percentiles: bothros_core::routing::log_percentiles(&accumulation),
        took_s: begun.elapsed().as_secs_f64(),
    };
    let surface = done.routing.filter(|_| method.divides());
    let differs = |(a, b): (&f32, &f32)| a.to_bits() != b.to_bits() && !(a.is_nan() && b.is_nan());
    let change = depth.values().par_iter().zip(change.values()).any(differs).then_some(change);
    Ok(Routed { ground: done.ground, surface, depth, change, directions, accumulation, weighted, facts })
}

/// Whether anything is done to the ground before its sinks are filled.
fn needs_more_than_filling(how: &Conditioning) -> bool {
    how.fill_voids || !how.rebuild.is_empty() || !how.lakes.is_empty() || !how.breach_lines.is_empty()
}

/// Cuts kept in the list, the deepest first.
const CUTS_LISTED: usize = 12;

/// Classes of the histogram of cut and fill.
const CLASSES: usize = 24;

/// The least and the greatest value of a grid, each with the number of its cell: of equal ones the first. None where all is NaN.
#[derive(Clone, Copy, Default)]
struct Extremes {
    low: Option<(f32, usize)>,
    high: Option<(f32, usize)>,
}

/// Cells that are looked at together.
const AT_ONCE: usize = 1 << 14;

fn extremes(grid: &Grid<f32>) -> Extremes {
    // The values first, which takes no branches; then where they are.
    let bounds = |cells: &[f32]| {
        let none = (f32::INFINITY, f32::NEG_INFINITY);
        cells.iter().fold(none, |(low, high), &z| (low.min(z), high.max(z)))
    };
    let parts: Vec<(f32, f32)> = grid.values().par_chunks(AT_ONCE).map(bounds).collect();
    let (low, high) = bounds_of(&parts);
    if low > high {
        return Extremes::default();
    }
    let first = |value: f32, holds: &dyn Fn(&(f32, f32)) -> bool| {
        let part = parts.iter().position(holds)?;
        let from = part * AT_ONCE;
        let cells = &grid.values()[from..grid.len().min(from + AT_ONCE)];
        Some((value, from + cells.iter().position(|z| *z == value)?))
    };
    Extremes { low: first(low, &|part| part.0 == low), high: first(high, &|part| part.1 == high) }
}

fn bounds_of(parts: &[(f32, f32)]) -> (f32, f32) {
    let none = (f32::INFINITY, f32::NEG_INFINITY);
    parts.iter().fold(none, |(low, high), part| (low.min(part.0), high.max(part.1)))
}

fn what_changed(
    dem: &Grid<f32>,
    done: &Conditioned,
    change: &Grid<f32>,
    frame: &Frame,
    key: String,
) -> Result<ConditionedFacts> {
    let Extremes { low: deepest, high: highest } = extremes(change);
    let (low, high) = (deepest.map_or(0.0, |d| d.0.min(0.0)), highest.map_or(0.0, |h| h.0.max(0.0)));
    let span = (high - low).max(f32::MIN_POSITIVE);
    let count = |mut classes: [u64; CLASSES], &c: &f32| {
        if c != 0.0 && !c.is_nan() {
            classes[(((c - low) / span * CLASSES as f32) as usize).min(CLASSES - 1)] += 1;
        }
        classes
    };
    let both = |mut a: [u64; CLASSES], b: [u64; CLASSES]| {
        a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
        a
    };
    let none = || [0u64; CLASSES];
    let histogram = change.values().par_iter().fold(none, count).reduce(none, both).to_vec();
    let range = |grid: &Grid<f32>| {
        let Extremes { low, high } = extremes(grid);
        (low.map_or(f32::INFINITY, |l| l.0), high.map_or(f32::NEG_INFINITY, |h| h.0))
    };
    let place = |index: usize| -> Cell { dem.cell(index) };
    let ground = cut_and_fill(dem, &done.ground, frame)?;
    let routing = match &done.routing {
        Some(surface) => cut_and_fill(dem, surface, frame)?,
        None => ground,
    };
    Ok(ConditionedFacts {
        key,
        beds: None,
        cuts: deepest_cuts(dem, &done.ground, frame, CUTS_LISTED)?,
        ground,
        routing,
        deepest_cut: deepest.filter(|d| d.0 < 0.0).map(|(_, index)| place(index)),
        highest_fill: highest.filter(|h| h.0 > 0.0).map(|(_, index)| place(index)),
        histogram,
        range_before_m: range(dem),
        range_after_m: range(done.routing_surface()),
        open: done.open.len(),
        steps: done.steps.clone(),
        remarks: done.remarks.clone(),
    })
}

pub(crate) async fn run(store: &Store, grids: &GridCache, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let row = store.study(study).await?;
    let (facts, made) = (Facts::of(&row)?, row.created_at);
    let terrain = facts.terrain.clone().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    Step::Route.check(terrain.frame.cells() as u64)?;
    let meta = prepared_dem(store, study, &terrain).await?;
    handle.say("reading elevations");
    let dem = store.read_raster::<f32>(&meta).await?;
    handle.progress(0.05);
    let facts = Facts::of(&store.study(study).await?)?;
    let (how, key) = (conditioning_of(store, &facts).await?, conditioning_key(store, &facts).await?);
    let (frame, monitor, lines) = (terrain.frame, handle.clone(), how.breach_lines.len());
    let (burned, method) = (how.burn.is_some(), facts.settings.conditioning.routing);
    if facts.settings.weights.is_some() {
        handle.say("reading weights");
    }
    let weights = read_weights(store, &facts, &terrain.crs, &frame, &Quiet(handle.clone())).await?;
    // Two databases may share a place: their studies were not made at the same time.
    let name = format!("study-{study}-{}", made.timestamp_micros());
    let about = format!("DEM {}, {key}", meta.id);
    let routed =
        blocking(move || compute(dem, &frame, (&how, method), weights, key, (&name, &about), &monitor))
            .await?;

    handle.say("drawing the network");
    let Routed { ground, surface, depth, change, directions, accumulation, weighted, facts: found } = routed;
    let of = blocking(move || Grids::new(frame, directions, accumulation, ground, method));
    let drawn_on = Arc::new(of.await?);
    let chosen = facts.network.map(|n| n.threshold).filter(|t| t.as_cells() <= found.largest_cells);
    let (on, monitor, largest) = (Arc::clone(&drawn_on), handle.clone(), found.largest_cells);
    let mut rules = StreamRules::of(&facts.settings);
    let drawn_by = rules.clone();
    let map = StreamMap::of(store, &facts, &frame).await?;
    let (mut threshold, network, mut streams) = blocking(move || {
        let streams = Streams::on(on, &drawn_by, &Quiet(&monitor))?;
        let threshold = match chosen {
            Some(chosen) => chosen,
            None => first_threshold(&streams, largest, &map, &Part::new(&monitor, 0.65, 0.68))?,
        };
        let network = streams.network(threshold, &Part::new(&monitor, 0.68, 0.7))?;
        Ok((threshold, network, streams))
    })
    .await?;
    let mut network = Arc::new(network);

    handle.say("keeping the results");
    let writer = store.write(study).await?;
    let keep = |from: f64, to: f64| {
        move |share: f64| {
            handle.progress(from + (to - from) * share);
            !handle.is_cancelled()
        }
    };
    writer.put(NewRaster::at(RasterRole::Filled, &frame), &drawn_on.filled, &keep(0.7, 0.79)).await?;
    writer.put(NewRaster::at(RasterRole::FillDepth, &frame), &depth, &keep(0.79, 0.82)).await?;
    match &change {
        Some(change) => {
            writer.put(NewRaster::at(RasterRole::CutFill, &frame), change, &keep(0.82, 0.84)).await?;
        }
        None => writer.remove(&[RasterRole::CutFill]).await?,
    }
    writer.put(NewRaster::at(RasterRole::Direction, &frame), &drawn_on.directions, &keep(0.84, 0.88)).await?;
    let new = NewRaster::at(RasterRole::Accumulation, &frame);
    let number = writer.put(new, &drawn_on.accumulation, &keep(0.88, 0.97)).await?;
    match &surface {
        Some(surface) => {
            writer.put(NewRaster::at(RasterRole::RoutingSurface, &frame), surface, &keep(0.97, 0.97)).await?;
        }
        None => writer.remove(&[RasterRole::RoutingSurface]).await?,
    }
    match &weighted {
        Some(sums) => {
            writer.put(NewRaster::at(RasterRole::Weighted, &frame), sums, &keep(0.97, 0.98)).await?;
        }
        None => writer.remove(&[RasterRole::Weighted]).await?,
    }
    // Catchments are found before anybody has to wait for them.
    let with = Delineating { grids: Arc::clone(&drawn_on), streams: streams.clone(), threshold };
    let points = delineate_all(&with, store.pour_points(study).await?).await?;
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
        let (on, drawn_by, monitor) = (Arc::clone(&drawn_on), rules.clone(), handle.clone());
        (network, streams) = blocking(move || {
            let quiet = Quiet(&monitor);
            let streams = Streams::on(on, &drawn_by, &quiet)?;
            Ok((Arc::new(streams.network(threshold, &quiet)?), streams))
        })
        .await?;
        // Where streams are others, points snap to other places.
        let with = Delineating { grids: Arc::clone(&drawn_on), streams, threshold };
        delineate_again(&change, &with, Vec::new()).await?;
    }
    let figures = figures_of(&network, &terrain, threshold);
    change
        .set(vec![
            (StudyPart::Routing, Some(Kept::of(&found)?)),
            (StudyPart::Network, Some(Kept::of(&figures)?)),
        ])
        .await?;
    grids.know(number, drawn_on, (threshold, &rules), network).await?;

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
