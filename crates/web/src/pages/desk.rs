//! The desk: a stage's findings, choices and action.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::Threshold;
use bothros_core::catchments::SnapTo;
use bothros_store::Job;
use bothros_work::{CatchmentFacts, Facts, StreamEdit};

use super::conditioning::conditioning;
use super::starting_points::{Start, starting_points};
use super::terrain::terrain;
use super::{STAGES, page};
use crate::App;
use crate::error::{Result, WebError};
use crate::numbers;

/// A name and a value, perhaps with a place on the map.
pub(super) struct Fact {
    pub name: &'static str,
    pub value: String,
    pub at: Option<(f64, f64)>,
}

pub(super) fn fact(name: &'static str, value: impl Into<String>) -> Fact {
    Fact { name, value: value.into(), at: None }
}

pub(super) struct Busy {
    pub title: String,
    pub problem: Option<String>,
}

pub(super) async fn busy(app: &App, study: i64) -> Result<(bool, Busy)> {
    let last = app.store.last_job(study).await?;
    let active = last.as_ref().is_some_and(Job::is_active);
    let problem = last
        .as_ref()
        .filter(|j| ["failed", "interrupted"].contains(&j.state.as_str()))
        .map(|j| format!("{}: {}", j.title(), j.message));
    Ok((active, Busy { title: last.map(|j| j.title().to_owned()).unwrap_or_default(), problem }))
}

#[derive(Template)]
#[template(path = "desk_network.html")]
struct Network {
    study: i64,
    done: bool,
    facts: Vec<Fact>,
    cells: u32,
    area_km2: String,
    largest: u32,
    largest_text: String,
    cell_m2: f64,
    starts: Vec<Start>,
    /// edits by hand: what and why, where, and whether they change something at this threshold
    edits: Vec<(String, f64, f64, bool)>,
    low: f64,
    high: f64,
    top: f64,
}

async fn network(app: &App, study: i64, facts: Facts) -> Result<Response> {
    let (Some(terrain), Some(routing), Some(n)) = (&facts.terrain, &facts.routing, &facts.network) else {
        let none = Network {
            study,
            done: false,
            facts: vec![],
            cells: 1,
            area_km2: String::new(),
            largest: 1,
            largest_text: String::new(),
            cell_m2: 1.0,
            starts: vec![],
            edits: vec![],
            low: 0.0,
            high: 1.0,
            top: 1.0,
        };
        return page(&none);
    };
    let frame = &terrain.frame;
    let list = vec![
        fact("Reaches", numbers::whole(n.reaches as u64)),
        fact("Headwaters", numbers::whole(n.headwaters as u64)),
        fact("Length", numbers::length(n.length_m)),
        fact("Drainage density", format!("{} km/km²", numbers::real(n.density_km, 3))),
        fact("Highest order (Strahler)", n.highest_order.to_string()),
    ];
    let threshold = n.threshold;
    let applied = match facts.settings.edits.is_empty() {
        true => Vec::new(),
        false => app.grids.streams(&app.store, &facts).await?.applied(threshold),
    };
    page(&Network {
        study,
        done: true,
        facts: list,
        cells: threshold.as_cells(),
        area_km2: format!("{}", (threshold.as_area(frame).as_km2() * 1e6).round() / 1e6),
        largest: routing.largest_cells,
        largest_text: numbers::area(Threshold::cells(routing.largest_cells).as_area(frame).as_m2()),
        cell_m2: frame.cell_area().as_m2(),
        starts: starting_points(frame, routing.largest_cells),
        edits: facts.settings.edits.iter().zip(applied).map(edit).collect(),
        low: routing.log_percentiles.0,
        high: routing.log_percentiles.1,
        top: (routing.largest_cells as f64).log10(),
    })
}

fn edit((of, applies): (&StreamEdit, bool)) -> (String, f64, f64, bool) {
    let [x, y] = of.place();
    (format!("{}: {}", of.told(), of.reason), x, y, applies)
}

