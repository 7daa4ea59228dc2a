//! Where the stage stands.

use crate::shell::rail::{StageState, Standing};
use crate::ui::numbers;

/// State and fact for the rail.
pub fn standing(study: &Standing<'_>) -> (StageState, String) {
    match (&study.facts.network, &study.facts.terrain) {
        (Some(n), Some(t)) => (
            if study.stale { StageState::Out } else { StageState::Done },
            format!(
                "{}, {} reaches",
                numbers::area(n.threshold.as_area(&t.frame).as_m2()),
                numbers::whole(n.reaches as u64)
            ),
        ),
        _ => (StageState::None, "needs routed flow".into()),
    }
}
