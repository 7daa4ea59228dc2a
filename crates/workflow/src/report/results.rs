//! What came out: the network by order, catchments with their measures and profiles.

use bothros_charts::{Axis, Chart, Series, Tone};
use bothros_core::Cell;
use bothros_core::network::{OrderTotals, totals_by_order};
use bothros_core::profile::distances_along;
use bothros_products::Quantity;
use bothros_sheets::report::Block;

use super::defence::chart;
use super::ground::map;
use super::{table, words};
use crate::sheets::SheetSources;
use crate::{CatchmentFacts, Facts, NetworkFacts, Result, blocking, measures_of, quantity};

/// The network by order.
pub(super) async fn network(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let Some(found) = facts.network else { return Ok(vec![words("There is no network yet.")]) };
    let network = from.grids.network(from.store, facts, found.threshold).await?;
    let totals = blocking(move || Ok(totals_by_order(&network))).await?;
    let mut blocks = vec![words(network_words(&found))];
    blocks.extend(orders_table(&totals));
    blocks.extend(map(from, facts, &["relief", "streams"], "The network by Strahler order").await?);
    Ok(blocks)
}

/// A network in one sentence.
pub(super) fn network_words(found: &NetworkFacts) -> String {
    format!(
        "{} with {}, {} in all, {} over the footprint; the highest order is {}.",
        quantity::count(found.reaches as u64, "reach", "reaches"),
        quantity::count(found.headwaters as u64, "headwater", "headwaters"),
        quantity::length(found.length_m),
        quantity::density(found.density_km),
        found.highest_order
    )
}

/// Streams by order, as a table.
pub(super) fn orders_table(totals: &[OrderTotals]) -> Option<Block> {
    let row = |t: &OrderTotals| {
        vec![
            t.order.to_string(),
            quantity::whole(t.streams),
            quantity::length(t.mean_length_m()),
            quantity::area(t.mean_area.as_m2()),
        ]
    };
    let heads = [("Strahler order", true), ("Streams", true), ("Mean length", true), ("Mean area", true)];
    table("orders", "Streams by order", &heads, totals.iter().map(row).collect())
}

/// A long profile is drawn from so many places at most.
const PLACES: usize = 400;
/// Profiles that are shown.
const PROFILES: usize = 6;

/// The long profile of the main stem of a catchment.
fn profile(name: &str, distances: &[f64], heights: &[Option<f32>]) -> Option<Chart> {
    let every = distances.len().div_ceil(PLACES).max(1);
    let all = distances.iter().zip(heights).enumerate();
    let last = distances.len().checked_sub(1)?;
    let points = all
        .filter(|(n, _)| n % every == 0 || *n == last)
        .map(|(_, (distance, height))| (*distance, height.map(f64::from)))
        .collect();
    Some(
        Chart::new("profile", format!("Long profile of the main stem above {name}, conditioned ground"))
            .size(420.0, 170.0)
            .x(Axis::of("distance", Quantity::Length, quantity::units()))
            .y(Axis::of("elevation", Quantity::Elevation, quantity::units()))
            .ends("headwater", "outlet")
            .series(Series::line("ground", Tone::Ink, points)),
    )
}

/// Catchments with their measures and long profiles.
pub(super) async fn catchments(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let mut blocks = Vec::new();
    let (mut rows, mut profiles) = (Vec::new(), Vec::new());
    for (n, point) in from.store.pour_points(facts.study).await?.into_iter().enumerate() {
        let Some(found) = bothros_store::kept::read_some::<CatchmentFacts>(&point.catchment)? else {
            let why = point.problem.clone().unwrap_or_else(|| "flow is not routed".into());
            blocks.push(words(format!("{} {} has no catchment: {why}.", n + 1, point.name)));
            continue;
        };
        if facts.routing.is_none() {
            continue;
        }
        let measured = measures_of(from.store, from.grids, facts, &point).await?;
        let m = &measured.measures;
        rows.push(vec![
            format!("{} {}", n + 1, point.name),
            quantity::area(found.area_km2 * 1e6) + if found.edge_cells > 0 { ", at least" } else { "" },
            quantity::length(found.perimeter_km * 1000.0),
            m.relief_m().map_or("–".into(), quantity::metres),
            quantity::told(Quantity::Slope, m.mean_slope),
            quantity::length(m.longest_path_km * 1000.0),
            quantity::density(m.drainage_density()),
            quantity::length(found.moved_m),
        ]);
        if let (Some(stem), true) = (&m.stem, profiles.len() < PROFILES) {
            let grids = from.grids.get(from.store, facts).await?;
            let path: Vec<Cell> = stem.cells.iter().map(|&c| grids.directions.cell(c as usize)).collect();
            let heights: Vec<Option<f32>> = stem
                .cells
                .iter()
                .map(|&c| Some(grids.filled.values()[c as usize]).filter(|z| !z.is_nan()))
                .collect();
            let distances = distances_along(&path, &grids.frame);
            profiles.extend(profile(&point.name, &distances, &heights).as_ref().and_then(chart));
        }
    }
    if rows.is_empty() {
        blocks.push(words("No catchment was delineated."));
        return Ok(blocks);
    }
    let heads = [
        ("Catchment", false),
        ("Area", true),
        ("Perimeter", true),
        ("Relief", true),
        ("Mean slope", true),
        ("Longest flow path", true),
        ("Drainage density", true),
        ("Snapped by", true),
    ];
    blocks.extend(table("catchments", "Catchments and their measures", &heads, rows));
    let caption = "Catchments and pour points; a broken outline is cut by the edge of the DEM";
    blocks.extend(map(from, facts, &["relief", "catchments", "streams"], caption).await?);
    blocks.extend(profiles);
    Ok(blocks)
}
