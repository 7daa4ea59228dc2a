//! Undo: each change is taken back once, against the current state of the study, or stays on the list.

use bothros_core::Threshold;
use bothros_store::{
    Change, Inverse, JobKind, Kept, LogLine, NewPourPoint, Record, Snapping, Store, StudyPart, kept,
};

use crate::catchments::pour_points::{Delineating, found_at};
use crate::inputs::backdrops::put_backdrop_back;
use crate::network::threshold::figures_at;
use crate::sheets::put_sheet_back;
use crate::study::as_read::Rounds;
use crate::study::grids::StreamRules;
use crate::study::kept_forms::KeptPreparing;
use crate::study::settings::put_back;
use crate::terrain::sources::restore_source;
use crate::{Error, Facts, GridCache, PourPointPlace, Result, Settings, boxed};

/// Long computations, done before the study is locked.
#[derive(Default)]
struct Ready {
    point: Option<NewPourPoint>,
    network: Option<Kept>,
    settings: Option<Settings>,
}

/// The changes that an inverse takes back, one by one.
fn parts(inverse: Inverse) -> Vec<Inverse> {
    match inverse {
        Inverse::All { all } => all.into_iter().flat_map(parts).collect(),
        one => vec![one],
    }
}

/// Undoes the last change to a study; returns its description.
///
/// # Errors
/// [`Error::Refused`] where nothing is left to undo; [`bothros_store::Error::Busy`] where a job runs that must end
/// first. What could not be undone can be undone later.
#[boxed]
pub async fn undo(store: &Store, grids: &GridCache, study: i64) -> Result<String> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let last = store.last_change(study).await?;
        let last = last.ok_or_else(|| Error::Refused("there is nothing left to undo".into()))?;
        let inverses = parts(last.inverse);
        let mut ready = Vec::new();
        // Each comes after those before it: a threshold where streams begin otherwise gives another network.
        let mut then = facts.clone();
        for inverse in &inverses {
            let next = prepare(store, grids, &then, inverse).await?;
            if let Some(settings) = &next.settings {
                then.settings.clone_from(settings);
            }
            ready.push(next);
        }
        let Some(change) = rounds.keep(&facts).await? else { continue };
        if !change.take(last.id).await? {
            continue;
        }
        if inverses.iter().any(starts_job) {
            change.check_idle().await?;
        }
        let mut job = None;
        for (inverse, ready) in inverses.into_iter().zip(ready) {
            job = apply(&change, inverse, ready).await?.or(job);
        }
        let log = Some(LogLine::new("Study", format!("Undone: {}", last.label)));
        change.commit(Record { log, job, undo: None }).await?;
        return Ok(last.label);
    }
}

/// Whether undoing a change starts a job.
fn starts_job(inverse: &Inverse) -> bool {
    matches!(inverse, Inverse::Prepare { .. } | Inverse::SetSource { .. })
}

async fn prepare(store: &Store, grids: &GridCache, facts: &Facts, inverse: &Inverse) -> Result<Ready> {
    let mut ready = Ready::default();
    match inverse {
        Inverse::ChangePourPoint { name, x, y, snapping, .. } => {
            ready.point = Some(point_back(store, grids, facts, name, (*x, *y), snapping.clone()).await?);
        }
        Inverse::SetSettings { settings } => {
            let back = put_back(&facts.settings, settings.clone())?;
            // Where streams begin, and changes by hand, are among the settings: the network's figures follow.
            let others = StreamRules::of(&back) != StreamRules::of(&facts.settings);
            if let Some(network) = facts.network.filter(|_| others) {
                let then = Facts { settings: back.clone(), ..facts.clone() };
                ready.network = Some(Kept::of(&figures_at(store, grids, &then, network.threshold).await?)?);
            }
            ready.settings = Some(back);
        }
        Inverse::SetThreshold { cells } | Inverse::ChooseTrial { cells: Some(cells), .. } => {
            let found = figures_at(store, grids, facts, Threshold::cells(*cells)).await?;
            ready.network = Some(Kept::of(&found)?);
        }
        _ => {}
    }
    Ok(ready)
}

