//! Choices of the analyst: changed one at a time, each for itself.

use bothros_store::kept::read;
use bothros_store::{Change, Inverse, Kept, Record, Store};
use serde_json::Value;

use crate::{Result, Settings, boxed};

/// Choices as they are after a change, and what undoes it: only what was changed, so that other choices made since stay.
pub(crate) struct Changed {
    pub now: Settings,
    pub undo: Inverse,
}

/// Changes choices of a study, as part of a change to it.
///
/// # Errors
/// Those of `how`, and [`bothros_store::Error::NotKept`] for numbers that cannot be kept.
pub(crate) async fn change_settings(
    change: &Change,
    how: impl FnOnce(&mut Settings) -> Result<()>,
) -> Result<Changed> {
    let mut settings: Settings = read(change.study().settings.clone())?;
    let before = serde_json::to_value(&settings)?;
    how(&mut settings)?;
    let after = serde_json::to_value(&settings)?;
    change.set_settings(Kept::of(&settings)?).await?;
    let undo = Inverse::SetSettings { settings: differing(before, &after) };
    Ok(Changed { now: settings, undo })
}

/// Choices with some of them put back to what they were, by their names.
///
/// # Errors
/// [`bothros_store::Error::Unreadable`] where this version cannot read them.
pub(crate) fn put_back(settings: &Settings, earlier: Value) -> Result<Settings> {
    let mut now = serde_json::to_value(settings)?;
    if let (Value::Object(now), Value::Object(earlier)) = (&mut now, earlier) {
        now.extend(earlier);
    }
    Ok(read(now)?)
}

/// Keeps how the map is drawn; its content is up to the page, and it cannot be undone.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn set_style(store: &Store, study: i64, style: Value) -> Result<()> {
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        settings.style = style;
        Ok(())
    };
    change_settings(&change, set).await?;
    change.commit(Record::default()).await?;
    Ok(())
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

    #[test]
    fn what_is_put_back_leaves_the_rest() {
        let now = Settings { snap_m: 20.0, tolerance_m: Some(8.0), ..Settings::default() };
        let back = put_back(&now, json!({ "tolerance_m": null })).unwrap();
        assert_eq!((back.snap_m, back.tolerance_m), (20.0, None));
        assert!(put_back(&now, json!({ "snap_m": "far" })).is_err());
    }
}
