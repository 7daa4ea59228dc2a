//! The desk: a stage's findings, choices and action.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::Threshold;
use bothros_core::catchments::SnapTo;
use bothros_formats::{Crs, CrsEntry, plan_warp, search_crs, utm_zone};
use bothros_store::Job;
use bothros_work::{Action, CatchmentFacts, Facts, Finding, Severity, findings};
use serde::Deserialize;

use super::conditioning::conditioning;
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
#[template(path = "desk_terrain.html")]
struct Terrain {
    study: i64,
    active: bool,
    busy: Busy,
    findings: Vec<Finding>,
    facts: Vec<Fact>,
    bands: Vec<(usize, String)>,
    unit: &'static str,
    offer: Option<Offer>,
    ready: bool,
    has_source: bool,
    later: bool,
    can_restart: bool,
}

/// The CRS and cell size that are offered for warping.
struct Offer {
    crs: String,
    label: String,
    cell_size: String,
    native: String,
    unit: String,
}

fn source_facts(facts: &Facts) -> Vec<Fact> {
    let mut out = Vec::new();
    if let Some(source) = &facts.source {
        out.push(fact(
            "File",
            format!("{} ({}, {})", source.file, source.info.format, numbers::bytes(source.bytes)),
        ));
        let crs = source.crs.as_ref().map_or("unknown".into(), Crs::label);
        out.push(fact("CRS", if source.crs_chosen { format!("{crs} (chosen by hand)") } else { crs }));
        if facts.terrain.as_ref().is_none_or(|t| t.preparation.is_some()) {
            let [_, width, _, _, _, height] = source.info.geo_transform;
            let unit = source.crs.as_ref().map_or("units", |c| numbers::unit(&c.unit));
            out.push(fact(
                "Cells of the file",
                format!(
                    "{} × {} of {} × {} {unit}",
                    numbers::whole(source.info.cols as u64),
                    numbers::whole(source.info.rows as u64),
                    numbers::real(width.abs(), 6),
                    numbers::real(height.abs(), 6)
                ),
            ));
        }
        if let Some(band) = source.band.and_then(|b| source.info.bands.get(b - 1)) {
            let nodata = band.nodata.map_or("none declared".into(), |n| {
                if n.is_nan() { "not a number".into() } else { format!("{n}") }
            });
            out.push(fact("Values", format!("{}, nodata {nodata}", band.value_type)));
        }
        out.push(fact(
            "Vertical unit",
            match source.vertical_unit.code() {
                "m" => "metre",
                "ft" => "foot, converted to metres",
                _ => "US survey foot, converted to metres",
            },
        ));
    }
    if let Some(terrain) = &facts.terrain {
        let frame = &terrain.frame;
        if let Some(made) = &terrain.preparation {
            out.push(fact("Warped to", format!("{}, {}", terrain.crs.label(), made.resampling.code())));
        }
        out.push(fact(
            "Grid",
            format!(
                "{} × {} cells of {} {}",
                numbers::whole(frame.cols as u64),
                numbers::whole(frame.rows as u64),
                numbers::real(frame.cell_size, 6),
                numbers::unit(&terrain.crs.unit)
            ),
        ));
        let [west, south, east, north] = frame.extent();
        out.push(fact("Extent", format!("E {west:.1} – {east:.1}, N {south:.1} – {north:.1}")));
        out.push(fact("Footprint", numbers::area(frame.area_of(terrain.summary.cells).as_m2())));
    }
    let summary =
        facts.terrain.as_ref().map(|t| &t.summary).or(facts.source.as_ref().and_then(|s| s.summary.as_ref()));
    if let Some(s) = summary {
        out.push(fact(
            "Elevations",
            format!(
                "{} to {}, mean {}",
                numbers::metres(s.lowest_m),
                numbers::metres(s.highest_m),
                numbers::metres(s.mean_m)
            ),
        ));
        let share = s.nodata_cells as f64 / (s.cells + s.nodata_cells) as f64 * 100.0;
        out.push(fact(
            "Nodata",
            if s.nodata_cells == 0 {
                "none".into()
            } else {
                format!(
                    "{} cells ({} %), {} in voids",
                    numbers::whole(s.nodata_cells),
                    numbers::real(share, 2),
                    numbers::whole(s.void_cells)
                )
            },
        ));
    }
    out
}

async fn terrain(app: &App, study: i64, facts: Facts) -> Result<Response> {
    let (active, busy) = busy(app, study).await?;
    let found = findings(&facts);
    let source = facts.source.as_ref();
    let offer = source.and_then(|s| {
        let (lon, lat) = s.centre_wgs84()?;
        let to = match s.crs.as_ref()?.kind {
            bothros_formats::CrsKind::Projected => s.crs.clone()?,
            _ => utm_zone(lon, lat).ok()?,
        };
        offer(&facts, &to).ok()
    });
    page(&Terrain {
        study,
        active,
        busy,
        facts: source_facts(&facts),
        bands: source.map_or(vec![], |s| {
            s.info
                .bands
                .iter()
                .map(|b| (b.number, format!("{} {} {}", b.number, b.value_type, b.description)))
                .collect()
        }),
        unit: source.map_or("m", |s| s.vertical_unit.code()),
        offer,
        ready: facts.terrain.is_some(),
        has_source: source.is_some(),
        later: facts.routing.is_some(),
        can_restart: facts.terrain.as_ref().is_some_and(|t| t.cropped || t.preparation.is_some())
            && source.is_some(),
        findings: found,
    })
}

