//! What goes into the package, and the start of its writing.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_products::DirectionCodes;
use bothros_workflow::MoreFormat;
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::choice;

pub async fn package(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::start_package(&app.store, study).await?;
    Ok(changed(STUDY))
}

/// The pour point whose catchment is handed out alone; empty for all land.
#[derive(Deserialize)]
pub struct Alone {
    point: String,
}

pub async fn alone(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Alone>,
) -> Result<Response> {
    let point = match form.point.as_str() {
        "" => None,
        id => Some(id.parse().map_err(|_| WebError::refused("choose a catchment, or all land"))?),
    };
    bothros_workflow::hand_out_alone(&app.store, study, point).await?;
    Ok(changed(STUDY))
}

/// What names of files begin with; empty for the study's first word.
#[derive(Deserialize)]
pub struct ShortName {
    short_name: String,
}

pub async fn short_name(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<ShortName>,
) -> Result<Response> {
    bothros_workflow::set_short_name(&app.store, study, &form.short_name).await?;
    Ok(changed(STUDY))
}

/// How flow directions are coded.
#[derive(Deserialize)]
pub struct Directions {
    directions: String,
}

pub async fn directions(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Directions>,
) -> Result<Response> {
    let codes = choice("directions", &form.directions, &DirectionCodes::ALL.map(|c| (c.key(), c)))?;
    bothros_workflow::set_direction_codes(&app.store, study, codes).await?;
    Ok(changed(STUDY))
}

/// The CRS of layers; empty for the study's.
#[derive(Deserialize)]
pub struct InCrs {
    crs: String,
}

pub async fn crs(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<InCrs>,
) -> Result<Response> {
    bothros_workflow::hand_out_in(&app.store, study, &form.crs).await?;
    Ok(changed(STUDY))
}

/// Whether a format is written beside the usual ones; nothing is sent where it is not.
#[derive(Deserialize)]
pub struct Wanted {
    #[serde(
        default,
        alias = "shapefiles",
        alias = "netcdf",
        alias = "indices",
        alias = "shares",
        alias = "sheets",
        alias = "report"
    )]
    wanted: String,
}

pub async fn format(
    State(app): State<App>,
    Path((study, format)): Path<(i64, String)>,
    Form(form): Form<Wanted>,
) -> Result<Response> {
    let all = [
        ("shapefiles", MoreFormat::Shapefiles),
        ("netcdf", MoreFormat::Netcdf),
        ("indices", MoreFormat::Indices),
        ("shares", MoreFormat::Shares),
        ("sheets", MoreFormat::Sheets),
        ("report", MoreFormat::Report),
    ];
    let known = all.into_iter().find(|(name, _)| *name == format);
    let (name, format) = known.ok_or_else(|| WebError::nothing("there is no such format"))?;
    let wanted = choice(name, &form.wanted, &[("yes", true), ("", false)])?;
    bothros_workflow::add_format(&app.store, study, format, wanted).await?;
    Ok(changed(STUDY))
}
