//! Pour points and their catchments.

use askama::Template;
use bothros_core::catchments::{Holds, SnapTo};
use bothros_products::Quantity;
use bothros_workflow::{CatchmentFacts, Facts, FeatureKey, Published, ValueRaster, published_boundaries};

use super::subbasins::Choices;
use crate::App;
use crate::http::error::Result;
use crate::ui::{quantity, render};

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
    /// how far its area is from a known one, where that is more than a tenth
    misfit: Option<String>,
    problem: Option<String>,
    done: bool,
}

#[derive(Template)]
#[template(path = "stages/catchments/desk.html")]
struct Catchments {
    study: i64,
    ready: bool,
    points: Vec<PointRow>,
    /// pour points that have a catchment: number in addresses, name
    measurable: Vec<(i64, String)>,
    snap_m: String,
    /// where points snap to
    snap_to: SnapTo,
    /// the known area that they snap to, in the unit of the page
    known_area: String,
    crs: String,
    division: Choices,
    /// published boundaries: key in addresses, name
    boundaries: Vec<(String, String)>,
    /// the one whose area is nearest to that of the first catchment
    nearest_boundary: String,
    /// other studies that are routed: number, name
    others: Vec<(i64, String)>,
    /// rasters of the analyst
    rasters: Vec<ValueRaster>,
    length_unit: &'static str,
    area_unit: &'static str,
    /// how sure it is
    sure: String,
}

/// A boundary in addresses.
fn address(key: &FeatureKey) -> String {
    format!("{}-{}", key.layer, key.id)
}

/// Other studies whose flow is routed.
async fn others(app: &App, study: i64) -> Result<Vec<(i64, String)>> {
    let all = app.store.studies().await?.into_iter();
    Ok(all.filter(|s| s.id != study && s.routing.is_some()).map(|s| (s.id, s.name)).collect())
}

/// How far an area is from the known one that a point snapped by, in words, where that is more than a tenth.
fn misfit(snap_to: &str, area_km2: f64) -> Option<String> {
    let Ok(SnapTo::KnownArea(m2)) = SnapTo::try_from(snap_to.to_owned()) else { return None };
    let off = area_km2 * 1e6 / m2 as f64 - 1.0;
    let than = if off < 0.0 { "less" } else { "more" };
    let known = quantity::area(m2 as f64);
    (off.abs() > 0.1).then(|| format!("{} {than} than the known {known}", quantity::percent(off.abs())))
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let sure = super::sure::section(app, &facts).await?;
    let ready = facts.routing.is_some();
    let mut points = Vec::new();
    let all = app.store.pour_points(study).await?;
    // The threshold may have changed since they were placed.
    let streams = match (&facts.network, all.is_empty()) {
        (Some(network), false) => Some((app.grids.streams(&app.store, &facts).await?, network.threshold)),
        _ => None,
    };
    let mut first_m2 = 0.0;
    for (at, point) in all.into_iter().enumerate() {
        let found: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        let found = found.filter(|_| ready);
        if let Some(f) = found.filter(|_| first_m2 == 0.0) {
            first_m2 = f.area_km2 * 1e6;
        }
        points.push(PointRow {
            id: point.id,
            number: at + 1,
            name: point.name,
            x: found.map_or(point.x, |f| f.x),
            y: found.map_or(point.y, |f| f.y),
            area: found.map_or(String::new(), |f| quantity::area(f.area_km2 * 1e6)),
            perimeter: found.map_or(String::new(), |f| quantity::length(f.perimeter_km * 1000.0)),
            moved: found.map_or(String::new(), |f| quantity::length(f.moved_m)),
            far: found
                .is_some_and(|f| f.moved_m > 0.5 * facts.settings.snap_m && facts.settings.snap_m > 0.0),
            on_stream: match (&streams, found) {
                (Some((streams, threshold)), Some(found)) => streams.is_stream_at(*threshold, found.cell),
                _ => true,
            },
            misfit: found.and_then(|f| misfit(&point.snap_to, f.area_km2)),
            edge: found.filter(|f| f.edge_cells > 0).map(|f| quantity::whole(f.edge_cells)),
            problem: point.problem.filter(|_| ready),
            done: found.is_some(),
        });
    }
    let done = points.iter().filter(|p| p.done);
    let measurable = done.map(|p| (p.id, format!("{} {}", p.number, p.name))).collect();
    let boundaries = published_boundaries(&app.store, &facts).await?;
    let off = |b: &Published| (b.area.as_m2() / first_m2).ln().abs();
    let nearest = boundaries.iter().min_by(|a, b| off(a).total_cmp(&off(b)));
    let nearest_boundary = nearest.map_or(String::new(), |b| address(&b.key));
    render(&Catchments {
        study,
        sure,
        ready,
        measurable,
        points,
        snap_m: quantity::typed(Quantity::Length, facts.settings.snap_m),
        nearest_boundary,
        boundaries: boundaries.into_iter().map(|b| (address(&b.key), b.name)).collect(),
        others: others(app, study).await?,
        rasters: facts.settings.rasters.clone(),
        length_unit: quantity::typed_in(Quantity::Length),
        area_unit: quantity::typed_in(Quantity::Area),
        division: Choices::of(&facts.settings.subbasins),
        snap_to: facts.settings.snap_to,
        known_area: match facts.settings.snap_to {
            SnapTo::KnownArea(m2) => quantity::typed(Quantity::Area, m2 as f64 / 1e6),
            _ => String::new(),
        },
        crs: facts.terrain.map_or(String::new(), |t| t.crs.label()),
    })
}
