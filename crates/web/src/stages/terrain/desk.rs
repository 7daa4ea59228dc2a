//! The desk of the Terrain stage: findings, files, how the DEM is prepared, other DEMs of the same area.

use askama::Template;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_formats::{Crs, CrsEntry, plan_warp, search_crs, utm_zone};
use bothros_products::Quantity;
use bothros_store::{JobKind, LayerRole};
use bothros_workflow::{Action, Facts, Fetch, Finding, PicturePlace, Preparing, Severity, findings};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::map::layer_rows::{LayerRow, layer_rows, roles};
use crate::shell::desk::{Busy, Fact, busy, fact};
use crate::stages::terrain::actions::{PrepareForm, chosen};
use crate::ui::page;
use crate::ui::quantity;

/// A file of the DEM.
struct FileRow {
    place: usize,
    name: String,
    about: String,
    first: bool,
    last: bool,
    removable: bool,
    provenance: bothros_workflow::Provenance,
}

impl PrepareFields {
    fn resampling(&self, code: &str) -> bool {
        self.how.resampling.code() == code
    }
}

/// A DEM that is not the one at work.
struct CandidateRow {
    id: i64,
    name: String,
    about: String,
}

/// A picture behind the map.
struct BackdropRow {
    id: i64,
    name: String,
    about: String,
    placed: bool,
    /// whether its place is the analyst's to say
    by_points: bool,
}

fn backdrop_row(backdrop: bothros_store::Backdrop) -> Result<BackdropRow> {
    let place = PicturePlace::of(&backdrop)?;
    let by_points = place.as_ref().is_none_or(|p| !p.points.is_empty());
    let source = backdrop.provenance["source"].as_str().unwrap_or_default();
    let about = format!(
        "{} × {} pixels{}{}",
        backdrop.width,
        backdrop.height,
        if source.is_empty() { String::new() } else { format!(", {source}") },
        match &place {
            None => ", not placed yet".to_owned(),
            Some(p) if p.points.len() == 3 => ", placed by 3 points".to_owned(),
            Some(p) if !p.points.is_empty() => format!(
                ", placed by {} points within {}",
                p.points.len(),
                quantity::length(p.rms.unwrap_or_default())
            ),
            Some(_) => String::new(),
        }
    );
    Ok(BackdropRow { id: backdrop.id, name: backdrop.name, about, placed: place.is_some(), by_points })
}

/// The form of how the DEM is prepared.
struct PrepareFields {
    how: Preparing,
    crs: String,
    label: String,
    cell_size: String,
    unit: String,
    boundaries: Vec<(i64, String)>,
    others: Vec<(i64, String)>,
    margin: String,
}

