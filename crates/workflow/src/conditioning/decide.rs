//! What the analyst decides on the Conditioning stage: choices, crossings of barriers, when to look and when to run.

use bothros_core::conditioning::Line;
use bothros_core::profile::{Profile, profile_along};
use bothros_store::{Inverse, JobKind, Kept, LogLine, Record, Store};
use serde_json::json;

use crate::inputs::ground::{check_breach_line, ground_around};
use crate::study::settings::change_settings;
use crate::{BarrierFacts, Choices, Decision, Error, Facts, Result, Settings, Stage, boxed};

/// Chooses how the DEM is conditioned and flow routed. It can be undone; nothing is done where it is chosen already.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn choose_conditioning(store: &Store, study: i64, wanted: Choices) -> Result<()> {
    let change = store.change(study).await?;
    if Facts::of(change.study())?.settings.conditioning == wanted {
        return Ok(());
    }
    let set = |settings: &mut Settings| {
        settings.conditioning = wanted;
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let line = LogLine::new(Stage::Conditioning.title(), "Changed how the DEM is conditioned")
        .with(serde_json::to_value(&changed.now.conditioning)?);
    change.commit(Record::log(line).undone_by("choices of conditioning", changed.undo)).await?;
    Ok(())
}

/// Decides about a crossing, or leaves it open again; with a line that was drawn instead of the proposed one. It can be
/// undone.
///
/// # Errors
/// [`Error::Refused`] for a line that does not fall; [`bothros_store::Error::NotFound`] where there is no such barrier.
#[boxed]
pub async fn decide(
    store: &Store,
    study: i64,
    barrier: i64,
    decision: Option<Decision>,
    line: Option<Line>,
) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    if let Some(line) = &line {
        check_breach_line(store, &facts, line).await?;
    }
    let change = store.change(study).await?;
    let drawn = match line {
        Some(line) => Some(json!(line)),
        None => store.barrier(study, barrier).await?.line,
    };
    let before = change.decide(barrier, decision.map(Decision::name), drawn).await?;
    let said = match decision {
        Some(Decision::Breach) => "breach",
        Some(Decision::Fill) => "fill",
        Some(Decision::Keep) => "keep as a closed basin",
        None => "open again",
    };
    let text = format!("Crossing at {:.0}, {:.0}: {said}", before.x, before.y);
    let line = LogLine::new(Stage::Conditioning.title(), text.clone()).with(json!({ "score": before.score }));
    let undo = Inverse::Decide { barrier, decision: before.decision, line: before.line };
    change.commit(Record::log(line).undone_by(text, undo)).await?;
    Ok(())
}

/// The ground along a barrier's line, with what lies beside it.
///
/// # Errors
/// Those of [`ground_around`].
#[boxed]
pub async fn barrier_profile(store: &Store, facts: &Facts, barrier: &BarrierFacts) -> Result<Profile> {
    // Enough to see what lies beside it.
    let more_m = 4.0 * facts.terrain.as_ref().map_or(3.0, |t| t.frame.cell_m());
    let (dem, frame) = ground_around(store, facts, &barrier.line, more_m).await?;
    Ok(profile_along(&dem, &frame, &barrier.line, more_m))
}

/// Queues a search for sinks and barriers.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, [`bothros_store::Error::Busy`] where a job runs.
#[boxed]
pub async fn start_review(store: &Store, study: i64) -> Result<()> {
    start(store, study, JobKind::Review).await
}

/// Asks for the DEM to be conditioned and flow to be routed.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, [`bothros_store::Error::Busy`] where a job runs.
#[boxed]
pub async fn start_routing(store: &Store, study: i64) -> Result<()> {
    start(store, study, JobKind::Route).await
}

async fn start(store: &Store, study: i64, kind: JobKind) -> Result<()> {
    let change = store.change(study).await?;
    if Facts::of(change.study())?.terrain.is_none() {
        return Err(Error::not_ready());
    }
    change.commit(Record::job(kind, Kept::empty())).await?;
    Ok(())
}
