//! What a person does to pour points.

use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_core::catchments::{Along, SnapTo};
use bothros_products::Quantity;
use bothros_workflow::{Facts, PointFile, PourPointPlace, Wherever, read_place};
use serde::Deserialize;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::{Coordinate, Form};
use crate::http::upload::{receive_layer, told};
use crate::ui::form::Number;

const POINTS: &str = "points-changed";
/// How far pour points are moved to a stream.
const SNAP: Number = Number::new("the snapping distance", Quantity::Length, 0.0, 10_000.0);
/// What is known to drain to a pour point.
const KNOWN: Number = Number::new("the known area", Quantity::Area, 0.0, 1e8).above();

#[derive(Deserialize)]
pub struct Snapping {
    snap_m: String,
    snap_to: String,
    /// km² or mi², where it is known
    #[serde(default)]
    known_area: String,
}

pub async fn snapping(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Snapping>,
) -> Result<Response> {
    let snap_m = SNAP.read(&form.snap_m)?;
    let to = match form.snap_to.as_str() {
        "known_area" => {
            let km2 = KNOWN.read(&form.known_area)?;
            SnapTo::KnownArea((km2 * 1e6).round().max(1.0) as u64)
        }
        other => SnapTo::try_from(other.to_owned()).map_err(WebError::refused)?,
    };
    bothros_workflow::set_snapping(&app.store, study, snap_m, to).await?;
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
        (_, _, Some(text)) => {
            let place = read_place(&Facts::of(&app.store.study(study).await?)?, text)?;
            Ok((place.x, place.y))
        }
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
    bothros_workflow::add_pour_point(
        &app.store,
        &app.grids,
        study,
        PourPointPlace { name, x, y, area_m2: None, own: None },
    )
    .await?;
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

/// Takes a file of points, the layer in it and its CRS where it does not tell them.
pub async fn points_from_file(
    State(app): State<App>,
    Path(study): Path<i64>,
    form: Multipart,
) -> Result<Response> {
    let received = receive_layer(form, app.options.upload_limit).await?;
    let given = |key: &str| Some(received.text(key)).filter(|t| !t.is_empty());
    let (layer, crs) = (given("layer"), given("crs"));
    let file = PointFile {
        path: &received.path,
        name: &received.file,
        layer: layer.as_deref(),
        crs: crs.as_deref(),
    };
    let said = bothros_workflow::add_points_from(&app.store, &app.grids, study, file).await?;
    Ok(told(changed(POINTS), &said))
}

/// Where along the network pour points are wanted.
#[derive(Deserialize)]
pub struct AlongForm {
    along: String,
    #[serde(default)]
    order: String,
    #[serde(default)]
    interval: String,
    /// the pour point whose main stem is meant
    point: Option<i64>,
}

/// Interval along a main stem.
const STEP: Number = Number::new("the interval", Quantity::Length, 0.01, 1e6);
/// Interval of contributing area.
const STEP_AREA: Number = Number::new("the interval", Quantity::Area, 1e-9, 1e6);
/// Strahler order.
const ORDER: Number = Number::new("the order", Quantity::Order, 1.0, 20.0);

pub async fn points_along(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<AlongForm>,
) -> Result<Response> {
    let stem =
        || form.point.ok_or_else(|| WebError::refused("place a pour point first: its main stem is followed"));
    let wherever = match form.along.as_str() {
        "junctions" => Wherever::Places(Along::Junctions),
        "outlets" => Wherever::Places(Along::Outlets),
        "heads" => Wherever::Places(Along::Heads(ORDER.read(&form.order)? as u8)),
        "length" => Wherever::EveryMetres(stem()?, STEP.read(&form.interval)?),
        "area" => Wherever::EveryKm2(stem()?, STEP_AREA.read(&form.interval)?),
        other => return Err(WebError::refused(format!("there are no places called “{other}”"))),
    };
    let said = bothros_workflow::add_points_along(&app.store, &app.grids, study, wherever).await?;
    Ok(told(changed(POINTS), &said))
}
