//! What is measured of a catchment: figures with their definitions, the hypsometric curve, the long profile of the main stem,
//! and the time of concentration by every formula.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::catchments::{Beyond, Estimate, Formula, Holds, LAG_SHARE};
use bothros_formats::Value;
use bothros_products::{Column, MEASURES, Quantity, Row};
use bothros_store::{PourPoint, kept};
use bothros_workflow::{CURVE_NUMBERS, CatchmentFacts, Concentration, CurveNumbers};
use serde::Deserialize;

use super::profiles::{LongProfile, STEM, long_profile};
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::chart::{Axis, Chart, Series, Tone, figure};
use crate::ui::form::Number;
use crate::ui::table::alone;
use crate::ui::{page, quantity};

/// A figure: name, value with its unit, definition.
pub(super) struct Measure {
    pub name: &'static str,
    pub value: String,
    pub meaning: &'static str,
    /// why it deserves a second look
    pub note: Option<&'static str>,
}

/// A formula with what it gives.
struct Line {
    key: &'static str,
    title: &'static str,
    equation: &'static str,
    tc: String,
    lag: String,
    /// its range, and whether the catchment lies within it
    range: String,
    outside: bool,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "stages/catchments/measures.html")]
struct Part {
    study: i64,
    title: String,
    /// where the DEM ends beside it
    edge: Option<String>,
    /// where its length is out of the usual for its area
    hack: Option<String>,
    measures: Vec<Measure>,
    hypsometric: Option<String>,
    stem: Option<LongProfile>,
    /// how much of it lies how far from the outlet
    area_distance: Option<String>,
    lines: Vec<Line>,
    spread: Option<String>,
    curve_number: String,
    /// that of this catchment, where a raster tells it
    mean_number: Option<String>,
    /// name of the raster that curve numbers are taken from; empty for the one that is typed
    source: String,
    /// rasters that they can be taken from
    sources: Vec<String>,
    reason: String,
}

/// Columns that are told beside the figures.
fn is_figure(name: &str) -> bool {
    !["catchment_id", "subbasin_id", "name", "curve_number"].contains(&name) && !name.starts_with("tc_")
}

/// What is out of the usual for a figure.
fn note(name: &str, value: f64) -> Option<&'static str> {
    match name {
        "circularity" if value > 0.9 => Some("nearly a circle: unusual for a catchment"),
        "hypsometric_integral" if !(0.15..=0.75).contains(&value) => {
            Some("outside 0.15 to 0.75, which most catchments keep (common practice)")
        }
        "level_share" if value > 0.2 => {
            Some("more than a fifth is level: flow there is convention, not evidence")
        }
        _ => None,
    }
}

/// The figures of a row of measures, in words.
pub(super) fn figures(row: &Row) -> Vec<Measure> {
    let figures = MEASURES.columns.iter().zip(row).filter(|(c, _)| is_figure(c.name));
    let measure = |(column, value): (&Column, &Value)| Measure {
        name: column.title,
        value: alone(column, value),
        meaning: column.meaning,
        note: match value {
            Value::Real(v) => note(column.name, *v),
            _ => None,
        },
    };
    figures.map(measure).collect()
}

/// On which sides the DEM ends beside a catchment, and how much land is missing as far as it can tell, in words.
fn edge(edge_m: &[f64; 4], beyond: Option<&Beyond>) -> Option<String> {
    let sides = ["north", "east", "south", "west"].iter().zip(edge_m).filter(|(_, m)| **m > 0.0);
    let told: Vec<String> =
        sides.map(|(side, m)| format!("{} to the {side}", quantity::length(*m))).collect();
    (!told.is_empty()).then(|| {
        format!(
            "The DEM ends beside it over {}. What is measured is of the part within it.{}",
            told.join(", "),
            beyond.map_or(String::new(), missing)
        )
    })
}

/// How much land beyond the DEM a catchment would need, in words.
fn missing(of: &Beyond) -> String {
    if of.rising_m == 0.0 {
        return " Along all of that the ground falls outward, or is level: as far as the DEM can tell no land is missing.".into();
    }
    let streams = match of.streams {
        0 => String::new(),
        n => format!(
            " {} at that edge: what lies behind, the DEM cannot tell, and the estimate is a least one.",
            quantity::count(n, "stream begins", "streams begin")
        ),
    };
    format!(
        " Along {} of it the ground rises outward, so water comes from beyond. If slopes reach as far from their streams there as nine in ten do inside ({} along the flow), about {} more are needed, in a strip up to {} wide.{streams}",
        quantity::length(of.rising_m),
        quantity::length(of.reach_m),
        quantity::area(of.land.as_m2()),
        quantity::length(of.strip_m)
    )
}

fn line(estimate: &Estimate, how: &Concentration) -> Line {
    let formula = estimate.formula;
    // One unit in the whole column.
    let told = |hours: f64| format!("{hours:.2}");
    let (tc, lag) = match estimate.hours {
        Ok(hours) => (told(hours), told(hours * LAG_SHARE)),
        Err(why) => (why.to_owned(), String::new()),
    };
    let range = match (formula.range(), estimate.within_range) {
        (Some(range), Some(true)) => format!("within {range}"),
        (Some(range), _) => format!("outside {range}"),
        (None, _) => "none stated".into(),
    };
    Line {
        key: formula.key(),
        title: formula.title(),
        equation: formula.equation(),
        tc,
        lag,
        range,
        outside: estimate.within_range == Some(false),
        chosen: how.chosen() == Some(formula),
    }
}

