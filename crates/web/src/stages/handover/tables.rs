//! The tables of the stage: the model scheme.

use std::collections::HashMap;

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_formats::{Geometry, Layer};
use bothros_products::{CONNECTIVITY, FLOWPATHS, NEXUSES, Row, SUBBASIN_PARAMETERS, Table};
use bothros_workflow::{Facts, ModelTables, Parameter, model_tables, set_parameter};

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::quantity;
use crate::ui::table::{Asked, Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&SUBBASIN_PARAMETERS, &FLOWPATHS, &NEXUSES, &CONNECTIVITY];

const NONE: &str = "There is no scheme yet: route flow first.";

/// The rows of a table of the stage.
///
/// # Errors
/// Where the database fails.
pub async fn listing(app: &App, facts: &Facts, table: &'static Table) -> Result<Listing> {
    if facts.network.is_none() {
        return Ok(Listing::plain(table, Vec::new(), NONE));
    }
    let model = model_tables(&app.store, &app.grids, facts).await?;
    let entries = match table.name {
        name if name == FLOWPATHS.name => of_layer(&model.flowpaths),
        name if name == NEXUSES.name => of_layer(&model.nexuses),
        name if name == CONNECTIVITY.name => of_rows(&model.connectivity),
        _ => of_subbasins(&model),
    };
    let settable = Parameter::columns(table.name);
    Ok(Listing { settable, hidden: hidden(table), ..Listing::plain(table, entries, NONE) })
}

/// Columns that are not shown at first.
fn hidden(table: &Table) -> &'static [&'static str] {
    match table.name {
        name if name == FLOWPATHS.name => &["upper_elevation_m", "lower_elevation_m"],
        _ => &[],
    }
}

/// Sets a column of the rows that are listed, or of the one that is named: `column` and `value` as the table shows it, beside what the
/// table is asked for.
pub async fn set(
    State(app): State<App>,
    Path((study, name)): Path<(i64, String)>,
    Form(mut form): Form<HashMap<String, String>>,
) -> Result<Response> {
    let table = TABLES.iter().find(|t| t.name == name);
    let table = table.ok_or_else(|| WebError::nothing(format!("no value of “{name}” can be typed")))?;
    let column = form.remove("column").unwrap_or_default();
    let value = form.remove("value").ok_or_else(|| WebError::refused("say which value"))?;
    let parameter = Parameter::at(table.name, &column)
        .ok_or_else(|| WebError::refused(format!("“{column}” cannot be typed")))?;
    let facts = app.facts(study).await?;
    let listing = listing(&app, &facts, table).await?;
    let (rows, value) = quantity::blocking(move || {
        let read = || -> Result<(Vec<u32>, Option<f64>)> {
            let keys = listing.keys(&Asked::of(form)?)?;
            let rows = keys.iter().filter_map(|key| key.parse().ok()).collect();
            Ok((rows, listing.typed(&column, &value, parameter.limits())?))
        };
        Ok(read())
    })
    .await??;
    set_parameter(&app.store, &app.grids, study, parameter, &rows, value).await?;
    Ok(changed("scheme-changed"))
}

/// Sub-basins with their outlets.
fn of_subbasins(model: &ModelTables) -> Vec<Entry> {
    let place = |entry: (Entry, &[f64; 2])| Entry { at: Some(*entry.1), ..entry.0 };
    of_rows(&model.subbasins).into_iter().zip(&model.outlets).map(place).collect()
}

fn of_rows(rows: &[Row]) -> Vec<Entry> {
    let entry = |(at, row): (usize, &Row)| Entry {
        key: (at + 1).to_string(),
        at: None,
        row: row.clone(),
        acts: String::new(),
    };
    rows.iter().enumerate().map(entry).collect()
}

fn of_layer(layer: &Layer) -> Vec<Entry> {
    let entry = |(at, (shape, row)): (usize, &(Geometry, Row))| Entry {
        key: (at + 1).to_string(),
        at: match shape {
            Geometry::Point(at) => Some(*at),
            Geometry::Line(line) => line.get(line.len() / 2).copied(),
            Geometry::Polygons(_) => None,
        },
        row: row.clone(),
        acts: String::new(),
    };
    layer.features.iter().enumerate().map(entry).collect()
}
