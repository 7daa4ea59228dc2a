//! What a person does to a study. Each answers with nothing but a nod, or with one clear message;
//! the page then fetches anew what has changed.

use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use bothros_core::catchments::SnapTo;
use bothros_core::{Area, Threshold};
use bothros_formats::VerticalUnit;
use bothros_store::{Inverse, JobKind, Kept};
use bothros_work::{Facts, PourPointPlace, change_settings, put_back_settings};
use serde::Deserialize;
use serde_json::json;

use crate::App;
use crate::error::{Result, WebError};
use crate::form::{Coordinate, Form, number, number_within};
use crate::map_data::read_place;

/// The page is told what has changed by an event of htmx.
pub(crate) fn changed(what: &'static str) -> Response {
    let mut headers = HeaderMap::new();
    headers.insert("HX-Trigger", HeaderValue::from_static(what));
    (StatusCode::NO_CONTENT, headers).into_response()
}

pub(crate) const STUDY: &str = "study-changed";
const POINTS: &str = "points-changed";

#[derive(Deserialize)]
pub struct Description {
    name: String,
    #[serde(default)]
    description: String,
}

pub async fn describe(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Description>,
) -> Result<Response> {
    let name = form.name.trim();
    if name.is_empty() {
        return Err(WebError::refused("a study needs a name"));
    }
    app.store.describe_study(study, name, form.description.trim()).await?;
    Ok(changed(STUDY))
}

pub async fn duplicate(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let name = app.store.study(study).await?.name;
    app.store.duplicate_study(study, &format!("{name}, copy")).await?;
    Ok(changed(STUDY))
}