fn offer(facts: &Facts, to: &Crs) -> Result<Offer> {
    let source = facts.source.as_ref().ok_or_else(|| WebError::refused("the study has no DEM"))?;
    let from = source.crs.as_ref().ok_or_else(|| WebError::refused("choose the CRS of the file first"))?;
    let plan = plan_warp(source.info.rows, source.info.cols, source.info.geo_transform, from, to)?;
    Ok(Offer {
        crs: to.epsg.map_or_else(|| to.wkt.clone(), |code| format!("EPSG:{code}")),
        label: to.label(),
        cell_size: format!("{}", plan.sensible_cell_size),
        native: numbers::real(plan.native_cell_size, 4),
        unit: numbers::unit(&to.unit).to_owned(),
    })
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
    starts: Vec<(String, String, u32)>,
    low: f64,
    high: f64,
    top: f64,
}

async fn network(study: i64, facts: Facts) -> Result<Response> {
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
    let start = |name: &str, why: &str, cells: u32| (name.to_owned(), why.to_owned(), cells);
    let mut starts = vec![
        start("1 % of the largest", "a first look", (routing.largest_cells / 100).max(1)),
        start("1,000 cells", "a common guess", 1000),
    ];
    if frame.cell_m() >= 20.0 {
        starts.push(start(
            "4.5 km²",
            "a regional network",
            Threshold::from_area(bothros_core::Area::km2(4.5), frame).as_cells(),
        ));
    } else if frame.cell_m() <= 2.0 {
        starts.push(start("150 cells", "every swale of a lidar DEM", 150));
    }
    starts.retain(|s| s.2 <= routing.largest_cells);
    let threshold = n.threshold;
    page(&Network {
        study,
        done: true,
        facts: list,
        cells: threshold.as_cells(),
        area_km2: format!("{}", (threshold.as_area(frame).as_km2() * 1e6).round() / 1e6),
        largest: routing.largest_cells,
        largest_text: numbers::area(Threshold::cells(routing.largest_cells).as_area(frame).as_m2()),
        cell_m2: frame.cell_area().as_m2(),
        starts,
        low: routing.log_percentiles.0,
        high: routing.log_percentiles.1,
        top: (routing.largest_cells as f64).log10(),
    })
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
    for (at, point) in app.store.pour_points(study).await?.into_iter().enumerate() {
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
            on_stream: found.is_none_or(|f| f.on_stream),
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
        has_points: !app.store.pour_points(study).await?.is_empty(),
        short: bothros_work::package_name(&facts.name),
    })
}

pub async fn desk(State(app): State<App>, Path((study, stage)): Path<(i64, String)>) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    match stage.as_str() {
        "terrain" => terrain(&app, study, facts).await,
        "conditioning" => conditioning(&app, study, facts).await,
        "network" => network(study, facts).await,
        "catchments" => catchments(&app, study, facts).await,
        "handover" => handover(&app, study, facts).await,
        _ => Err(WebError::nothing(format!(
            "there is no such stage; there are {}",
            STAGES.map(|s| s.0).join(", ")
        ))),
    }
}

/// Words or a number to search CRS by.
#[derive(Deserialize)]
pub struct Search {
    #[serde(default)]
    q: String,
    #[serde(default)]
    target: String,
}

#[derive(Template)]
#[template(path = "crs_list.html")]
struct CrsList {
    entries: Vec<CrsEntry>,
    query: String,
    target: String,
}

pub async fn crs_list(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(search): Query<Search>,
) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let near = facts.source.as_ref().and_then(|s| s.centre_wgs84());
    let query = search.q.trim().to_owned();
    let mut entries = if query.is_empty() && near.is_none() { vec![] } else { search_crs(&query, near, 12) };
    // Geographic ones are not in the list of projected ones, but a file may be in one.
    if search.target == "source"
        && (query.is_empty() || "4326 wgs 84 latitude longitude".contains(&query.to_lowercase()))
    {
        entries.insert(
            0,
            CrsEntry {
                code: 4326,
                name: "WGS 84 (latitude and longitude)".into(),
                area: "World".into(),
                extent: None,
            },
        );
    }
    page(&CrsList { entries, query, target: search.target })
}

#[derive(Template)]
#[template(path = "offer.html")]
struct OfferPart {
    offer: Offer,
}

/// A CRS to warp to.
#[derive(Deserialize)]
pub struct Target {
    crs: String,
}

/// The cell size that fits a chosen CRS.
pub async fn warp_plan(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(target): Query<Target>,
) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let to = Crs::parse(&target.crs)?;
    page(&OfferPart { offer: offer(&facts, &to)? })
}

impl Terrain {
    fn class(&self, finding: &Finding) -> &'static str {
        match finding.severity {
            Severity::Blocking => "blocking",
            Severity::Attention => "attention",
            Severity::Note => "note",
            Severity::Good => "good",
        }
    }
    fn word(&self, finding: &Finding) -> &'static str {
        match finding.severity {
            Severity::Blocking => "To settle",
            Severity::Attention => "Attention",
            Severity::Note => "Note",
            Severity::Good => "Good",
        }
    }
    fn wants(&self, finding: &Finding, action: &str) -> bool {
        matches!(
            (finding.action, action),
            (Some(Action::ChooseBand), "band")
                | (Some(Action::ChooseCrs), "crs")
                | (Some(Action::Warp), "warp")
                | (Some(Action::VerticalUnit), "unit")
                | (Some(Action::Crop), "crop")
        )
    }
}
