//! What a person does to pour points.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::catchments::SnapTo;
use bothros_store::{Inverse, Kept};
use bothros_workflow::{Facts, PourPointPlace, change_settings};
use serde::Deserialize;
use serde_json::json;

use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::{Coordinate, Form, number_within};
use crate::map::find::read_place;

const POINTS: &str = "points-changed";

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
    let snap_m = number_within(&form.snap_m, "the snapping distance", 0.0..=10_000.0, "m")?;
    change_settings(&app.store, study, |settings| {
        (settings.snap_m, settings.snap_to) = (snap_m, form.snap_to);
        Ok(())
    })
    .await?;
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
        (_, _, Some(text)) => read_place(&Facts::of(&app.store.study(study).await?)?, text),
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
    let new =
        bothros_workflow::place_pour_point(&app.store, &app.grids, study, PourPointPlace { name, x, y })
            .await?;
    let settings = new.catchment.clone().map(Kept::into_json).unwrap_or_default();
    let added = app.store.add_pour_point(study, new).await?;
    let name = added.name;
    let text = format!("Placed {name} at {x:.1}, {y:.1}");
    app.store.remember(study, &format!("{name} placed"), &Inverse::RemovePourPoint { id: added.id }).await?;
    app.store.log(study, "Catchments", &text, settings, Default::default()).await?;
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
    let before = app.store.pour_point(study, point).await?;
    let inverse = Inverse::ChangePourPoint { id: point, name: before.name.clone(), x: before.x, y: before.y };
    let text = format!("{} renamed {name}", before.name);
    app.store.rename_pour_point(study, point, &name).await?;
    app.store.remember(study, &text, &inverse).await?;
    Ok(changed(POINTS))
}

pub async fn move_pour_point(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
    Form(form): Form<NewPoint>,
) -> Result<Response> {
    let (x, y) = place(&app, study, &form).await?;
    let before = app.store.pour_point(study, point).await?;
    let inverse = Inverse::ChangePourPoint { id: point, name: before.name.clone(), x: before.x, y: before.y };
    let new = PourPointPlace { name: before.name.clone(), x, y };
    let new = bothros_workflow::place_pour_point(&app.store, &app.grids, study, new).await?;
    app.store.change_pour_point(study, point, new).await?;
    app.store.remember(study, &format!("{} moved", before.name), &inverse).await?;
    let text = format!("Moved {} to {x:.1}, {y:.1}", before.name);
    app.store.log(study, "Catchments", &text, json!({}), Default::default()).await?;
    Ok(changed(POINTS))
}

pub async fn delete_pour_point(
    State(app): State<App>,
    Path((study, point)): Path<(i64, i64)>,
) -> Result<Response> {
    let before = app.store.pour_point(study, point).await?;
    app.store.set_pour_point_deleted(study, point, true).await?;
    app.store
        .remember(study, &format!("{} deleted", before.name), &Inverse::RestorePourPoint { id: point })
        .await?;
    app.store
        .log(study, "Catchments", &format!("Deleted {}", before.name), json!({}), Default::default())
        .await?;
    Ok(changed(POINTS))
}
