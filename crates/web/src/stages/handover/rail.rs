//! Where the stage stands.

use bothros_store::JobKind::Package;

use bothros_workflow::Stage;

use crate::shell::desk::Next;
use crate::shell::rail::{StageState, Standing};

/// What comes next.
pub fn next(study: &Standing<'_>) -> Option<Next> {
    Some(match (&study.facts.network, study.package) {
        (None, _) => Next::go(Stage::Conditioning, "Route flow first"),
        (_, None) => Next::post("package", "write-package", "Write the package"),
        (_, Some(false)) => Next::post("package", "write-package", "Write the package again"),
        (_, Some(true)) => return None,
    })
}

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    let network = study.facts.network.is_some();
    match study.package {
        _ if study.runs(&[Package]) => (StageState::Running, "writing…".into()),
        Some(true) if network && !study.stale => (StageState::Done, "package written".into()),
        Some(_) if network => (StageState::Out, "package to write again".into()),
        _ if network => (StageState::None, "ready to write".into()),
        _ => (StageState::None, "needs a network".into()),
    }
}
