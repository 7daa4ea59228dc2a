//! Parameters of single elements of the model scheme, as the analyst typed them.

use std::collections::HashSet;

use bothros_core::Cell;
use bothros_products::{NEXUSES, Parameter, TypedValue};
use bothros_store::{LogLine, Record, Store};
use serde_json::json;

use super::scheme::model_tables;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Stage, boxed};

/// Sets a parameter of elements, by their numbers in its table; `None` takes back what was typed. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a value outside its limits, for a number that no element has, and for nexuses that store nothing.
#[boxed]
pub async fn set_parameter(
    store: &Store,
    cache: &GridCache,
    study: i64,
    parameter: Parameter,
    elements: &[u32],
    value: Option<f64>,
) -> Result<()> {
    let (table, _) = parameter.place();
    let title = parameter.column()?.title;
    if let Some(flaw) = value.and_then(|value| TypedValue { parameter, at: [0.0; 2], value }.flaw()) {
        return Err(Error::Refused(flaw));
    }
    let facts = Facts::of(&store.study(study).await?)?;
    let model = model_tables(store, cache, &facts).await?;
    let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
    let mut cells = Vec::with_capacity(elements.len());
    for &id in elements {
        let place = model.place(table, id).ok_or_else(|| {
            Error::Refused(format!("there is no number {id} among the {}", table.title.to_lowercase()))
        })?;
        cells.extend(frame.cell_at(place[0], place[1]));
    }
    if table.name == NEXUSES.name {
        cells.retain(|cell| model.storages.contains(cell));
        if cells.is_empty() {
            return Err(Error::Refused("none of these nexuses is a storage: nothing was changed".into()));
        }
    }
    let elements = match cells.len() {
        0 => return Err(Error::Refused("no row is listed: nothing was changed".into())),
        1 => format!("one of the {}", table.title.to_lowercase()),
        n => format!("{n} of the {}", table.title.to_lowercase()),
    };
    let told = match value {
        Some(value) => format!("{title} of {elements} set to {value}"),
        None => format!("{title} of {elements} no longer typed"),
    };
    let change = store.change(study).await?;
    let wanted: HashSet<Cell> = cells.iter().copied().collect();
    let changed = change_settings(&change, |settings| {
        let typed = &mut settings.handover.typed;
        typed.retain(|v| {
            v.parameter != parameter || frame.cell_at(v.at[0], v.at[1]).is_none_or(|c| !wanted.contains(&c))
        });
        if let Some(value) = value {
            let at = |cell: &Cell| TypedValue { parameter, at: frame.centre(*cell).into(), value };
            typed.extend(cells.iter().map(at));
        }
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone());
    let line = line.with(json!({ "parameter": parameter, "value": value, "elements": cells.len() }));
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}

/// Forgets the values that belong to no element any more. It can be undone.
///
/// # Errors
/// [`Error::Refused`] before there is a network.
#[boxed]
pub async fn forget_lost(store: &Store, cache: &GridCache, study: i64) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let elements = model_tables(store, cache, &facts).await?.elements();
    let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
    let change = store.change(study).await?;
    let told = "Typed values of elements that are gone forgotten".to_owned();
    let changed = change_settings(&change, |settings| {
        settings
            .handover
            .typed
            .retain(|v| frame.cell_at(v.at[0], v.at[1]).is_some_and(|cell| elements.has(v.parameter, cell)));
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone());
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}
