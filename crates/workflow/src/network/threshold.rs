//! The threshold, and the network that it gives.

use std::time::Instant;

use bothros_core::Threshold;
use bothros_core::network::Network;
use bothros_store::{Inverse, Kept, LogLine, Record, Store, StudyPart};
use serde_json::json;

use crate::study::as_read::Rounds;
use crate::{Error, Facts, GridCache, NetworkFacts, Result, Stage, TerrainFacts, boxed};

/// Draws the network at a threshold and measures it.
///
/// # Errors
/// [`Error::Refused`] where no stream would be left, and before flow is routed.
pub(crate) async fn figures_at(
    store: &Store,
    grids: &GridCache,
    facts: &Facts,
    threshold: Threshold,
) -> Result<NetworkFacts> {
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
    let network = grids.network(store, facts, threshold).await?;
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
/// [`Error::Refused`] where no stream would be left, and before flow is routed.
#[boxed]
pub async fn set_threshold(
    store: &Store,
    grids: &GridCache,
    study: i64,
    threshold: Threshold,
) -> Result<NetworkFacts> {
    let begun = Instant::now();
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let found = figures_at(store, grids, &facts, threshold).await?;
        let before = facts.network.map(|n| n.threshold);
        if before == Some(threshold) {
            return Ok(found);
        }
        let Some(change) = rounds.keep(&facts).await? else { continue };
        change.set(vec![(StudyPart::Network, Some(Kept::of(&found)?))]).await?;
        let area = facts.terrain.as_ref().map_or(0.0, |t| threshold.as_area(&t.frame).as_km2());
        let text = format!(
            "Threshold {area:.4} km² ({} cells): {} reaches, {:.1} km",
            threshold.as_cells(),
            found.reaches,
            found.length_m / 1000.0
        );
        let settings = json!({ "cells": threshold.as_cells() });
        let mut record =
            Record::log(LogLine::new(Stage::Network.title(), text).with(settings).taking(begun.elapsed()));
        if let Some(before) = before {
            let label = format!("threshold {} → {} cells", before.as_cells(), threshold.as_cells());
            record = record.undone_by(label, Inverse::SetThreshold { cells: before.as_cells() });
        }
        change.commit(record).await?;
        return Ok(found);
    }
}

/// Thresholds that are kept for all studies at most: more nobody looks through.
const MOST_KEPT: usize = 50;

/// Keeps the threshold of a study, as an area, for all studies, with a name and a reason; one of the same name is replaced.
///
/// # Errors
/// [`Error::Refused`] before flow is routed, without a name or a reason, with one that is too long, and where fifty are kept.
#[boxed]
pub async fn keep_threshold(store: &Store, study: i64, name: &str, reason: &str) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (Some(terrain), Some(network)) = (&facts.terrain, &facts.network) else {
        return Err(Error::not_routed());
    };
    let (name, reason) = (name.trim(), reason.trim());
    let refused = |what: &str| Err(Error::Refused(what.into()));
    if name.is_empty() || name.chars().count() > 60 {
        return refused("give the threshold a name of at most 60 characters");
    }
    if reason.is_empty() || reason.chars().count() > 300 {
        return refused("say in at most 300 characters where the threshold comes from, or what it is for");
    }
    let others = store.kept_thresholds().await?;
    if others.iter().filter(|k| k.name.to_lowercase() != name.to_lowercase()).count() >= MOST_KEPT {
        return refused("fifty thresholds are kept: forget one first");
    }
    Ok(store.keep_threshold(name, reason, network.threshold.as_area(&terrain.frame).as_m2()).await?)
}
