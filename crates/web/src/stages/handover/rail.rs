//! Where the stage stands.

use bothros_store::JobKind::Package;

use crate::shell::rail::{StageState, Standing};

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
