//! Dams, sites and reservoirs: what drains to them, on the desk and on the map.

use askama::Template;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::Frame;
use bothros_products::Quantity;
use bothros_workflow::{DamFound, FeatureKey, SiteStudied, dams, sites};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::changed;
use crate::http::error::Result;
use crate::http::form::Form;
use crate::http::upload::told;
use crate::ui::form::Number;
use crate::ui::{page, quantity};

const POINTS: &str = "points-changed";
const CHANGED: &str = "places-changed";
/// Least contributing area of an inflow.
const LEAST: Number = Number::new("the least area of an inflow", Quantity::Area, 1e-9, 1e6);

struct Dam {
    key: FeatureKey,
    name: String,
    area: Option<String>,
    warnings: Vec<String>,
    point: Option<String>,
    x: f64,
    y: f64,
}

struct Inflow {
    rank: usize,
    area: String,
    share: String,
    again: Option<String>,
    leaves: Option<usize>,
    x: f64,
    y: f64,
}

struct Outflow {
    number: usize,
    area: String,
    x: f64,
    y: f64,
}

struct Side {
    area: String,
    length: String,
    x: f64,
    y: f64,
}

struct Site {
    key: FeatureKey,
    name: String,
    least: String,
    problem: Option<String>,
    /// its area, all that enters, what enters spread out
    told: String,
    inflows: Vec<Inflow>,
    more: usize,
    outflows: Vec<Outflow>,
    sides: Vec<Side>,
}

#[derive(Template)]
#[template(path = "stages/catchments/places.html")]
struct Places {
    study: i64,
    dams: Vec<Dam>,
    sites: Vec<Site>,
    least: String,
    unit: &'static str,
}

/// Rows of a list on the desk; the table has all.
const MOST: usize = 8;

fn area(frame: &Frame, cells: u64) -> String {
    quantity::area(frame.area_of(cells).as_m2())
}

fn dam(found: DamFound, frame: &Frame) -> Dam {
    let mut warnings = Vec::new();
    match &found.found {
        None => warnings.push("It passes no cell of the DEM.".into()),
        Some(at) => {
            if !found.on_stream {
                warnings.push("It crosses no stream at this threshold.".into());
            }
            if at.at_end {
                warnings.push("The largest area lies at its end: it may stop short of the stream.".into());
            }
            if at.beyond > 0 {
                warnings.push(format!(
                    "{} come from beyond it: a dam there would not hold them.",
                    area(frame, at.beyond)
                ));
            }
        }
    }
    let (x, y) = found.at.unwrap_or_default();
    Dam {
        key: found.key,
        name: found.name,
        area: found.found.map(|at| area(frame, at.cells)),
        warnings,
        point: found.point,
        x,
        y,
    }
}

fn site(of: SiteStudied, frame: &Frame) -> Site {
    let least = quantity::typed(Quantity::Area, of.least_km2);
    let found = match of.found {
        Ok(found) => found,
        Err(why) => {
            return Site {
                key: of.key,
                name: of.name,
                least,
                problem: Some(why),
                told: String::new(),
                inflows: Vec::new(),
                more: 0,
                outflows: Vec::new(),
                sides: Vec::new(),
            };
        }
    };
    let all = found.entering_cells().max(1) as f64;
    let place = |cell| frame.centre(cell);
    let inflows = found.inflows.iter().zip(1..).take(MOST).map(|(inflow, rank)| {
        let (x, y) = place(inflow.cell);
        Inflow {
            rank,
            area: area(frame, inflow.cells),
            share: quantity::told(
                Quantity::Share,
                (inflow.cells - inflow.again.min(inflow.cells)) as f64 / all,
            ),
            // A cell or two at the rim are no news.
            again: (inflow.again * 100 > inflow.cells).then(|| area(frame, inflow.again)),
            leaves: inflow.leaves.map(|at| at + 1),
            x,
            y,
        }
    });
    let outflows = found.outflows.iter().zip(1..).take(MOST).map(|(outflow, number)| {
        let (x, y) = place(outflow.cell);
        Outflow { number, area: area(frame, outflow.cells), x, y }
    });
    let sides = found.sides.iter().take(MOST).map(|side| {
        let [x, y] = side.line[side.line.len() / 2];
        Side { area: area(frame, side.cells), length: quantity::length(side.length_m), x, y }
    });
    Site {
        key: of.key,
        name: of.name,
        least,
        problem: None,
        told: format!(
            "{} of its own. {} enter from outside, {} of them spread along its sides.",
            area(frame, found.own_cells),
            area(frame, found.entering_cells()),
            area(frame, found.spread_cells)
        ),
        more: found.inflows.len().saturating_sub(MOST),
        inflows: inflows.collect(),
        outflows: outflows.collect(),
        sides: sides.collect(),
    }
}

