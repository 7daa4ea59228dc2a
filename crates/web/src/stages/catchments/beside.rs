//! A catchment beside another, or beside itself at another threshold; and what the study's rasters hold inside it.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::{Area, Threshold};
use bothros_formats::Value;
use bothros_products::{Column, MEASURES, Quantity, Row};
use bothros_workflow::{Facts, zonal_of};
use serde::Deserialize;

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
}

/// Another pour point; or another threshold for the same one.
#[derive(Deserialize)]
pub struct Other {
    point: Option<i64>,
    #[serde(default)]
    area: String,
}

/// Contributing area from which a cell is stream.
const AREA: Number = Number::new("the threshold", Quantity::Area, 1e-9, 1e6);

/// How much more or less, in percent of the first.
fn difference(one: &Value, other: &Value) -> String {
    match (one, other) {
        (Value::Real(a), Value::Real(b)) if *a != 0.0 => {
            let percent = (b - a) / a.abs() * 100.0;
            let sign = if percent < 0.0 { "−" } else { "+" };
            match percent.abs() {
                p if p < 0.05 => "the same".into(),
                p => format!("{sign}{p:.1} %"),
            }
        }
        (Value::Real(a), Value::Real(b)) if a == b => "the same".into(),
        _ => String::new(),
    }
}

async fn row(app: &App, facts: &Facts, point: i64) -> Result<(String, Row)> {
    let of = app.store.pour_point(facts.study, point).await?;
    let found = bothros_workflow::measures_of(&app.store, &app.grids, facts, &of).await?;
    Ok((of.name.clone(), found.row(1, &of.name, &facts.settings.concentration)))
}

/// Columns that are no figures, or differ by place alone.
fn compared(column: &Column) -> bool {
    !["catchment_id", "subbasin_id", "name", "centroid_x", "centroid_y", "curve_number"]
        .contains(&column.name)
}

/// Two catchments side by side.
pub async fn beside(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Query(other): Query<Other>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let (name, one) = row(&app, &facts, point).await?;
    let (with, second) = match other.point {
        Some(point) => row(&app, &facts, point).await?,
        None => {
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
        let pair = |(column, (a, b)): (&'static Column, (&Value, &Value))| Pair {
            name: column.title,
            meaning: column.meaning,
            one: alone(column, a),
            other: alone(column, b),
            difference: difference(a, b),
        };
        Ok(Beside { one: name, other: with, pairs: all.map(pair).collect() })
    });
    page(&told.await?)
}

struct Raster {
    title: String,
    mean: String,
    sum: String,
    least: String,
    most: String,
    with_value: String,
}

#[derive(Template)]
#[template(path = "stages/catchments/zonal.html")]
struct Told {
    rasters: Vec<Raster>,
    lakes: String,
    filled: Option<String>,
}

/// What the study's rasters hold inside a catchment.
pub async fn zonal(State(app): State<App>, Path((study, point)): Path<(i64, i64)>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let of = app.store.pour_point(study, point).await?;
    let found = zonal_of(&app.store, &app.grids, &facts, &of).await?;
    let told = quantity::blocking(move || {
        let share = |cells: u64| quantity::told(Quantity::Share, cells as f64 / found.cells.max(1) as f64);
        let raster = |r: &bothros_workflow::ZonalFacts| {
            let value = |v: f64| match r.found.cells {
                0 => "none".to_owned(),
                _ => quantity::told(r.quantity, v),
            };
            Raster {
                title: r.title.clone(),
                mean: value(r.found.mean().unwrap_or(0.0)),
                sum: match r.found.cells {
                    0 => "none".into(),
                    _ => format!("{:.6e}", r.found.sum),
                },
                least: value(r.found.least),
                most: value(r.found.most),
                with_value: share(r.found.cells),
            }
        };
        let filled = found.rasters.iter().find(|r| r.title.starts_with("cut"));
        Ok(Told {
            rasters: found.rasters.iter().map(raster).collect(),
            lakes: share(found.lakes),
            filled: filled.map(|r| format!("{} filled, {} cut", share(r.found.above), share(r.found.below))),
        })
    });
    page(&told.await?)
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
        assert_eq!(difference(&Value::Real(one), &Value::Real(other)), told);
        assert_eq!(difference(&Value::Null, &Value::Real(other)), "");
    }
}
