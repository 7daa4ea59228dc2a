//! What a person does to pour points.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::catchments::SnapTo;
use bothros_products::Quantity;
use bothros_workflow::{Facts, PourPointPlace, read_place};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::{Coordinate, Form};
use crate::ui::form::Number;

const POINTS: &str = "points-changed";
/// How far pour points are moved to a stream.
const SNAP: Number = Number::new("the snapping distance", Quantity::Length, 0.0, 10_000.0);

#[derive(Deserialize)]
pub struct Snapping {
    snap_m: String,
    snap_to: SnapTo,
}

pub async fn snapping(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Snapping>,
) -> Result<Response> {
    let snap_m = SNAP.read(&form.snap_m)?;
    bothros_workflow::set_snapping(&app.store, study, snap_m, form.snap_to).await?;
    Ok(changed(POINTS))
}

/// A place, by coordinates or as typed.
#[derive(Deserialize)]
pub struct NewPoint {
    x: Option<Coordinate>,
    y: Option<Coordinate>,
    place: Option<String>,
    #[serde(default)]
    name: String,
}

async fn place(app: &App, study: i64, form: &NewPoint) -> Result<(f64, f64)> {
    match (form.x, form.y, &form.place) {
        (Some(x), Some(y), _) => Ok((x.0, y.0)),
        (_, _, Some(text)) => Ok(read_place(&Facts::of(&app.store.study(study).await?)?, text)?),
        _ => Err(WebError::refused("give the coordinates of the pour point")),
    }
}

fn point_name(given: &str) -> Option<String> {
    let name: String = given.trim().chars().take(60).collect();
    (!name.is_empty()).then_some(name)
}

pub async fn add_pour_point(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<NewPoint>,
) -> Result<Response> {
    let (x, y) = place(&app, study, &form).await?;
    // One without a name is named when it is kept.
    let name = point_name(&form.name).unwrap_or_default();
    bothros_workflow::add_pour_point(&app.store, &app.grids, study, PourPointPlace { name, x, y }).await?;
    Ok(changed(POINTS))
}

#[derive(Deserialize)]
pub struct Name {
    name: String,
}

pub async fn rename_pour_point(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Form(form): Form<Name>,
) -> Result<Response> {
    let name = point_name(&form.name).ok_or_else(|| WebError::refused("a pour point needs a name"))?;
    bothros_workflow::rename_pour_point(&app.store, study, point, &name).await?;
    Ok(changed(POINTS))
}

pub async fn move_pour_point(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Form(form): Form<NewPoint>,
) -> Result<Response> {
    let at = place(&app, study, &form).await?;
    bothros_workflow::move_pour_point(&app.store, &app.grids, study, point, at).await?;
    Ok(changed(POINTS))
}

pub async fn delete_pour_point(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
) -> Result<Response> {
    bothros_workflow::delete_pour_point(&app.store, study, point).await?;
    Ok(changed(POINTS))
}
