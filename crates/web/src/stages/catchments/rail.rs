//! Where the stage stands.

use crate::shell::rail::{StageState, Standing};

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    let routed = study.facts.routing.is_some();
    match study.points {
        0 if routed => (StageState::None, "no pour point yet".into()),
        0 => (StageState::None, "needs routed flow".into()),
        n if !routed || study.stale => (StageState::Out, format!("{n} to delineate again")),
        1 => (StageState::Done, "1 pour point".into()),
        n => (StageState::Done, format!("{n} pour points")),
    }
}