/// Dams and sites with what drains to them.
pub async fn told_of(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let frame = app.grids.get(&app.store, &facts).await?.frame;
    let dams = dams(&app.store, &app.grids, &facts).await?;
    let sites = sites(&app.store, &app.grids, &facts).await?;
    page(&Places {
        study,
        dams: dams.into_iter().map(|d| dam(d, &frame)).collect(),
        sites: sites.into_iter().map(|s| site(s, &frame)).collect(),
        least: quantity::typed(Quantity::Area, facts.settings.sites.least_km2),
        unit: quantity::typed_in(Quantity::Area),
    })
}

/// Dams and sites as the map draws them.
pub async fn drawn(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    if facts.routing.is_none() {
        return Ok(Json(json!({ "dams": [], "sites": [] })));
    }
    let grids = app.grids.get(&app.store, &facts).await?;
    let frame = grids.frame;
    let m2 = |cells: u64| frame.area_of(cells).as_m2();
    let at = |cell| {
        let (x, y) = frame.centre(cell);
        [x, y]
    };
    let dams = dams(&app.store, &app.grids, &facts).await?;
    let dams: Vec<Value> = dams
        .iter()
        .filter_map(|d| d.found.map(|f| (d, f)))
        .map(|(d, f)| {
            let warns = f.at_end || f.beyond > 0 || !d.on_stream;
            json!({ "name": d.name, "at": at(f.cell), "area": m2(f.cells), "warns": warns })
        })
        .collect();
    let mut told = Vec::new();
    for site in sites(&app.store, &app.grids, &facts).await? {
        let Ok(found) = site.found else { continue };
        let all = found.entering_cells().max(1) as f64;
        let inflows: Vec<Value> = found
            .inflows
            .iter()
            .zip(1..)
            .map(|(inflow, rank)| {
                let way: Vec<_> =
                    inflow.way.iter().map(|&cell| at(grids.directions.cell(cell as usize))).collect();
                json!({ "rank": rank, "at": at(inflow.cell), "area": m2(inflow.cells), "way": way })
            })
            .collect();
        let outflows: Vec<Value> =
            found.outflows.iter().map(|o| json!({ "at": at(o.cell), "area": m2(o.cells) })).collect();
        let sides: Vec<Value> = found
            .sides
            .iter()
            .map(|s| json!({ "line": s.line, "area": m2(s.cells), "share": s.cells as f64 / all }))
            .collect();
        told.push(json!({ "name": site.name, "inflows": inflows, "outflows": outflows, "sides": sides }));
    }
    Ok(Json(json!({ "dams": dams, "sites": told })))
}

/// A feature of a layer; none for all of them.
#[derive(Deserialize)]
pub struct Which {
    layer: Option<i64>,
    id: Option<u32>,
}

impl Which {
    fn key(&self) -> Option<FeatureKey> {
        self.layer.zip(self.id).map(|(layer, id)| FeatureKey { layer, id })
    }
}

pub async fn dam_points(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(which): Form<Which>,
) -> Result<Response> {
    let said = bothros_workflow::add_points_at_dams(&app.store, &app.grids, study, which.key()).await?;
    Ok(told(changed(POINTS), &said))
}

pub async fn inflow_points(
    State(app): State<App>,
    Path((study, layer, id)): Path<(i64, i64, u32)>,
) -> Result<Response> {
    let key = FeatureKey { layer, id };
    let said = bothros_workflow::add_points_at_inflows(&app.store, &app.grids, study, key).await?;
    Ok(told(changed(POINTS), &said))
}

#[derive(Deserialize)]
pub struct Least {
    least: String,
    layer: Option<i64>,
    id: Option<u32>,
}

pub async fn least(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Least>,
) -> Result<Response> {
    let km2 = LEAST.read(&form.least)?;
    let which = Which { layer: form.layer, id: form.id };
    bothros_workflow::set_least_inflow(&app.store, study, which.key(), km2).await?;
    Ok(changed(CHANGED))
}
