//! Sub-basins: the division, the card of one, and the map layer.

use askama::Template;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Cell;
use bothros_core::catchments::{Division, OutlineKind};
use bothros_products::Quantity;
use bothros_workflow::{CurveNumbers, Facts, Lines, ManyPlaces, PourPointPlace, SubbasinChoice, delineated};
use serde::Deserialize;
use serde_json::{Value, json};

use super::measures::{Measure, figures};
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::Number;
use crate::ui::{page, quantity};

const CHANGED: &str = "subbasins-changed";
/// Area that sub-basins are to have.
const TARGET: Number = Number::new("the target area", Quantity::Area, 1e-6, 1e6);

/// What can be chosen, and what is.
pub struct Choices {
    /// key, title, whether it is chosen
    pub divisions: Vec<(&'static str, &'static str, bool)>,
    /// key, title, whether it is chosen
    pub outlines: Vec<(&'static str, &'static str, bool)>,
    /// whether a target is asked for
    pub by_target: bool,
    pub target: String,
    pub unit: &'static str,
}

impl Choices {
    pub fn of(choice: &SubbasinChoice) -> Self {
        let key = match choice.division {
            Division::PourPoints => "pour_points",
            Division::Reaches => "reaches",
            Division::Tributaries => "tributaries",
            Division::TargetKm2(_) => "target",
            Division::Basins => "basins",
        };
        let divisions = [
            ("reaches", "one for every reach"),
            ("tributaries", "tributaries and the land between"),
            ("target", "of about a wanted area"),
            ("pour_points", "between pour points"),
            ("basins", "all basins of the DEM"),
        ];
        let outlines = [
            ("cells", "along the edges of cells", OutlineKind::Cells),
            ("simplified", "simplified", OutlineKind::Simplified),
            ("smoothed", "smoothed", OutlineKind::Smoothed),
        ];
        let target = match choice.division {
            Division::TargetKm2(km2) => km2,
            _ => 1.0,
        };
        Self {
            divisions: divisions.map(|(k, title)| (k, title, k == key)).to_vec(),
            outlines: outlines.map(|(k, title, kind)| (k, title, kind == choice.outline)).to_vec(),
            by_target: matches!(choice.division, Division::TargetKm2(_)),
            target: quantity::typed(Quantity::Area, target),
            unit: quantity::typed_in(Quantity::Area),
        }
    }
}

#[derive(Deserialize)]
pub struct Chosen {
    division: String,
    #[serde(default)]
    target_km2: String,
    outline: OutlineKind,
}

pub async fn divide(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Chosen>,
) -> Result<Response> {
    let division = match form.division.as_str() {
        "pour_points" => Division::PourPoints,
        "reaches" => Division::Reaches,
        "tributaries" => Division::Tributaries,
        "basins" => Division::Basins,
        "target" => Division::TargetKm2(TARGET.read(&form.target_km2)?),
        other => return Err(WebError::refused(format!("there is no division called “{other}”"))),
    };
    bothros_workflow::set_division(&app.store, study, division, form.outline).await?;
    Ok(changed(CHANGED))
}

/// What is told of all of them.
#[derive(Template)]
#[template(path = "stages/catchments/subbasins.html")]
struct Told {
    study: i64,
    count: String,
    sizes: Option<String>,
    /// how many hold a junction
    crossed: usize,
    crossed_of_target: bool,
    changes: usize,
    whole_network: bool,
    basins: bool,
}

/// Number and sizes of the sub-basins.
pub async fn told(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let all = app.grids.subbasins(&app.store, &facts).await?;
    let frame = app.grids.get(&app.store, &facts).await?.frame;
    let mut cells = all.basins.found.own_cells.clone();
    cells.sort_unstable();
    let area = |cells: u64| quantity::area(frame.area_of(cells).as_m2());
    let sizes = match (cells.first(), cells.last()) {
        (Some(&least), Some(&most)) if cells.len() > 1 => Some(format!(
            "The smallest has {}, half of them less than {}, the largest {}.",
            area(least),
            area(cells[cells.len() / 2]),
            area(most)
        )),
        _ => None,
    };
    page(&Told {
        study,
        count: quantity::count(all.basins.outlets.len() as u64, "sub-basin", "sub-basins"),
        sizes,
        crossed: all.basins.junctions.iter().filter(|&&n| n > 0).count(),
        crossed_of_target: matches!(facts.settings.subbasins.division, Division::TargetKm2(_)),
        changes: facts.settings.subbasins.changes(),
        whole_network: delineated(&app.store, study).await?.is_empty(),
        basins: facts.settings.subbasins.division == Division::Basins,
    })
}

/// One of them.
#[derive(Template)]
#[template(path = "stages/catchments/subbasin.html")]
struct Card {
    study: i64,
    id: u32,
    /// its outlet in addresses
    outlet: String,
    name: Option<String>,
    own_name: String,
    area: String,
    next: Option<u32>,
    catchment: Option<u32>,
    reach: Option<u32>,
    junctions: u32,
    edge: bool,
    /// ends at a pour point
    at_point: bool,
    measures: Vec<Measure>,
    x: f64,
    y: f64,
}

#[derive(Deserialize)]
pub struct Place {
    x: Option<f64>,
    y: Option<f64>,
    id: Option<u32>,
}

