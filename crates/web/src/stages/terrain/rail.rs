//! Where the stage stands.

use bothros_store::JobKind::{Fetch, Import, Prepare};
use bothros_workflow::{Severity, Stage, findings};

use crate::shell::desk::Next;
use crate::shell::rail::{StageState, Standing};
use crate::ui::quantity;

/// What comes next.
pub fn next(study: &Standing<'_>) -> Option<Next> {
    study.facts.terrain.is_some().then(|| Next::go(Stage::Conditioning, "Go on to Conditioning"))
}

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    let facts = study.facts;
    match (&facts.terrain, &facts.source) {
        _ if study.runs(&[Fetch, Import, Prepare]) => (StageState::Running, "working…".into()),
        (Some(t), _) => (
            StageState::Done,
            format!(
                "{} {}, {} cells",
                t.frame.cell_size,
                quantity::unit(&t.crs.unit),
                quantity::whole(t.summary.cells)
            ),
        ),
        (None, Some(s)) if s.summary.is_some() || s.band.is_none() => {
            let open = findings(facts, quantity::units())
                .iter()
                .filter(|f| f.severity == Severity::Blocking)
                .count();
            (StageState::Attention, format!("{open} to settle"))
        }
        _ if study.failed(&[Fetch, Import, Prepare]) => (StageState::Attention, "could not be read".into()),
        _ => (StageState::None, "no DEM yet".into()),
    }
}
