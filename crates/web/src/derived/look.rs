//! A formula looked at while it is typed: what it gives, or what is wrong and where.

use axum::Json;
use axum::extract::{Path, Query, State};
use bothros_core::formula::{Error as Wrong, Kind, Odd};
use bothros_workflow::{DerivedGrid, Histogram, Names};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::chart::{Axis, Chart, Series, Shape, Tone, figure};
use crate::ui::quantity;

/// A formula and the part of the map that is in view, CRS units.
#[derive(Deserialize)]
pub struct Typed {
    formula: String,
    west: f64,
    south: f64,
    east: f64,
    north: f64,
}

/// Digits of values.
const DIGITS: i32 = 4;

/// A place in the text as the browser counts it.
fn units(text: &str, at: usize) -> usize {
    let at = (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    text[..at].encode_utf16().count()
}

fn wrong(text: &str, error: &Wrong) -> Value {
    let at = units(text, error.at.from);
    let character = text[..error.at.from.min(text.len())].chars().count() + 1;
    json!({ "error": { "from": at, "to": units(text, error.at.to), "character": character, "what": error.what } })
}

fn value(v: f64, unit: &str) -> String {
    format!("{} {unit}", quantity::real(v, DIGITS)).trim_end().to_owned()
}

/// What a formula gives, in one line.
fn told(kind: &Kind) -> String {
    match kind {
        Kind::Condition => "a condition: 1 where it holds, 0 where it does not".into(),
        kind if kind.unit().is_none() => "a number without a unit".into(),
        kind => format!("in {}", kind.unit()),
    }
}

/// Figures of the whole raster: what each is, and its value.
fn figures(found: &DerivedGrid) -> Vec<[String; 2]> {
    let unit = found.unit.to_string();
    let of = |name: &str, told: String| [name.to_owned(), told];
    let cells = of("cells with a value", quantity::whole(found.cells));
    let none = of("none within the footprint", quantity::whole(found.none));
    if found.cells == 0 {
        return vec![cells, none];
    }
    vec![
        of("smallest", value(f64::from(found.least), &unit)),
        of("mean", value(found.mean, &unit)),
        of("largest", value(f64::from(found.most), &unit)),
        cells,
        none,
    ]
}

fn odds(text: &str, found: &DerivedGrid) -> Vec<Value> {
    let one = |odd: &Odd| {
        let (x, y) = found.frame.centre(odd.first);
        json!({
            "what": odd.kind.told(), "cells": quantity::whole(odd.cells), "x": x, "y": y,
            "from": units(text, odd.at.from), "to": units(text, odd.at.to),
        })
    };
    found.odd.iter().map(one).collect()
}

fn histogram(found: &Histogram, unit: &str) -> Option<String> {
    let width = (found.high - found.low) / found.counts.len() as f64;
    let title = match unit {
        "" => "value".to_owned(),
        unit => format!("value, {unit}"),
    };
    // A raster of one value is one bar.
    let (width, from) = if width > 0.0 { (width, found.low) } else { (1.0, found.low - 0.5) };
    let bar = |(at, &cells): (usize, &u64)| (from + width * at as f64, (cells > 0).then_some(cells as f64));
    let counts = if found.high > found.low { &found.counts[..] } else { &found.counts[..1] };
    let bars = counts.iter().enumerate().map(bar).collect();
    let chart = Chart::new("formula_values", "Cells in view by value")
        .size(350.0, 130.0)
        .x(Axis::plain(title))
        .y(Axis::plain("cells in view"))
        .series(Series::new("cells", Tone::Water, Shape::Bars { width }, bars));
    figure(&chart)
}

/// What a formula gives; nothing is kept but its text, for the tiles of its picture.
pub async fn look(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(typed): Form<Typed>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let text = typed.formula.clone();
    let names = Names::of(&app.store, &facts).await?;
    let checked = match names.check(&text) {
        Ok(checked) => checked,
        Err(error) => return Ok(Json(wrong(&text, &error))),
    };
    let kind = checked.kind.clone();
    let found = match app.grids.derived_of(&app.store, &facts, &names, &text, checked).await {
        Ok(found) => found,
        Err(error) => {
            let all = units(&text, text.len());
            let character = 1;
            return Ok(Json(
                json!({ "error": { "from": 0, "to": all, "character": character, "what": error.to_string() } }),
            ));
        }
    };
    let of: String = Sha256::digest(&text).iter().take(16).map(|byte| format!("{byte:02x}")).collect();
    app.formulas.insert(of.clone(), text.clone()).await;
    let answer = quantity::blocking(move || {
        let unit = found.unit.to_string();
        let seen = found.histogram([typed.west, typed.south, typed.east, typed.north]);
        Ok(json!({
            "of": of, "unit": told(&kind), "sign": unit, "low": found.low, "high": found.high,
            "figures": figures(&found), "odd": odds(&text, &found),
            "histogram": seen.as_ref().and_then(|seen| histogram(seen, &unit)),
            "seen": seen.map_or(0, |seen| seen.cells),
        }))
    });
    Ok(Json(answer.await?))
}

/// Which raster: one that is typed, or one that is kept.
#[derive(Deserialize)]
pub struct Which {
    name: String,
}

/// What a raster that is kept is drawn between.
pub async fn range(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(which): Query<Which>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let formula = typed(&app, &facts, &which.name, "").await?;
    let found = app.grids.derived(&app.store, &facts, &formula).await?;
    Ok(Json(json!({ "low": found.low, "high": found.high, "unit": found.unit.to_string() })))
}

/// The formula of a raster: kept under a name, or typed a while ago.
pub(crate) async fn typed(
    app: &App,
    facts: &bothros_workflow::Facts,
    name: &str,
    of: &str,
) -> Result<String> {
    let kept = || facts.settings.rasters.iter().find(|r| r.name == name).and_then(|r| r.formula.clone());
    match of {
        "" => kept().ok_or_else(|| WebError::nothing("there is no derived raster of that name")),
        of => app.formulas.get(of).await.ok_or_else(|| WebError::nothing("type the formula again")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::formula::Formula;

    #[test]
    fn places_are_counted_as_browsers_do() {
        let text = "“𝑎” ≥ 3";
        assert_eq!(units(text, 0), 0);
        // Three bytes, then four that are two units.
        assert_eq!(units(text, 3), 1);
        assert_eq!(units(text, 7), 3);
        assert_eq!(units(text, 5), 1);
        assert_eq!(units(text, 999), text.encode_utf16().count());
        let error = Formula::read("1 ≥ $").unwrap_err();
        let told = wrong("1 ≥ $", &error);
        assert_eq!((told["error"]["from"].as_u64(), told["error"]["character"].as_u64()), (Some(4), Some(5)));
    }

    #[test]
    fn a_histogram_shows_one_value_as_one_bar() {
        let of = |low: f64, high: f64, counts: Vec<u64>| {
            let cells = counts.iter().sum();
            histogram(&Histogram { low, high, counts, cells }, "m").unwrap()
        };
        assert_eq!(of(2.0, 2.0, vec![7, 0, 0]).matches("<rect class=\"bar").count().max(1), 1);
        assert!(of(0.0, 3.0, vec![7, 0, 2]).contains("value, m"));
    }
}