/// A pour point at the place that it had; snapped as it was then, where that is known.
async fn point_back(
    store: &Store,
    grids: &GridCache,
    facts: &Facts,
    name: &str,
    (x, y): (f64, f64),
    snapping: Option<(f64, String)>,
) -> Result<NewPourPoint> {
    let Some((snap_m, snap_to)) = snapping else {
        return found_at(
            store,
            grids,
            facts,
            PourPointPlace { name: name.into(), x, y, area_m2: None, own: None },
        )
        .await;
    };
    let snapping = Snapping { snap_m, snap_to };
    let found = match facts.routing.is_some() {
        true => {
            let (with, snapping) = (Delineating::of(store, grids, facts).await?, snapping.clone());
            crate::blocking(move || with.again((x, y), &snapping)).await?
        }
        false => Default::default(),
    };
    Ok(NewPourPoint { name: name.into(), x, y, snapping, found })
}

/// Does what undoes a change; the job that is to be started with it, if there is one.
async fn apply(change: &Change, inverse: Inverse, ready: Ready) -> Result<Option<(JobKind, Kept)>> {
    if let Some(network) = ready.network {
        change.set(vec![(StudyPart::Network, Some(network))]).await?;
    }
    if let Some(settings) = ready.settings {
        change.set_settings(Kept::of(&settings)?).await?;
    }
    match inverse {
        Inverse::RemovePourPoint { id } => change.set_pour_point_deleted(id, true).await?,
        Inverse::RestorePourPoint { id } => change.set_pour_point_deleted(id, false).await?,
        Inverse::ChangePourPoint { id, .. } => {
            if let Some(point) = ready.point {
                change.move_pour_point(id, point).await?;
            }
        }
        Inverse::RemoveLayer { id } => change.set_layer_deleted(id, true).await?,
        Inverse::RestoreLayer { id } => change.set_layer_deleted(id, false).await?,
        Inverse::RemoveBackdrop { id } => change.set_backdrop_deleted(id, true).await?,
        Inverse::RestoreBackdrop { id } => change.set_backdrop_deleted(id, false).await?,
        Inverse::PlaceBackdrop { id, placing } => put_backdrop_back(change, id, placing).await?,
        Inverse::RemoveFeature { layer, feature } => drop(change.remove_feature(layer, feature).await?),
        Inverse::RestoreFeature { layer, feature } => {
            change.restore_feature(layer, serde_json::from_value(feature)?).await?;
        }
        Inverse::Decide { barrier, decision, line } => {
            change.decide(barrier, decision.as_deref(), line).await?;
        }
        Inverse::Prepare { preparing } => {
            let how: KeptPreparing = kept::read(preparing)?;
            return Ok(Some((JobKind::Prepare, Kept::of(&how)?)));
        }
        Inverse::SetSource { source } => return Ok(Some(restore_source(change, source).await?)),
        Inverse::RemoveTrial { id } => change.set_trial_deleted(id, true).await?,
        Inverse::RestoreTrial { id } => change.set_trial_deleted(id, false).await?,
        Inverse::DescribeTrial { id, name, remark } => change.describe_trial(id, &name, &remark).await?,
        Inverse::ChooseTrial { id, justification, .. } => {
            change.choose_trial(id.map(|id| (id, justification))).await?;
        }
        Inverse::RemoveSheet { id } => change.set_sheet_deleted(id, true).await?,
        Inverse::RestoreSheet { id } => change.set_sheet_deleted(id, false).await?,
        Inverse::SetSheet { id, name, sheet } => put_sheet_back(change, id, &name, sheet).await?,
        Inverse::DescribeStudy { name, description } => change.describe(&name, &description).await?,
        Inverse::SetSettings { .. } | Inverse::SetThreshold { .. } | Inverse::All { .. } => {}
    }
    Ok(None)
}
