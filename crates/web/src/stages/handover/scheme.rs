//! The model scheme on the desk: counts, checks, parameters, the schematic.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_core::catchments::Holds;
use bothros_products::{Quantity, schematic};
use bothros_workflow::{Issue, ModelChoice, model_tables, set_model};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::Result;
use crate::http::form::Form;
use crate::ui::form::Number;
use crate::ui::{page, quantity};

#[derive(Template)]
#[template(path = "stages/handover/scheme.html")]
struct Told {
    study: i64,
    subbasins: String,
    flowpaths: String,
    nexuses: String,
    merged: String,
    issues: Vec<Issue>,
    choice: Fields,
    svg: String,
}

/// The parameters as fields hold them.
struct Fields {
    shortest: String,
    impervious: String,
    /// the raster that impervious shares come from; empty for none
    impervious_raster: String,
    /// rasters that they can come from
    rasters: Vec<String>,
    roughness: String,
    width: String,
    exponent: String,
    side_slope: String,
    spill_width: String,
    section_spacing: String,
    section_half_width: String,
    length_unit: &'static str,
}

impl Fields {
    fn of(choice: &ModelChoice, rasters: Vec<String>) -> Self {
        let optional =
            |quantity, value: Option<f64>| value.map_or(String::new(), |v| quantity::typed(quantity, v));
        Self {
            shortest: quantity::typed(Quantity::Length, choice.shortest_m),
            impervious: choice.impervious.map_or(String::new(), |share| quantity::plain(share * 100.0)),
            impervious_raster: choice.impervious_raster.clone().unwrap_or_default(),
            rasters,
            roughness: quantity::plain(choice.roughness),
            width: quantity::typed(Quantity::Length, choice.width_m),
            exponent: quantity::plain(choice.exponent),
            side_slope: quantity::plain(choice.side_slope),
            spill_width: optional(Quantity::Length, choice.spill_width_m),
            section_spacing: optional(Quantity::Length, choice.section_spacing_m),
            section_half_width: quantity::typed(Quantity::Length, choice.section_half_width_m),
            length_unit: quantity::typed_in(Quantity::Length),
        }
    }
}

/// The scheme of a study.
pub async fn told(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let model = model_tables(&app.store, &app.grids, &facts).await?;
    let choice = facts.settings.handover.model.clone();
    let rasters = facts.settings.rasters.iter().filter(|r| r.holds == Holds::Values);
    let rasters: Vec<String> = rasters.map(|r| r.name.clone()).collect();
    let part = quantity::blocking(move || {
        let scheme = &model.scheme;
        Ok(Told {
            study,
            subbasins: quantity::count(scheme.subbasins.len() as u64, "sub-basin drains", "sub-basins drain"),
            flowpaths: quantity::count(
                scheme.flowpaths.len() as u64,
                "flowpath connects",
                "flowpaths connect",
            ),
            nexuses: quantity::count(scheme.nexuses.len() as u64, "nexus", "nexuses"),
            merged: match scheme.merged {
                0 => String::new(),
                n => quantity::count(n as u64, "flowpath is too short", "flowpaths are too short"),
            },
            issues: model.issues.clone(),
            choice: Fields::of(&choice, rasters),
            svg: schematic(&model.scheme, &model.nexuses),
        })
    });
    page(&part.await?)
}

/// The schematic as a file.
pub async fn svg(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let model = model_tables(&app.store, &app.grids, &facts).await?;
    let name = format!("attachment; filename=\"{}_schematic.svg\"", facts.short_name());
    let svg = bothros_workflow::blocking(move || Ok(schematic(&model.scheme, &model.nexuses))).await?;
    let headers = [(header::CONTENT_TYPE, "image/svg+xml".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, svg).into_response())
}

/// Forgets what was typed for elements that are gone.
pub async fn forget(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::forget_lost(&app.store, &app.grids, study).await?;
    Ok(changed("scheme-changed"))
}

/// Parameters as they are typed.
#[derive(Deserialize)]
pub struct Typed {
    shortest: String,
    impervious: String,
    #[serde(default)]
    impervious_raster: String,
    roughness: String,
    width: String,
    exponent: String,
    side_slope: String,
    spill_width: String,
    section_spacing: String,
    section_half_width: String,
}

const SHORTEST: Number = Number::new("the shortest flowpath", Quantity::Length, 0.0, 1e6);
const IMPERVIOUS: Number = Number::new("the impervious share, %", Quantity::Ratio, 0.0, 100.0);
const ROUGHNESS: Number = Number::new("Manning’s n", Quantity::Ratio, 0.005, 1.0);
const WIDTH: Number = Number::new("the width at one km²", Quantity::Length, 0.0, 10_000.0).above();
const EXPONENT: Number = Number::new("the power of the width", Quantity::Ratio, 0.0, 1.0);
const SIDE_SLOPE: Number = Number::new("the side slope", Quantity::Ratio, 0.0, 20.0);
const SPILL: Number = Number::new("the width of spillways", Quantity::Length, 0.0, 10_000.0).above();

const SPACING: Number =
    Number::new("the distance of cross-sections", Quantity::Length, 0.0, 100_000.0).above();
const HALF_WIDTH: Number =
    Number::new("the reach of cross-sections", Quantity::Length, 0.0, 10_000.0).above();

/// Keeps the parameters.
pub async fn model(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Typed>,
) -> Result<Response> {
    let choice = ModelChoice {
        shortest_m: SHORTEST.read(&form.shortest)?,
        impervious: IMPERVIOUS.read_optional(&form.impervious)?.map(|percent| percent / 100.0),
        impervious_raster: Some(form.impervious_raster).filter(|name| !name.is_empty()),
        roughness: ROUGHNESS.read(&form.roughness)?,
        width_m: WIDTH.read(&form.width)?,
        exponent: EXPONENT.read(&form.exponent)?,
        side_slope: SIDE_SLOPE.read(&form.side_slope)?,
        spill_width_m: SPILL.read_optional(&form.spill_width)?,
        section_spacing_m: SPACING.read_optional(&form.section_spacing)?,
        section_half_width_m: HALF_WIDTH.read(&form.section_half_width)?,
    };
    set_model(&app.store, &app.grids, study, choice).await?;
    Ok(changed("scheme-changed"))
}
