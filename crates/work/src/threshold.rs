//! The threshold, and the network that it gives.

use std::time::Instant;

use bothros_core::Threshold;
use bothros_store::{Inverse, KeptNetwork, Store};
use serde_json::json;

use crate::evidence::constant_drop;
use crate::{Error, Facts, GridCache, NetworkFacts, Result};

/// Draws the network at a threshold and keeps its figures.
pub(crate) async fn keep_network(
    store: &Store,
    grids: &GridCache,
    study: i64,
    threshold: Threshold,
) -> Result<NetworkFacts> {
    keep(store, grids, study, threshold, false).await?.ok_or_else(Error::not_routed)
}

/// Keeps the figures of the network at a threshold, unless somebody has set one in the meantime: that one is theirs.
pub(crate) async fn keep_unless_set(
    store: &Store,
    grids: &GridCache,
    study: i64,
    threshold: Threshold,
) -> Result<()> {
    keep(store, grids, study, threshold, true).await?;
    Ok(())
}

/// Where flow is routed again before the figures are kept, they are measured again.
async fn keep(
    store: &Store,
    grids: &GridCache,
    study: i64,
    threshold: Threshold,
    first: bool,
) -> Result<Option<NetworkFacts>> {
    loop {
        let number = grids.number(store, &Facts::of(&store.study(study).await?)?).await?;
        let found = figures(store, grids, study, threshold).await?;
        match store.keep_network(study, number, serde_json::to_value(found)?, first).await? {
            KeptNetwork::Kept => return Ok(Some(found)),
            KeptNetwork::Taken => return Ok(None),
            KeptNetwork::Outdated => {}
        }
    }
}

/// Draws the network at a threshold and measures it.
async fn figures(store: &Store, grids: &GridCache, study: i64, threshold: Threshold) -> Result<NetworkFacts> {
    let facts = Facts::of(&store.study(study).await?)?;
    let network = grids.network(store, &facts, threshold).await?;
    let terrain = facts.terrain.ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    Ok(NetworkFacts {
        threshold,
        reaches: network.reaches.len(),
        headwaters: network.headwaters(),
        length_m: network.length_m(),
        highest_order: network.highest_order(),
        density_km: network.length_m() / 1000.0 / terrain.frame.area_of(terrain.summary.cells).as_km2(),
        stream_cells: network.stream_cells,
    })
}

/// The first threshold offered: the smallest at which the drops of streams are constant, or, where they are at
/// none, 1 % of the largest contributing area.
pub(crate) async fn first_threshold(store: &Store, grids: &GridCache, study: i64) -> Result<Threshold> {
    let facts = Facts::of(&store.study(study).await?)?;
    let largest = facts.routing.as_ref().map_or(1, |r| r.largest_cells);
    let constant = constant_drop(store, grids, &facts).await?;
    Ok(constant.unwrap_or(Threshold::cells((largest / 100).max(1))))
}

/// Sets the threshold of a study; it can be undone.
///
/// # Errors
/// [`Error::Refused`] where no stream would be left.
pub async fn set_threshold(
    store: &Store,
    grids: &GridCache,
    study: i64,
    threshold: Threshold,
    remember: bool,
) -> Result<NetworkFacts> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let (Some(terrain), Some(routing)) = (&facts.terrain, &facts.routing) else {
        return Err(Error::not_routed());
    };
    if threshold.as_cells() > routing.largest_cells {
        return Err(Error::Refused(format!(
            "a threshold of {:.4} km² ({} cells) leaves no stream: the largest contributing area is {:.4} km² ({} cells)",
            threshold.as_area(&terrain.frame).as_km2(),
            threshold.as_cells(),
            Threshold::cells(routing.largest_cells).as_area(&terrain.frame).as_km2(),
            routing.largest_cells
        )));
    }
    let before = facts.network.map(|n| n.threshold);
    let found = keep_network(store, grids, study, threshold).await?;
    if let Some(before) = before.filter(|b| remember && *b != threshold) {
        let label = format!("threshold {} → {} cells", before.as_cells(), threshold.as_cells());
        store.remember(study, &label, &Inverse::SetThreshold { cells: before.as_cells() }).await?;
    }
    if before != Some(threshold) {
        let text = format!(
            "Threshold {:.4} km² ({} cells): {} reaches, {:.1} km",
            threshold.as_area(&terrain.frame).as_km2(),
            threshold.as_cells(),
            found.reaches,
            found.length_m / 1000.0
        );
        store.log(study, "Network", &text, json!({ "cells": threshold.as_cells() }), begun.elapsed()).await?;
    }
    Ok(found)
}