/// The sub-basin at a place, or of a number.
pub async fn one(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(place): Query<Place>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let all = app.grids.subbasins(&app.store, &facts).await?;
    let frame = app.grids.get(&app.store, &facts).await?.frame;
    let here = place.x.zip(place.y).and_then(|(x, y)| frame.cell_at(x, y));
    let id = place.id.or_else(|| here.and_then(|cell| all.basins.found.ids.get(cell).copied()));
    let at = id.and_then(|id| (id as usize).checked_sub(1)).filter(|&at| at < all.basins.outlets.len());
    let at = at.ok_or_else(|| WebError::nothing("no sub-basin lies there"))?;
    let points: Vec<_> = delineated(&app.store, study).await?.into_iter().map(|(p, _)| p).collect();
    let names = all.names(&facts.settings.subbasins, &points, &frame);
    let measured = app.grids.subbasin_measures(&app.store, &facts).await?;
    let numbers = CurveNumbers::of(&app.store, &app.grids, &facts).await?.of_parts(&all)?;
    let row = all.rows(&measured, &names, &numbers).swap_remove(at);
    let outlet = all.basins.outlets[at];
    let (x, y) = frame.centre(outlet);
    let own = facts.settings.subbasins.names.iter().find(|(p, _)| frame.cell_at(p[0], p[1]) == Some(outlet));
    let basins = &all.basins;
    page(&Card {
        study,
        id: at as u32 + 1,
        outlet: format!("{}-{}", outlet.row, outlet.col),
        name: names[at].clone(),
        own_name: own.map_or(String::new(), |(_, name)| name.clone()),
        area: quantity::area(frame.area_of(basins.found.own_cells[at]).as_m2()),
        next: basins.found.within[at],
        catchment: all.catchment[at],
        reach: basins.reach[at],
        junctions: basins.junctions[at],
        edge: basins.found.touches_edge[at],
        at_point: basins.point[at].is_some(),
        measures: figures(&row),
        x,
        y,
    })
}

/// Reads `row-column`.
fn outlet(text: &str) -> Result<Cell> {
    let (row, col) = text.split_once('-').ok_or_else(|| WebError::nothing("there is no such sub-basin"))?;
    match (row.parse(), col.parse()) {
        (Ok(row), Ok(col)) => Ok(Cell { row, col }),
        _ => Err(WebError::nothing("there is no such sub-basin")),
    }
}

pub async fn merge(State(app): State<App>, Path((study, at)): Path<(i64, String)>) -> Result<Response> {
    bothros_workflow::merge_subbasin(&app.store, &app.grids, study, outlet(&at)?).await?;
    Ok(changed(CHANGED))
}

#[derive(Deserialize)]
pub struct Name {
    name: String,
}

pub async fn name(
    State(app): State<App>,
    Path((study, at)): Path<(i64, String)>,
    Form(form): Form<Name>,
) -> Result<Response> {
    let name: String = form.name.trim().chars().take(60).collect();
    bothros_workflow::name_subbasin(&app.store, &app.grids, study, outlet(&at)?, &name).await?;
    Ok(changed(CHANGED))
}

/// Keeps the catchment of an outlet: a pour point is placed there.
pub async fn keep(State(app): State<App>, Path((study, at)): Path<(i64, String)>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let (x, y) = app.grids.get(&app.store, &facts).await?.frame.centre(outlet(&at)?);
    let places = vec![PourPointPlace { name: String::new(), x, y, area_m2: None, own: None }];
    let many = ManyPlaces { places, called: "Pour point", exact: true };
    let said = bothros_workflow::add_pour_points(&app.store, &app.grids, study, many).await?;
    Ok(crate::http::upload::told(changed("points-changed"), &said))
}

pub async fn split(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(at): Form<crate::http::form::Place>,
) -> Result<Response> {
    bothros_workflow::split_subbasin(&app.store, &app.grids, study, (at.x, at.y)).await?;
    Ok(changed(CHANGED))
}

pub async fn forget(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::forget_subbasin_changes(&app.store, study).await?;
    Ok(changed(CHANGED))
}

/// A part of the map, coordinates of the study, and how many cells a pixel covers.
#[derive(Deserialize)]
pub struct View {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
    #[serde(default)]
    cells: f64,
}

/// How outlines are drawn where a pixel covers so many cells.
fn lines_at(cells: f64, facts: &Facts) -> Lines {
    match cells {
        c if c >= 2.0 => Lines::Within(1 << (c.log2().floor() as u32).min(10)),
        _ => Lines::Kind(facts.settings.subbasins.outline),
    }
}

/// The sub-basins in view.
pub async fn drawn(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let all = app.grids.subbasins(&app.store, &facts).await?;
    let lines = app.grids.subbasin_lines(&app.store, &facts, lines_at(view.cells, &facts)).await?;
    let frame = app.grids.get(&app.store, &facts).await?.frame;
    let points: Vec<_> = delineated(&app.store, study).await?.into_iter().map(|(p, _)| p).collect();
    let names = all.names(&facts.settings.subbasins, &points, &frame);
    let seen = |outline: &&(u32, bothros_core::catchments::MultiPolygon)| {
        outline.1.iter().filter_map(|polygon| polygon.first()).any(|ring| {
            let start = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
            let b = ring
                .iter()
                .fold(start, |b, p| [b[0].min(p[0]), b[1].min(p[1]), b[2].max(p[0]), b[3].max(p[1])]);
            b[0] <= view.east && b[2] >= view.west && b[1] <= view.north && b[3] >= view.south
        })
    };
    // From afar what is smaller than a few pixels is not seen.
    let least = view.cells.max(0.0).powi(2) * 4.0;
    let large = |outline: &&(u32, bothros_core::catchments::MultiPolygon)| {
        all.basins.found.own_cells[outline.0 as usize - 1] as f64 >= least
    };
    let told = lines.iter().filter(seen).filter(large).map(|(id, outline)| {
        let at = *id as usize - 1;
        json!({
            "id": id, "name": names[at], "colour": all.colours[at], "outline": outline,
            "area": frame.area_of(all.basins.found.own_cells[at]).as_m2(),
        })
    });
    Ok(Json(json!(told.collect::<Vec<_>>())))
}
