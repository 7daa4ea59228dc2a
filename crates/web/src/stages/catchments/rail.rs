//! Where the stage stands.

use bothros_workflow::Stage;

use crate::shell::desk::{How, Next};
use crate::shell::rail::{StageState, Standing};

/// What comes next.
pub fn next(study: &Standing<'_>) -> Option<Next> {
    Some(match (&study.facts.routing, study.points) {
        (None, _) => Next::go(Stage::Conditioning, "Route flow first"),
        (_, 0) => Next {
            label: "Place a pour point",
            key: Some("P"),
            id: "next-place",
            how: How::Press("data-place"),
        },
        _ => Next::go(Stage::Handover, "Go on to Handover"),
    })
}

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