/// The pour point of a number, and its place in the list, from 1.
async fn point_of(app: &App, study: i64, point: i64) -> Result<(PourPoint, u32)> {
    let all = app.store.pour_points(study).await?;
    let found = all.into_iter().zip(1u32..).find(|(p, _)| p.id == point);
    found.ok_or_else(|| WebError::nothing("there is no such pour point"))
}

/// What is measured of a pour point's catchment.
pub async fn measures(State(app): State<App>, Path((study, point)): Path<(i64, i64)>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let (of, number) = point_of(&app, study, point).await?;
    let found = bothros_workflow::measures_of(&app.store, &app.grids, &facts, &of).await?;
    let how = facts.settings.concentration.clone();
    let numbers = CurveNumbers::of(&app.store, &app.grids, &facts).await?;
    let grids = app.grids.get(&app.store, &facts).await?;
    let cell = kept::read_some::<CatchmentFacts>(&of.catchment)?.map(|f| f.cell);
    let cell = cell.ok_or_else(|| WebError::refused("the pour point has no catchment yet"))?;
    let sources = facts
        .settings
        .rasters
        .iter()
        .filter(|r| r.holds == Holds::Values || r.lookup.iter().any(|c| c.curve_number.is_some()));
    let sources: Vec<String> = sources.map(|r| r.name.clone()).collect();
    let stem = match &found.measures.stem {
        Some(stem) => long_profile(&app, &facts, &stem.cells, &STEM).await?,
        None => None,
    };
    let part = quantity::blocking(move || {
        let curve_number = numbers.of_catchment(&grids, cell)?;
        let estimates = found.estimates(curve_number);
        let row = found.row(number, &of.name, curve_number);
        let spread = bothros_core::catchments::spread(&estimates).map(|(median, least, most)| {
            let told = |hours: f64| quantity::told(Quantity::Duration, hours);
            format!("Median {}, from {} to {}.", told(median), told(least), told(most))
        });
        let edge = edge(&found.edge_m, found.beyond.as_ref());
        let hack = found.measures.hack_ratio().filter(|ratio| !(0.5..=2.0).contains(ratio)).map(|ratio| {
            format!(
                "The main stem has {ratio:.1} times the length that Hack's law gives for its area (L = 1.4 A^0.6 in miles, Hack 1957); most streams lie between a half and two."
            )
        });
        Ok(Part {
            study,
            hack,
            title: format!("{number} {}", of.name),
            edge,
            measures: figures(&row),
            hypsometric: hypsometric(&found.curve),
            area_distance: distances(&found.area_distance),
            stem,
            lines: estimates.iter().map(|e| line(e, &how)).collect(),
            spread,
            curve_number: how.curve_number.map_or(String::new(), |n| n.to_string()),
            mean_number: how
                .curve_number_raster
                .as_ref()
                .map(|_| curve_number.map_or("none here".into(), |n| format!("{n:.1}"))),
            source: how.curve_number_raster.unwrap_or_default(),
            sources,
            reason: how.reason,
        })
    });
    page(&part.await?)
}

/// The hypsometric curve: elevation over the share of the area that lies higher.
fn hypsometric(curve: &[(f64, f64)]) -> Option<String> {
    let points = curve.iter().map(|&(share, z)| (share * 100.0, Some(z))).collect();
    let chart = Chart::new("hypsometric_curve", "Elevation over the share of the catchment that lies higher")
        .x(Axis::plain("area above, %").from(0.0).to(100.0))
        .y(Axis::of("elevation", Quantity::Elevation, quantity::units()).at_least(0.5))
        .series(Series::line("elevation", Tone::Water, points));
    figure(&chart)
}

/// The area-distance curve: share of the area over the distance to the outlet.
fn distances(curve: &[(f64, f64)]) -> Option<String> {
    let points = curve.iter().map(|&(distance, share)| (distance, Some(share * 100.0))).collect();
    let chart =
        Chart::new("area_distance", "Share of the catchment whose water runs no farther to the outlet")
            .x(Axis::of("flow distance to the outlet", Quantity::Length, quantity::units()))
            .y(Axis::plain("area within, %").from(0.0).to(100.0))
            .series(Series::line("area within", Tone::Water, points));
    figure(&chart)
}

/// A curve number.
const CURVE_NUMBER: Number =
    Number::new("the curve number", Quantity::Ratio, CURVE_NUMBERS.0, CURVE_NUMBERS.1);

#[derive(Deserialize)]
pub struct Choice {
    #[serde(default)]
    curve_number: Option<String>,
    #[serde(default)]
    curve_number_raster: Option<String>,
    #[serde(default)]
    formula: Option<String>,
    #[serde(default)]
    reason: String,
}

/// Keeps the curve number, or the formula that is chosen with its reason.
pub async fn concentration(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Choice>,
) -> Result<Response> {
    let mut how = app.facts(study).await?.settings.concentration.clone();
    if let Some(text) = form.curve_number {
        how.curve_number = match text.trim() {
            "" => None,
            text => Some(CURVE_NUMBER.read(text)?),
        };
    }
    if let Some(name) = form.curve_number_raster {
        how.curve_number_raster = Some(name).filter(|n| !n.is_empty());
    }
    if let Some(key) = form.formula {
        let known = Formula::from_key(&key).map(|f| f.key().to_owned());
        if known.is_none() && !key.is_empty() {
            return Err(WebError::refused(format!("there is no formula called “{key}”")));
        }
        how.reason = if known.is_some() { form.reason } else { String::new() };
        how.formula = known;
    }
    bothros_workflow::set_concentration(&app.store, &app.grids, study, how).await?;
    Ok(changed("measures-changed"))
}
