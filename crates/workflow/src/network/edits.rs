//! Changes to the network by hand, each with its reason.

use bothros_core::Threshold;
use bothros_core::catchments::{SnapTo, snap};
use bothros_core::network::Edit;
use bothros_store::{Kept, LogLine, Record, Store, StudyPart};
use serde::{Deserialize, Serialize};

use crate::network::threshold::figures_at;
use crate::study::as_read::Rounds;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, boxed};

/// Distance from the clicked point within which a stream to prune is sought, in cells.
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
/// [`Error::Refused`] without a reason, for an area out of range, where no stream is near that could be pruned, and
/// before flow is routed.
#[boxed]
pub async fn edit_streams(
    store: &Store,
    grids: &GridCache,
    study: i64,
    add: Option<StreamEdit>,
    remove: Option<usize>,
) -> Result<()> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let mut facts = rounds.next().await?;
        let threshold = facts.network.ok_or_else(Error::not_routed)?.threshold;
        let mut edits = facts.settings.edits.clone();
        let mut told = String::new();
        if let Some(at) = remove {
            if at >= edits.len() {
                return Err(Error::Refused("there is no such edit any more".into()));
            }
            told = format!("Taken back: {}", edits.remove(at).told());
        }
        if let Some(new) = &add {
            let new = ready(store, grids, &facts, threshold, new.clone()).await?;
            told = format!("{}: {}", new.told(), new.reason.trim());
            edits.push(new);
        }
        facts.settings.edits.clone_from(&edits);
        let found = figures_at(store, grids, &facts, threshold).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        let set = |settings: &mut Settings| {
            settings.edits = edits;
            Ok(())
        };
        let changed = change_settings(&change, set).await?;
        change.set(vec![(StudyPart::Network, Some(Kept::of(&found)?))]).await?;
        let line = LogLine::new(Stage::Network.title(), told.clone());
        change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
        return Ok(());
    }
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
        return Err(Error::Refused("give a reason: it goes into the log with the edit".into()));
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
