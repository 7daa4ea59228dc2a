//! Choices of the analyst: changed one at a time, each for itself.

use bothros_store::{Inverse, Store};
use serde_json::Value;

use crate::{Error, Result, Settings};

/// Changes choices of a study in one step that nobody comes in between; answers the choices as they are now, and what
/// undoes it: only what was changed, so that other choices made since stay.
///
/// # Errors
/// Those of `change`, and [`Error::Refused`] for numbers that cannot be kept; then nothing is changed.
pub async fn change_settings(
    store: &Store,
    study: i64,
    change: impl FnOnce(&mut Settings) -> Result<()> + Send,
) -> Result<(Settings, Inverse)> {
    let changed = store.change_settings(study, |kept| {
        let mut settings: Settings = serde_json::from_value(kept)?;
        let before = serde_json::to_value(&settings)?;
        change(&mut settings)?;
        let after = serde_json::to_value(&settings)?;
        // JSON knows no infinite numbers, and what is kept must be read again.
        let settings: Settings = serde_json::from_value(after.clone())
            .map_err(|_| Error::Refused("a number in it is no number that can be kept".into()))?;
        let undo = Inverse::SetSettings { settings: differing(before, &after) };
        Ok::<_, Error>((after, (settings, undo)))
    });
    changed.await
}

/// What of an object another has otherwise.
fn differing(mut before: Value, after: &Value) -> Value {
    if let Value::Object(before) = &mut before {
        before.retain(|name, value| after.get(name.as_str()) != Some(value));
    }
    before
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn only_what_was_changed_is_remembered() {
        let before = json!({ "snap_m": 100.0, "edits": [1], "style": null });
        let after = json!({ "snap_m": 100.0, "edits": [1, 2], "style": null });
        assert_eq!(differing(before.clone(), &after), json!({ "edits": [1] }));
        assert_eq!(differing(before.clone(), &before), json!({}));
        // What was nothing is nothing again.
        let styled = json!({ "snap_m": 100.0, "edits": [1], "style": { "by": "order" } });
        assert_eq!(differing(before, &styled), json!({ "style": null }));
    }
}
