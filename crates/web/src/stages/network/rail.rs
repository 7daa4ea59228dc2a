//! Where the stage stands.

use bothros_workflow::Stage;

use crate::shell::desk::Next;
use crate::shell::rail::{StageState, Standing};
use crate::ui::quantity;

/// What comes next.
pub fn next(study: &Standing<'_>) -> Option<Next> {
    Some(match study.facts.network {
        Some(_) => Next::go(Stage::Catchments, "Go on to Catchments"),
        None => Next::go(Stage::Conditioning, "Route flow first"),
    })
}

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    match (&study.facts.network, &study.facts.terrain) {
        (Some(n), Some(t)) => (
            if study.stale { StageState::Out } else { StageState::Done },
            format!(
                "{}, {} reaches",
                quantity::area(n.threshold.as_area(&t.frame).as_m2()),
                quantity::whole(n.reaches as u64)
            ),
        ),
        _ => (StageState::None, "needs routed flow".into()),
    }
}
