//! The package, and whether it is up to date.

use askama::Template;
use bothros_core::routing::Method;
use bothros_products::{DirectionCodes, Quantity};
use bothros_proof::Settings;
use bothros_workflow::{Facts, delineated};

use crate::App;
use crate::api::{OFFERED, meta_of};
use crate::http::error::Result;
use crate::shell::desk::{Busy, busy};
use crate::ui::{quantity, render};

#[derive(Template)]
#[template(path = "stages/handover/desk.html")]
struct Handover {
    study: i64,
    study_name: String,
    /// map sheets that are kept
    sheets: usize,
    ready: bool,
    active: bool,
    busy: Busy,
    file: Option<(String, String)>,
    /// packages that are kept, the last one first: number, when it was written, size
    kept: Vec<(i64, String, String)>,
    /// what they take together
    kept_bytes: String,
    /// CRS of the layers, where it is not the study's
    crs: Option<String>,
    own_crs: String,
    fresh: bool,
    has_points: bool,
    /// catchments that can be handed out alone: number of the pour point in addresses, name, whether it is chosen
    catchments: Vec<(i64, String, bool)>,
    shapefiles: bool,
    netcdf: bool,
    indices: bool,
    /// whether map sheets are written, where there are any
    with_sheets: Option<bool>,
    with_report: bool,
    /// whether shares of flow are written; none where flow is not divided by MFD
    shares: Option<bool>,
    /// as chosen, and as it is without a choice
    short_name: (String, String),
    /// key, title, whether it is chosen
    directions: Vec<(&'static str, &'static str, bool)>,
    contents: Vec<(String, String)>,
    /// rasters that can be had alone: name in addresses, what they are
    rasters: Vec<(&'static str, &'static str)>,
    /// depth of rain to begin with, and its unit
    rain: String,
    rain_unit: &'static str,
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let (active, busy) = busy(app, study).await?;
    let file = app.store.file(study, bothros_store::FileRole::Package).await?;
    let fresh = crate::shell::rail::package(app, study).await? == Some(true);
    let has_points = app.store.pour_point_count(study).await? > 0;
    let sheets = app.store.sheets(study).await?.len();
    let alone = facts.settings.handover.alone;
    let points = delineated(&app.store, study).await?.into_iter().zip(1..);
    let catchments =
        points.map(|((p, _), number)| (p.id, format!("{number} {}", p.name), alone == Some(p.id))).collect();
    let packages = app.store.kept_packages(study).await?;
    let all: u64 = packages.iter().map(|f| f.bytes).sum();
    let told = |f: &bothros_store::StoredFile| {
        (f.id, f.at.format("%Y-%m-%d %H:%M:%S").to_string(), quantity::bytes(f.bytes))
    };
    let mut rasters = Vec::new();
    for of in &OFFERED {
        if meta_of(app, study, of).await.is_ok_and(|meta| meta.is_some()) {
            rasters.push((of.name, of.meaning));
        }
    }
    render(&Handover {
        rasters,
        kept: packages.iter().map(told).collect(),
        kept_bytes: quantity::bytes(all),
        crs: facts.settings.handover.crs.as_ref().map(bothros_formats::Crs::label),
        own_crs: facts.terrain.as_ref().map_or(String::new(), |t| t.crs.label()),
        rain: quantity::typed(Quantity::Rain, Settings::default().rain_mm),
        rain_unit: quantity::typed_in(Quantity::Rain),
        catchments,
        study,
        study_name: facts.name.clone(),
        with_sheets: (sheets > 0).then_some(facts.settings.handover.sheets),
        with_report: facts.settings.handover.report,
        sheets,
        ready: facts.network.is_some(),
        active,
        busy,
        file: file.map(|f| (f.name, quantity::bytes(f.bytes))),
        fresh,
        shapefiles: facts.settings.handover.shapefiles,
        netcdf: facts.settings.handover.netcdf,
        indices: facts.settings.handover.indices,
        shares: (facts.routing.as_ref().is_some_and(|r| r.method == Method::Mfd))
            .then_some(facts.settings.handover.shares),
        short_name: (
            facts.settings.handover.short_name.clone().unwrap_or_default(),
            bothros_workflow::package_name(&facts.name),
        ),
        directions: DirectionCodes::ALL
            .map(|c| (c.key(), c.title(), c == facts.settings.handover.directions))
            .to_vec(),
        contents: bothros_workflow::package_contents(&facts, has_points, sheets > 0),
        has_points,
    })
}
