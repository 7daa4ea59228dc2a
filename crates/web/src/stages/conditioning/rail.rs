//! Where the stage stands.

use bothros_store::JobKind::{Review, Route};
use bothros_workflow::Stage;

use crate::shell::rail::{StageState, Standing};
use crate::ui::quantity;

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    match (&study.facts.routing, &study.facts.review) {
        _ if study.runs(&[Route, Review]) => (StageState::Running, "working…".into()),
        (Some(_), _) if study.stale => (StageState::Out, "choices have changed".into()),
        (Some(r), _) => (StageState::Done, format!("{} sinks filled", quantity::whole(r.sinks.sinks))),
        (None, Some(r)) => {
            (StageState::None, format!("{} sinks, {} barriers", quantity::whole(r.sinks.sinks), r.barriers))
        }
        (None, None) if study.facts.terrain.is_some() => (StageState::None, "not begun".into()),
        (None, None) => (StageState::None, Stage::Conditioning.purpose().into()),
    }
}