#[derive(Template)]
#[template(path = "stages/terrain/desk.html")]
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
    later: bool,
    files: Vec<FileRow>,
    level: bool,
    candidates: Vec<CandidateRow>,
    fields: Option<PrepareFields>,
    layers: Vec<LayerRow>,
    roles: Vec<(&'static str, &'static str)>,
    backdrops: Vec<BackdropRow>,
    /// what is asked of an archive, where there is no DEM yet
    fetching: Option<Fetch>,
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
            format!("{} ({}, {})", source.title(), source.info.format, quantity::bytes(source.bytes)),
        ));
        let crs = source.crs.as_ref().map_or("unknown".into(), Crs::label);
        out.push(fact("CRS", if source.crs_chosen { format!("{crs} (chosen by hand)") } else { crs }));
        if facts.terrain.as_ref().is_none_or(|t| t.prepared != Preparing::default()) {
            let [_, width, _, _, _, height] = source.info.geo_transform;
            let unit = source.crs.as_ref().map_or("units", |c| quantity::unit(&c.unit));
            out.push(fact(
                "Cells of the file",
                format!(
                    "{} × {} of {} × {} {unit}",
                    quantity::whole(source.info.cols as u64),
                    quantity::whole(source.info.rows as u64),
                    quantity::plain(width.abs()),
                    quantity::plain(height.abs())
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
        for done in &terrain.done {
            out.push(fact("Prepared", done.clone()));
        }
        out.push(fact(
            "Grid",
            format!(
                "{} × {} cells of {} {}",
                quantity::whole(frame.cols as u64),
                quantity::whole(frame.rows as u64),
                quantity::plain(frame.cell_size),
                quantity::unit(&terrain.crs.unit)
            ),
        ));
        let [west, south, east, north] = frame.extent();
        out.push(fact("Extent", format!("E {west:.1} – {east:.1}, N {south:.1} – {north:.1}")));
        out.push(fact("Footprint", quantity::area(frame.area_of(terrain.summary.cells).as_m2())));
    }
    let summary =
        facts.terrain.as_ref().map(|t| &t.summary).or(facts.source.as_ref().and_then(|s| s.summary.as_ref()));
    if let Some(s) = summary {
        out.push(fact(
            "Elevations",
            format!(
                "{} to {}, mean {}",
                quantity::metres(s.lowest_m),
                quantity::metres(s.highest_m),
                quantity::metres(s.mean_m)
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
                    quantity::whole(s.nodata_cells),
                    quantity::real(share, 2),
                    quantity::whole(s.void_cells)
                )
            },
        ));
    }
    out
}

fn file_rows(facts: &Facts) -> Vec<FileRow> {
    let Some(source) = &facts.source else { return Vec::new() };
    let order = source.order();
    let row = |(place, &number): (usize, &usize)| {
        let (name, info, bytes, crs, unit, provenance) = match number.checked_sub(1).map(|n| &source.more[n])
        {
            None => {
                let s = source;
                (&s.file, &s.info, s.bytes, s.crs.as_ref(), s.vertical_unit, &s.provenance)
            }
            Some(f) => (&f.file, &f.info, f.bytes, Some(&f.crs), f.vertical_unit, &f.provenance),
        };
        let [_, width, _, _, _, _] = info.geo_transform;
        let about = format!(
            "{} × {} cells of {} {}, {}, elevations in {}, {}",
            quantity::whole(info.cols as u64),
            quantity::whole(info.rows as u64),
            quantity::plain(width.abs()),
            crs.map_or("units", |c| quantity::unit(&c.unit)),
            crs.map_or("CRS unknown".into(), Crs::label),
            unit.code(),
            quantity::bytes(bytes)
        );
        FileRow {
            place,
            name: name.clone(),
            about,
            first: place == 0,
            last: place + 1 == order.len(),
            removable: number != 0,
            provenance: provenance.clone(),
        }
    };
    order.iter().enumerate().map(row).collect()
}

async fn candidate_rows(app: &App, study: i64) -> Result<Vec<CandidateRow>> {
    let parked = app.store.candidates(study).await?;
    let about = |c: &bothros_store::Dem| -> String {
        let frame: Option<bothros_core::Frame> =
            c.terrain.as_ref().and_then(|t| serde_json::from_value(t["frame"].clone()).ok());
        let size = frame.map_or("not prepared yet".into(), |f| {
            format!("{}, {}", quantity::size(f.cell_m()), quantity::count(f.cells() as u64, "cell", "cells"))
        });
        let reached = match (&c.network, &c.review) {
            (Some(_), _) => ", routed",
            (None, Some(_)) => ", reviewed",
            _ => "",
        };
        format!("{size}{reached}")
    };
    Ok(parked.iter().map(|c| CandidateRow { id: c.id, name: c.name.clone(), about: about(c) }).collect())
}

pub async fn desk(app: &App, facts: Facts) -> Result<Response> {
    let study = facts.study;
    let (active, busy) = busy(app, study).await?;
    let found = findings(&facts, quantity::units());
    let source = facts.source.as_ref();
    let offer = source.and_then(|s| {
        let (lon, lat) = s.centre_wgs84()?;
        let to = match s.grid().3?.kind {
            bothros_formats::CrsKind::Projected => s.grid().3?.clone(),
            _ => utm_zone(lon, lat).ok()?,
        };
        offer(&facts, &to).ok()
    });
    let layers = app.store.layers(study).await?;
    let candidates = candidate_rows(app, study).await?;
    let fields = facts.terrain.as_ref().map(|t| {
        let how = t.prepared.clone();
        let boundary = |l: &&bothros_store::Layer| l.role == LayerRole::Boundaries && l.features > 0;
        PrepareFields {
            crs: t.crs.epsg.map_or_else(|| t.crs.wkt.clone(), |code| format!("EPSG:{code}")),
            label: t.crs.label(),
            cell_size: quantity::plain(t.frame.cell_size),
            unit: quantity::unit(&t.crs.unit).to_owned(),
            boundaries: layers.iter().filter(boundary).map(|l| (l.id, l.name.clone())).collect(),
            others: candidates.iter().map(|c| (c.id, c.name.clone())).collect(),
            margin: quantity::typed(Quantity::Length, how.clip.as_ref().map_or(0.0, |c| c.margin_m)),
            how,
        }
    });
    let last = app.store.last_job(study).await?.filter(|_| source.is_none());
    let fetching = last
        .filter(|j| j.kind == JobKind::Fetch.name())
        .map(|j| serde_json::from_value(j.parameters))
        .transpose()?;
    let backdrops = app.store.backdrops(study).await?.into_iter().map(backdrop_row).collect::<Result<_>>()?;
    page(&Terrain {
        backdrops,
        fetching,
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
        later: facts.routing.is_some(),
        files: file_rows(&facts),
        level: source.is_some_and(|s| s.level),
        candidates,
        fields,
        layers: layer_rows(&layers),
        roles: roles(),
        findings: found,
    })
}

/// Where the DEM would lie if it were prepared as the form says: in words, and as an outline for the map.
pub async fn prepare_plan(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<PrepareForm>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let how = chosen(&app, &facts, form).await?;
    let source = facts.source.as_ref().ok_or_else(|| WebError::refused("the study has no DEM"))?;
    let place = how.place(source)?;
    let frame = place.clipped();
    let [west, south, east, north] = frame.extent();
    let mut told = format!(
        "{} × {} cells of {}, {} × {}, {} in memory; {}",
        quantity::whole(frame.cols as u64),
        quantity::whole(frame.rows as u64),
        quantity::size(frame.cell_m()),
        quantity::length(frame.cols as f64 * frame.cell_m()),
        quantity::length(frame.rows as f64 * frame.cell_m()),
        quantity::bytes(frame.cells() as u64 * 4),
        match place.warped {
            true => format!("values found anew between cells ({})", how.resampling.code()),
            false => "values stay as they are".into(),
        }
    );
    for word in how.words() {
        told += &format!("; {word}");
    }
    // The outline is drawn on the map as it is now.
    let mut outline = vec![vec![[west, north], [east, north], [east, south], [west, south], [west, north]]];
    outline.extend(place.clip.iter().flatten().flatten().cloned());
    if let Some(terrain) = &facts.terrain {
        let transform = bothros_formats::Transform::new(&place.crs, &terrain.crs)?;
        for point in outline.iter_mut().flatten() {
            let (x, y) = transform.point(point[0], point[1])?;
            *point = [x, y];
        }
    }
    Ok(Json(json!({ "told": told, "outline": outline })))
}

fn offer(facts: &Facts, to: &Crs) -> Result<Offer> {
    let source = facts.source.as_ref().ok_or_else(|| WebError::refused("the study has no DEM"))?;
    let (rows, cols, geo_transform, from) = source.grid();
    let from = from.ok_or_else(|| WebError::refused("choose the CRS of the file first"))?;
    let plan = plan_warp(rows, cols, geo_transform, from, to)?;
    Ok(Offer {
        crs: to.epsg.map_or_else(|| to.wkt.clone(), |code| format!("EPSG:{code}")),
        label: to.label(),
        cell_size: format!("{}", plan.sensible_cell_size),
        native: quantity::real(plan.native_cell_size, 4),
        unit: quantity::unit(&to.unit).to_owned(),
    })
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
#[template(path = "stages/terrain/crs_list.html")]
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
    let facts = app.facts(study).await?;
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
#[template(path = "stages/terrain/offer.html")]
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
    let facts = app.facts(study).await?;
    let to = Crs::parse(&target.crs)?;
    page(&OfferPart { offer: offer(&facts, &to)? })
}

impl Terrain {
    /// What is asked of an archive, in words.
    fn asked(&self) -> String {
        self.fetching.as_ref().map_or(String::new(), |f| {
            format!(
                "{} around {}, margin {}",
                f.collection.title,
                f.boundary.name,
                quantity::size(f.margin_m)
            )
        })
    }
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
    /// The choice of preparation that mends a finding, and what its button says.
    fn set(&self, finding: &Finding) -> Option<(&'static str, &'static str)> {
        match finding.action? {
            Action::Crop => Some(("full_rectangle", "Crop to the full rectangle")),
            Action::Spikes => Some(("spikes", "Mend spikes")),
            Action::Steps => Some(("steps", "Soften the steps")),
            Action::FillVoids => Some(("voids", "Fill the voids")),
            Action::Sea => Some(("sea", "Take the sea as outside")),
            _ => None,
        }
    }
    /// What a change of the DEM costs.
    fn loses(&self) -> &'static str {
        "This changes the DEM: sinks, flow and network are emptied and must be computed again. Pour points, layers and decisions are kept."
    }
    fn wants(&self, finding: &Finding, action: &str) -> bool {
        matches!(
            (finding.action, action),
            (Some(Action::ChooseBand), "band")
                | (Some(Action::ChooseCrs), "crs")
                | (Some(Action::Warp), "warp")
                | (Some(Action::VerticalUnit), "unit")
                | (Some(Action::Level), "level")
        )
    }
}
