//! Changes to the network by hand, each with its reason.

use bothros_core::Threshold;
use bothros_core::catchments::{SnapTo, snap};
use bothros_core::network::Edit;
use bothros_store::Store;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::network::threshold::set_threshold;
use crate::{Error, Facts, GridCache, Result, change_settings};

/// A stream to prune is looked for within so many cells of the place that was clicked.
const PRUNED_WITHIN: f64 = 20.0;

/// A change to the network by hand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StreamEdit {
    /// what
    pub edit: Edit,
    /// why
    pub reason: String,
}

impl StreamEdit {
    /// What it does, in words.
    pub fn told(&self) -> String {
        match &self.edit {
            Edit::Prune { at, .. } => format!("Stream pruned from {:.0}, {:.0} upwards", at[0], at[1]),
            Edit::Head { at } => format!("Headwater set at {:.0}, {:.0}", at[0], at[1]),
            Edit::Within { area, .. } => {
                let [x, y] = self.place();
                format!("Threshold {:.2} ha inside the area around {x:.0}, {y:.0}", area.as_m2() / 1e4)
            }
        }
    }
    /// A place to go to.
    pub fn place(&self) -> [f64; 2] {
        match &self.edit {
            Edit::Prune { at, .. } | Edit::Head { at } => *at,
            Edit::Within { ring, .. } => {
                let n = ring.len().max(1) as f64;
                let (x, y) = ring.iter().fold((0.0, 0.0), |(x, y), p| (x + p[0] / n, y + p[1] / n));
                [x, y]
            }
        }
    }
}

/// Adds an edit, or takes one away; it can be undone.
///
/// # Errors
/// [`Error::Refused`] without a reason, for an area of no use, where no stream is near that could be pruned, and
/// before flow is routed.
pub async fn edit_streams(
    store: &Store,
    grids: &GridCache,
    study: i64,
    add: Option<StreamEdit>,
    remove: Option<usize>,
) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let network = facts.network.ok_or_else(Error::not_routed)?;
    let add = match add {
        Some(new) => Some(ready(store, grids, &facts, network.threshold, new).await?),
        None => None,
    };
    let mut told = String::new();
    let (_, undo) = change_settings(store, study, |settings| {
        if let Some(at) = remove {
            if at >= settings.edits.len() {
                return Err(Error::Refused("there is no such edit any more".into()));
            }
            told = format!("Taken back: {}", settings.edits.remove(at).told());
        }
        if let Some(new) = add {
            told = format!("{}: {}", new.told(), new.reason.trim());
            settings.edits.push(new);
        }
        Ok(())
    })
    .await?;
    store.remember(study, &told, &undo).await?;
    store.log(study, "Network", &told, json!({}), Default::default()).await?;
    set_threshold(store, grids, study, network.threshold, false).await?;
    Ok(())
}

/// An edit as it is kept: whether it can be, and what it is to be known again by.
async fn ready(
    store: &Store,
    grids: &GridCache,
    facts: &Facts,
    threshold: Threshold,
    mut new: StreamEdit,
) -> Result<StreamEdit> {
    if new.reason.trim().is_empty() {
        return Err(Error::Refused("say why: the reason stands in the log beside the edit".into()));
    }
    if let Edit::Within { ring, area } = &new.edit
        && !(ring.len() > 2 && area.as_m2() > 0.0 && area.as_m2().is_finite())
    {
        return Err(Error::Refused("an area needs three corners, and a threshold greater than 0".into()));
    }
    if let Edit::Prune { at, area } = &mut new.edit {
        let (routed, streams) = (grids.get(store, facts).await?, grids.streams(store, facts).await?);
        let (frame, near) = (&routed.frame, PRUNED_WITHIN * routed.frame.cell_m());
        let place = (at[0], at[1]);
        let cell = snap(streams.accumulation(), frame, threshold, place, near, SnapTo::NearestStream)?;
        let upstream = routed.accumulation.values()[routed.accumulation.index(cell)];
        (*at, *area) = (frame.centre(cell).into(), Some(frame.area_of(upstream as u64 + 1)));
    }
    Ok(new)
}
