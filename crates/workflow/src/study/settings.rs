//! Choices of the analyst: changed one at a time, each for itself.

use bothros_store::kept::read;
use bothros_store::{Inverse, Kept, Store};
use serde_json::Value;

use crate::{Error, Result, Settings};

/// Changes choices of a study in one step that nobody comes in between; answers the choices as they are now, and what
/// undoes it: only what was changed, so that other choices made since stay.
///
/// # Errors
/// Those of `change`, and [`bothros_store::Error::NotKept`] for numbers that cannot be kept; then nothing is changed.
pub async fn change_settings(
    store: &Store,
    study: i64,
    change: impl FnOnce(&mut Settings) -> Result<()> + Send,
) -> Result<(Settings, Inverse)> {
    let changed = store.change_settings(study, |kept| {
        let mut settings: Settings = read(kept)?;
        let before = serde_json::to_value(&settings)?;
        change(&mut settings)?;
        let after = serde_json::to_value(&settings)?;
        let kept = Kept::of(&settings)?;
        let undo = Inverse::SetSettings { settings: differing(before, &after) };
        Ok::<_, Error>((kept, (settings, undo)))
    });
    changed.await
}

/// Puts some choices of a study back to what they were, by their names; the others stay as they are.
///
/// # Errors
/// Those of the store.
pub async fn put_back_settings(store: &Store, study: i64, earlier: Value) -> Result<()> {
    let put_back = |mut now: Value| {
        if let (Value::Object(now), Value::Object(earlier)) = (&mut now, earlier) {
            now.extend(earlier);
        }
        Ok::<_, Error>((Kept::of(&read::<Settings>(now)?)?, ()))
    };
    store.change_settings(study, put_back).await
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
