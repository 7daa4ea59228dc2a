//! A catchment beside another, beside itself at another threshold, or beside that of the same place in another study.

use askama::Template;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::{Area, Threshold};
use bothros_formats::Value as Figure;
use bothros_products::{Column, MEASURES, Quantity, Row};
use bothros_store::kept;
use bothros_workflow::{CatchmentFacts, CurveNumbers, Elsewhere, Facts, elsewhere};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::form::Number;
use crate::ui::table::alone;
use crate::ui::{page, quantity};

/// A figure of two catchments.
struct Pair {
    name: &'static str,
    meaning: &'static str,
    one: String,
    other: String,
    difference: String,
}

#[derive(Template)]
#[template(path = "stages/catchments/beside.html")]
struct Beside {
    one: String,
    other: String,
    pairs: Vec<Pair>,
    /// how much land they share, where they are of two studies
    shared: Option<String>,
}

/// Another pour point; another study for the same place; or another threshold for the same one.
#[derive(Deserialize)]
pub struct Other {
    point: Option<i64>,
    study: Option<i64>,
    #[serde(default)]
    area: String,
}

/// Contributing area from which a cell is stream.
const AREA: Number = Number::new("the threshold", Quantity::Area, 1e-9, 1e6);

/// How much more or less, in percent of the first.
fn difference(one: &Figure, other: &Figure) -> String {
    match (one, other) {
        (Figure::Real(a), Figure::Real(b)) if *a != 0.0 => {
            let percent = (b - a) / a.abs() * 100.0;
            let sign = if percent < 0.0 { "−" } else { "+" };
            match percent.abs() {
                p if p < 0.05 => "the same".into(),
                p => format!("{sign}{p:.1} %"),
            }
        }
        (Figure::Real(a), Figure::Real(b)) if a == b => "the same".into(),
        _ => String::new(),
    }
}

async fn row(app: &App, facts: &Facts, point: i64) -> Result<(String, Row)> {
    let of = app.store.pour_point(facts.study, point).await?;
    let found = bothros_workflow::measures_of(&app.store, &app.grids, facts, &of).await?;
    let cell = kept::read_some::<CatchmentFacts>(&of.catchment)?.map(|f| f.cell);
    let cell = cell.ok_or_else(|| WebError::refused("the pour point has no catchment yet"))?;
    let numbers = CurveNumbers::of(&app.store, &app.grids, facts).await?;
    let grids = app.grids.get(&app.store, facts).await?;
    let number = bothros_workflow::blocking(move || numbers.of_catchment(&grids, cell)).await?;
    Ok((of.name.clone(), found.row(1, &of.name, number)))
}

/// Columns that are no figures, or differ by place alone.
fn compared(column: &Column) -> bool {
    !["catchment_id", "subbasin_id", "name", "centroid_x", "centroid_y", "curve_number"]
        .contains(&column.name)
}

/// How much land two catchments share, in words.
fn land_shared(found: &Elsewhere) -> String {
    let agreement = &found.agreement;
    let both = agreement.both.as_m2();
    format!(
        "Intersection over union {:.3}: {} only in this study, {} only in the other. There the point moved {} by snapping.",
        agreement.intersection_over_union(),
        quantity::area(agreement.ours.as_m2() - both),
        quantity::area(agreement.published.as_m2() - both),
        quantity::length(found.moved_m)
    )
}

/// Two catchments side by side.
pub async fn beside(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Query(other): Query<Other>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let (name, one) = row(&app, &facts, point).await?;
    let mut shared = None;
    let (with, second) = match (other.point, other.study) {
        (Some(point), _) => row(&app, &facts, point).await?,
        (None, Some(there)) => {
            let of = app.store.pour_point(study, point).await?;
            let found = elsewhere(&app.store, &app.grids, &facts, &of, there).await?;
            shared = Some(land_shared(&found));
            let row = found.measures.row(1, &of.name, found.curve_number);
            (format!("in {}", found.study), row)
        }
        (None, None) => {
            let terrain = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?;
            let threshold = Threshold::from_area(Area::km2(AREA.read(&other.area)?), &terrain.frame);
            let mut then = Facts::clone(&facts);
            let network =
                then.network.as_mut().ok_or_else(|| WebError::refused("choose a threshold first"))?;
            network.threshold = threshold;
            let (_, row) = row(&app, &then, point).await?;
            let area = threshold.as_area(&terrain.frame).as_m2();
            (format!("{name} at {}", quantity::area(area)), row)
        }
    };
    let told = quantity::blocking(move || {
        let all = MEASURES.columns.iter().zip(one.iter().zip(&second)).filter(|(c, _)| compared(c));
        let pair = |(column, (a, b)): (&'static Column, (&Figure, &Figure))| Pair {
            name: column.title,
            meaning: column.meaning,
            one: alone(column, a),
            other: alone(column, b),
            difference: difference(a, b),
        };
        Ok(Beside { one: name, other: with, pairs: all.map(pair).collect(), shared })
    });
    page(&told.await?)
}

/// Another study whose catchment of the same place is compared.
#[derive(Deserialize)]
pub struct OtherStudy {
    study: i64,
}

/// The outline of the catchment that the place of a pour point has in another study.
pub async fn outline(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Query(other): Query<OtherStudy>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let of = app.store.pour_point(study, point).await?;
    let found = elsewhere(&app.store, &app.grids, &facts, &of, other.study).await?;
    Ok(Json(json!({ "name": found.study, "outline": found.outline })))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(2.0, 3.0, "+50.0 %")]
    #[case(2.0, 1.5, "−25.0 %")]
    #[case(-4.0, -5.0, "−25.0 %")]
    #[case(2.0, 2.0, "the same")]
    #[case(2.0, 2.0004, "the same")]
    #[case(0.0, 0.0, "the same")]
    #[case(0.0, 1.0, "")]
    fn differences_are_of_the_first(#[case] one: f64, #[case] other: f64, #[case] told: &str) {
        assert_eq!(difference(&Figure::Real(one), &Figure::Real(other)), told);
        assert_eq!(difference(&Figure::Null, &Figure::Real(other)), "");
    }
}
