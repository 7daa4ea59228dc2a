//! The threshold, and the network that it gives.

use std::time::Instant;

use bothros_core::Threshold;
use bothros_core::network::Network;
use bothros_store::{Inverse, Kept, KeptNetwork, LogLine, Record, Store};
use serde_json::json;

use crate::{Error, Facts, GridCache, NetworkFacts, Result, TerrainFacts};

/// Draws the network at a threshold and measures it.
pub(crate) async fn figures(
    store: &Store,
    grids: &GridCache,
    facts: &Facts,
    threshold: Threshold,
) -> Result<NetworkFacts> {
    let network = grids.network(store, facts, threshold).await?;
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    Ok(figures_of(&network, terrain, threshold))
}

/// The figures of a network.
pub(crate) fn figures_of(network: &Network, terrain: &TerrainFacts, threshold: Threshold) -> NetworkFacts {
    NetworkFacts {
        threshold,
        reaches: network.reaches.len(),
        headwaters: network.headwaters(),
        length_m: network.length_m(),
        highest_order: network.highest_order(),
        density_km: network.length_m() / 1000.0 / terrain.frame.area_of(terrain.summary.cells).as_km2(),
        stream_cells: network.stream_cells,
    }
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
    // Where flow is routed again before the figures are kept, they are measured again.
    loop {
        let facts = Facts::of(&store.study(study).await?)?;
        let number = grids.number(store, &facts).await?;
        let before = facts.network.map(|n| n.threshold);
        let found = figures(store, grids, &facts, threshold).await?;
        let mut record = Record::default();
        if let Some(before) = before.filter(|b| remember && *b != threshold) {
            let label = format!("threshold {} → {} cells", before.as_cells(), threshold.as_cells());
            record.undo = Some((label, Inverse::SetThreshold { cells: before.as_cells() }));
        }
        if before != Some(threshold) {
            let text = format!(
                "Threshold {:.4} km² ({} cells): {} reaches, {:.1} km",
                threshold.as_area(&terrain.frame).as_km2(),
                threshold.as_cells(),
                found.reaches,
                found.length_m / 1000.0
            );
            let settings = json!({ "cells": threshold.as_cells() });
            record.log = Some(LogLine { stage: "Network", text, settings, took: begun.elapsed() });
        }
        match store.keep_network(study, number, Kept::of(&found)?, record).await? {
            KeptNetwork::Kept => return Ok(found),
            KeptNetwork::Outdated => {}
        }
    }
}
