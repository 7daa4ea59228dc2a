//! What the field of formulas offers, and the list of those that are kept.

use askama::Template;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::formula::{Named, functions};
use bothros_workflow::Names;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;
use crate::ui::page;

/// A formula that is kept.
struct Kept {
    name: String,
    formula: String,
    unit: String,
    /// what is wrong with it as the study is now
    wrong: Option<String>,
    /// whether it can be another DEM
    metres: bool,
}

#[derive(Template)]
#[template(path = "derived/kept.html")]
struct List {
    study: i64,
    kept: Vec<Kept>,
}

/// The formulas that are kept.
pub async fn kept(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let names = Names::of(&app.store, &facts).await?;
    let kept = facts.settings.rasters.iter().filter_map(|raster| {
        let formula = raster.formula.clone()?;
        let wrong = names.check(&formula).err().map(|e| e.what);
        Some(Kept {
            name: raster.name.clone(),
            metres: raster.unit == "m",
            unit: raster.unit.clone(),
            formula,
            wrong,
        })
    });
    page(&List { study, kept: kept.collect() })
}

/// What a formula can name, in the order in which it is offered.
pub async fn names(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let names = Names::of(&app.store, &facts).await?;
    let name = |known: &bothros_workflow::KnownName| {
        let (kind, unit) = match &known.kind {
            Named::Raster(unit) => ("raster", unit.to_string()),
            Named::Layer { .. } => ("layer", String::new()),
        };
        json!({ "name": known.name, "kind": kind, "unit": unit, "told": known.meaning })
    };
    let function = |(name, told): (&str, &str)| json!({ "name": name, "kind": "function", "told": told });
    let words = [
        ("if", "if … then … else …"),
        ("then", "what a condition leads to"),
        ("else", "what it leads to otherwise"),
        ("and", "both conditions"),
        ("or", "one condition or both"),
        ("not", "the opposite of a condition"),
        ("none", "no value"),
        ("within", "a figure within a distance: mean(elevation within 250 m)"),
        ("along", "a figure along each line: max(accumulation along streams)"),
        ("inside", "a figure inside each polygon: sum(slope inside lakes)"),
    ];
    let word = |(name, told): (&str, &str)| json!({ "name": name, "kind": "word", "told": told });
    let all: Vec<Value> =
        names.all.iter().map(name).chain(functions().map(function)).chain(words.map(word)).collect();
    Ok(Json(Value::Array(all)))
}