pub async fn delete(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    if let Some(job) = app.store.active_job(study).await? {
        app.store.cancel_job(job.id).await?;
    }
    app.store.delete_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn purge(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.purge_study(study).await?;
    Ok(changed(STUDY))
}

pub async fn restore(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.restore_study(study).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct Band {
    band: usize,
}

pub async fn band(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Band>,
) -> Result<Response> {
    bothros_work::choose_band(&app.store, study, form.band).await?;
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
    bothros_work::set_crs(&app.store, study, &form.crs).await?;
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
    bothros_work::set_vertical_unit(&app.store, study, form.unit).await?;
    Ok(changed(STUDY))
}

pub async fn reread(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.study(study).await?;
    app.store.enqueue(study, JobKind::Import, Kept::empty()).await?;
    Ok(changed(STUDY))
}

pub async fn route(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    if facts.terrain.is_none() {
        return Err(WebError::refused("the DEM is not ready yet: see the findings of the Terrain stage"));
    }
    app.store.enqueue(study, JobKind::Route, Kept::empty()).await?;
    Ok(changed(STUDY))
}

#[derive(Deserialize)]
pub struct NewThreshold {
    cells: Option<String>,
    area: Option<String>,
    #[serde(default)]
    unit: String,
}

pub async fn threshold(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<NewThreshold>,
) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    let terrain = facts.terrain.ok_or_else(|| WebError::refused("prepare the DEM first"))?;
    let threshold = match (&form.cells, &form.area) {
        (Some(cells), _) => {
            let cells = number(cells, "the threshold")?;
            if cells < 1.0 || cells > u32::MAX as f64 {
                return Err(WebError::refused("the threshold must be at least one cell"));
            }
            Threshold::cells(cells.round() as u32)
        }
        (None, Some(area)) => {
            let area = number_within(area, "the threshold", -1e9..=1e9, "")?;
            let area = match form.unit.as_str() {
                "m2" => Area::m2(area),
                "ha" => Area::m2(area * 1e4),
                _ => Area::km2(area),
            };
            if area.as_m2() <= 0.0 {
                return Err(WebError::refused("the threshold must be greater than 0"));
            }
            Threshold::from_area(area, &terrain.frame)
        }
        (None, None) => return Err(WebError::refused("give a threshold")),
    };
    bothros_work::set_threshold(&app.store, &app.grids, study, threshold, true).await?;
    Ok(changed("threshold-changed"))
}

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

#[derive(Deserialize)]
pub struct Style {
    /// how the map is drawn, as JSON
    style: String,
}

/// Keeps how the map is drawn; it is the page's own affair what is in it.
pub async fn style(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Style>,
) -> Result<Response> {
    if form.style.len() > 10_000 {
        return Err(WebError::refused("the style is too long to be kept"));
    }
    let style: serde_json::Value =
        serde_json::from_str(&form.style).map_err(|_| WebError::refused("the style cannot be read"))?;
    change_settings(&app.store, study, |settings| {
        settings.style = style;
        Ok(())
    })
    .await?;
    Ok(StatusCode::NO_CONTENT.into_response())
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
        bothros_work::place_pour_point(&app.store, &app.grids, study, PourPointPlace { name, x, y }).await?;
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
    let new = bothros_work::place_pour_point(&app.store, &app.grids, study, new).await?;
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

pub async fn undo(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.study(study).await?;
    let Some(last) = app.store.take_last_change(study).await? else {
        return Err(WebError::refused("there is nothing left to undo"));
    };
    match last.inverse {
        Inverse::RemovePourPoint { id } => app.store.set_pour_point_deleted(study, id, true).await?,
        Inverse::RestorePourPoint { id } => app.store.set_pour_point_deleted(study, id, false).await?,
        Inverse::ChangePourPoint { id, name, x, y } => {
            let place = PourPointPlace { name, x, y };
            let new = bothros_work::place_pour_point(&app.store, &app.grids, study, place).await?;
            app.store.change_pour_point(study, id, new).await?;
        }
        Inverse::RemoveLayer { id } => app.store.set_layer_deleted(study, id, true).await?,
        Inverse::RestoreLayer { id } => app.store.set_layer_deleted(study, id, false).await?,
        Inverse::RemoveBackdrop { id } => app.store.set_backdrop_deleted(study, id, true).await?,
        Inverse::RestoreBackdrop { id } => app.store.set_backdrop_deleted(study, id, false).await?,
        Inverse::PlaceBackdrop { id, placing } => {
            bothros_work::put_backdrop_back(&app.store, study, id, placing).await?
        }
        Inverse::RemoveFeature { layer, feature } => {
            app.store.remove_feature(study, layer, feature).await?;
        }
        Inverse::RestoreFeature { layer, feature } => {
            app.store.restore_feature(study, layer, serde_json::from_value(feature)?).await?;
        }
        Inverse::Decide { barrier, decision, line } => {
            app.store.decide(study, barrier, decision.as_deref(), line).await?;
        }
        Inverse::SetSettings { settings } => {
            put_back_settings(&app.store, study, settings).await?;
            // Changes of streams by hand are among the settings: the network's figures follow.
            if let Some(network) = Facts::of(&app.store.study(study).await?)?.network {
                bothros_work::set_threshold(&app.store, &app.grids, study, network.threshold, false).await?;
            }
        }
        Inverse::Prepare { preparing } => {
            bothros_work::prepare(&app.store, study, bothros_store::kept::read(preparing)?, false).await?;
        }
        Inverse::SetSource { source } => {
            bothros_work::restore_source(&app.store, study, source).await?;
        }
        Inverse::RemoveTrial { id } => app.store.set_trial_deleted(study, id, true).await?,
        Inverse::RestoreTrial { id } => app.store.set_trial_deleted(study, id, false).await?,
        Inverse::ChooseTrial { id, justification, cells } => {
            app.store.choose_trial(study, id.map(|id| (id, justification))).await?;
            if let Some(cells) = cells {
                let threshold = Threshold::cells(cells);
                bothros_work::set_threshold(&app.store, &app.grids, study, threshold, false).await?;
            }
        }
        Inverse::SetThreshold { cells } => {
            bothros_work::set_threshold(&app.store, &app.grids, study, Threshold::cells(cells), false)
                .await?;
        }
    }
    app.store.log(study, "Study", &format!("Undone: {}", last.label), json!({}), Default::default()).await?;
    let mut headers = HeaderMap::new();
    let told = json!({ "study-changed": true, "points-changed": true, "undone": last.label }).to_string();
    // Names may hold letters that a header cannot.
    let ascii: String = told
        .chars()
        .map(|c| if c.is_ascii() { c.to_string() } else { format!("\\u{:04x}", c as u32 & 0xFFFF) })
        .collect();
    headers.insert("HX-Trigger", HeaderValue::from_str(&ascii).unwrap_or(HeaderValue::from_static(STUDY)));
    Ok((StatusCode::NO_CONTENT, headers).into_response())
}

pub async fn package(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    if facts.network.is_none() {
        return Err(WebError::refused("there is nothing to hand over yet: fill sinks and route flow first"));
    }
    app.store.enqueue(study, JobKind::Package, Kept::empty()).await?;
    Ok(changed(STUDY))
}

pub async fn cancel(State(app): State<App>, Path((study, job)): Path<(i64, i64)>) -> Result<Response> {
    if app.store.job(job).await?.study_id != study {
        return Err(WebError::nothing("this study has no such job"));
    }
    app.store.cancel_job(job).await?;
    Ok(StatusCode::NO_CONTENT.into_response())
}
