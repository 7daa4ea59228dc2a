//! Where the stage stands.

use bothros_store::JobKind::{Review, Route};
use bothros_workflow::Stage;

use crate::shell::desk::Next;
use crate::shell::rail::{StageState, Standing};
use crate::ui::quantity;

/// What comes next.
pub fn next(study: &Standing<'_>) -> Option<Next> {
    let facts = study.facts;
    match (&facts.terrain, &facts.review, &facts.routing) {
        (None, ..) => Some(Next::go(Stage::Terrain, "Settle the terrain first")),
        (_, None, None) => Some(Next::post("review", "run-review", "Find sinks and barriers")),
        (_, Some(_), None) => Some(Next::post("route", "run-route", "Condition and route flow")),
        _ => Some(Next::go(Stage::Network, "Go on to Network")),
    }
}

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
