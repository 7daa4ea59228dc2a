//! Settles how the DEM's file is read.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_formats::VerticalUnit;
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::Result;
use crate::http::form::Form;

#[derive(Deserialize)]
pub struct Band {
    band: usize,
}

pub async fn band(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Band>,
) -> Result<Response> {
    bothros_workflow::choose_band(&app.store, study, form.band).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct ChosenCrs {
    crs: String,
}

pub async fn source_crs(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<ChosenCrs>,
) -> Result<Response> {
    bothros_workflow::set_crs(&app.store, study, &form.crs).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct Unit {
    unit: VerticalUnit,
}

pub async fn vertical_unit(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Unit>,
) -> Result<Response> {
    bothros_workflow::set_vertical_unit(&app.store, study, form.unit).await?;
    Ok(changed(STUDY))
}

pub async fn reread(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::read_again(&app.store, study).await?;
    Ok(changed(STUDY))
}