struct PointRow {
    id: i64,
    number: usize,
    name: String,
    x: f64,
    y: f64,
    area: String,
    perimeter: String,
    moved: String,
    far: bool,
    on_stream: bool,
    edge: Option<String>,
    problem: Option<String>,
    done: bool,
}

#[derive(Template)]
#[template(path = "desk_catchments.html")]
struct Catchments {
    study: i64,
    ready: bool,
    points: Vec<PointRow>,
    snap_m: f64,
    nearest: bool,
    crs: String,
}

async fn catchments(app: &App, study: i64, facts: Facts) -> Result<Response> {
    let ready = facts.routing.is_some();
    let mut points = Vec::new();
    let all = app.store.pour_points(study).await?;
    // The threshold may have changed since they were placed.
    let streams = match (&facts.network, all.is_empty()) {
        (Some(network), false) => Some((app.grids.streams(&app.store, &facts).await?, network.threshold)),
        _ => None,
    };
    for (at, point) in all.into_iter().enumerate() {
        let found: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        let found = found.filter(|_| ready);
        points.push(PointRow {
            id: point.id,
            number: at + 1,
            name: point.name,
            x: found.map_or(point.x, |f| f.x),
            y: found.map_or(point.y, |f| f.y),
            area: found.map_or(String::new(), |f| numbers::area(f.area_km2 * 1e6)),
            perimeter: found.map_or(String::new(), |f| numbers::length(f.perimeter_km * 1000.0)),
            moved: found.map_or(String::new(), |f| numbers::length(f.moved_m)),
            far: found
                .is_some_and(|f| f.moved_m > 0.5 * facts.settings.snap_m && facts.settings.snap_m > 0.0),
            on_stream: match (&streams, found) {
                (Some((streams, threshold)), Some(found)) => streams.is_stream_at(*threshold, found.cell),
                _ => true,
            },
            edge: found.filter(|f| f.edge_cells > 0).map(|f| numbers::whole(f.edge_cells)),
            problem: point.problem.filter(|_| ready),
            done: found.is_some(),
        });
    }
    page(&Catchments {
        study,
        ready,
        points,
        snap_m: facts.settings.snap_m,
        nearest: facts.settings.snap_to == SnapTo::NearestStream,
        crs: facts.terrain.map_or(String::new(), |t| t.crs.label()),
    })
}

#[derive(Template)]
#[template(path = "desk_handover.html")]
struct Handover {
    study: i64,
    ready: bool,
    active: bool,
    busy: Busy,
    file: Option<(String, String)>,
    fresh: bool,
    has_points: bool,
    short: String,
}

async fn handover(app: &App, study: i64, facts: Facts) -> Result<Response> {
    let (active, busy) = busy(app, study).await?;
    let file = app.store.file(study, bothros_store::FileRole::Package).await?;
    let fresh = super::rail::package(app, study).await? == Some(true);
    page(&Handover {
        study,
        ready: facts.network.is_some(),
        active,
        busy,
        file: file.map(|f| (f.name, numbers::bytes(f.bytes))),
        fresh,
        has_points: app.store.pour_point_count(study).await? > 0,
        short: bothros_work::package_name(&facts.name),
    })
}

pub async fn desk(State(app): State<App>, Path((study, stage)): Path<(i64, String)>) -> Result<Response> {
    let facts = Facts::clone(&*app.facts(study).await?);
    match stage.as_str() {
        "terrain" => terrain(&app, study, facts).await,
        "conditioning" => conditioning(&app, study, facts).await,
        "network" => network(&app, study, facts).await,
        "catchments" => catchments(&app, study, facts).await,
        "handover" => handover(&app, study, facts).await,
        _ => Err(WebError::nothing(format!(
            "there is no such stage; there are {}",
            STAGES.map(|s| s.0).join(", ")
        ))),
    }
}
