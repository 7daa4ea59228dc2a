//! Name and description of a study.

use bothros_store::{Inverse, LogLine, Record, Store};
use serde_json::json;

use crate::{Error, Result, boxed};

/// Gives a study another name and description. It can be undone.
///
/// # Errors
/// [`Error::Refused`] without a name.
#[boxed]
pub async fn describe_study(store: &Store, study: i64, name: &str, description: &str) -> Result<()> {
    if name.is_empty() {
        return Err(Error::Refused("a study needs a name".into()));
    }
    let change = store.change(study).await?;
    let before = change.study().clone();
    change.describe(name, description).await?;
    let line = LogLine::new("Study", format!("Called {name}")).with(json!({ "description": description }));
    let undo = Inverse::DescribeStudy { name: before.name, description: before.description };
    change.commit(Record::log(line).undone_by("name and description", undo)).await?;
    Ok(())
}
