//! Where the stage stands.

use crate::shell::rail::{StageState, Standing};
use crate::ui::quantity;

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
