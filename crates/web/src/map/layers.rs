//! Layers: added from files, shown, drawn, reshaped, deleted.

use axum::Json;
use axum::extract::{Multipart, Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_core::conditioning::Line;
use bothros_formats::Error as FormatError;
use bothros_products::Quantity;
use bothros_store::{Layer, LayerRole, LayerShape, Shape};
use bothros_workflow::{Drawn, NewLayer};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::upload::{receive_layer, told};
use crate::map::measure::read_line;
use crate::stages::conditioning::actions::prepared;
use crate::ui::form::Number;

const LAYERS: &str = "layers-changed";

/// Takes `role`, any number of `file` parts (all parts of a shapefile at once), and where they come from.
pub async fn add_layer(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    prepared(&app, study).await?;
    let received = receive_layer(form, app.options.upload_limit).await?;
    let text = |key: &str| received.text(key);
    let (file, path) = (received.file.clone(), received.path.clone());
    let role =
        LayerRole::from_name(&text("role")).ok_or_else(|| WebError::refused("say what the layer is"))?;
    let layer = Some(text("layer")).filter(|l| !l.is_empty());
    let (source, date, scale, licence) = (text("source"), text("date"), text("scale"), text("licence"));
    let crs = Some(text("crs")).filter(|c| !c.trim().is_empty());
    let new = NewLayer { role, file, path, layer, crs, source, date, scale, licence };
    let added = match bothros_workflow::add_layer_or_queue(&app.store, study, new).await {
        Err(bothros_workflow::Error::Formats(FormatError::LayerWithoutCrs { name, extent })) => {
            return ask_for_crs(&app, study, &name, extent).await;
        }
        other => other?,
    };
    Ok(match added {
        Some(added) => told(changed(LAYERS), &added.told),
        None => told(changed(STUDY), "The file is large: it is being read, with progress at the bottom"),
    })
}

/// Asks for the CRS of a file that does not state it, and offers those in which it would overlap the study.
async fn ask_for_crs(app: &App, study: i64, name: &str, extent: [f64; 4]) -> Result<Response> {
    let facts = app.facts(study).await?;
    let fit = bothros_workflow::blocking(move || bothros_workflow::crs_that_fit(&facts, extent)).await?;
    let fit: Vec<Value> = fit
        .iter()
        .filter_map(|crs| crs.epsg.map(|code| json!({ "crs": format!("EPSG:{code}"), "label": crs.label() })))
        .collect();
    let text = match fit.is_empty() {
        true => format!(
            "{name} does not tell its CRS, and in none that is common here would it lie on the study: type its code."
        ),
        false => format!(
            "{name} does not tell its CRS. In these it would lie on the study; choose the one its coordinates are in."
        ),
    };
    Ok((StatusCode::CONFLICT, Json(json!({ "asks": "crs", "text": text, "fit": fit }))).into_response())
}

pub async fn delete_layer(
    State(app): State<App>,
    Path((study, layer)): Path<(i64, i64)>,
) -> Result<Response> {
    bothros_workflow::remove_layer(&app.store, study, layer).await?;
    Ok(changed(LAYERS))
}

/// A part of the map, coordinates of the study.
#[derive(Deserialize)]
pub struct View {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
}

/// Features sent at once; a closer view shows the rest.
const MOST_FEATURES: usize = 5000;

/// The features in view.
pub async fn layers(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let layers = app.store.layers(study).await?;
    // What the analyst gave comes before what was computed.
    let given = |l: &&Layer| l.role != LayerRole::Provisional;
    let mut out = Vec::new();
    let mut complete = true;
    for kind in [true, false] {
        let mut seen = Vec::new();
        for layer in layers.iter().filter(|l| given(l) == kind) {
            let features = app.layers.get(&app.store, &facts, layer).await?;
            let within = features.within([view.west, view.south, view.east, view.north]);
            seen.extend(within.map(|(at, size)| (size, layer, features.clone(), at)));
        }
        if seen.len() > MOST_FEATURES {
            // From afar the large ones are seen.
            complete = false;
            seen.select_nth_unstable_by(MOST_FEATURES, |a, b| b.0.total_cmp(&a.0));
            seen.truncate(MOST_FEATURES);
        }
        for (_, layer, features, at) in seen {
            let feature = &features.features[at];
            out.push(json!({ "role": layer.role.name(), "name": feature.name, "shape": feature.shape,
                "layer": layer.id, "id": feature.id, "elevation": feature.elevation }));
        }
    }
    let mut roles: Vec<[&str; 2]> = Vec::new();
    for layer in layers.iter().filter(given) {
        let role = [layer.role.name(), layer.role.title()];
        if !roles.contains(&role) {
            roles.push(role);
        }
    }
    Ok(Json(json!({ "features": out, "complete": complete, "roles": roles })))
}

#[derive(Deserialize)]
pub struct Drawing {
    role: String,
    /// a list of `[x, y]` as JSON
    line: String,
    #[serde(default)]
    name: String,
    /// metres, where the role needs one
    #[serde(default)]
    elevation: String,
}

/// An elevation of the ground.
const ELEVATION: Number = Number::new("the elevation", Quantity::Elevation, -12_000.0, 10_000.0);

/// A closed ring with an area, as it was drawn.
fn read_ring(text: &str) -> Result<Line> {
    let mut ring = read_line(text)?;
    if ring.first() != ring.last() {
        ring.extend(ring.first().copied());
    }
    let twice: f64 = ring.windows(2).map(|w| w[0][0] * w[1][1] - w[1][0] * w[0][1]).sum();
    if ring.len() < 4 || twice == 0.0 {
        return Err(WebError::refused("a polygon needs three corners that do not lie on one line"));
    }
    Ok(ring)
}

pub async fn draw(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Drawing>,
) -> Result<Response> {
    prepared(&app, study).await?;
    let role = LayerRole::from_name(&form.role).ok_or_else(|| WebError::refused("say what is drawn"))?;
    let elevation = match role.has_elevation() {
        true => Some(ELEVATION.read(&form.elevation)?),
        false => None,
    };
    let name = Some(form.name.trim().chars().take(60).collect::<String>()).filter(|n| !n.is_empty());
    let shape = match role.shape() {
        LayerShape::Lines => Shape::Line(read_line(&form.line)?),
        LayerShape::PointsOrPolygons
            if serde_json::from_str::<Line>(&form.line).is_ok_and(|line| line.len() > 1) =>
        {
            Shape::Polygons(vec![vec![read_ring(&form.line)?]])
        }
        LayerShape::Points | LayerShape::PointsOrPolygons => {
            let place: Line = serde_json::from_str(&form.line).unwrap_or_default();
            Shape::Point(*place.first().ok_or_else(|| WebError::refused("click where it is"))?)
        }
        LayerShape::Polygons => Shape::Polygons(vec![vec![read_ring(&form.line)?]]),
    };
    let new = Drawn { role, name, elevation, shape };
    bothros_workflow::draw(&app.store, study, new).await?;
    Ok(changed(LAYERS))
}

#[derive(Deserialize)]
pub struct Reshaped {
    /// the new shape as JSON; empty to delete the feature
    #[serde(default)]
    shape: String,
}

/// Gives a feature another shape, or deletes it.
pub async fn reshape(
    State(app): State<App>,
    Path((study, layer, feature)): Path<(i64, i64, u32)>,
    Form(form): Form<Reshaped>,
) -> Result<Response> {
    prepared(&app, study).await?;
    let shape = match form.shape.as_str() {
        "" => None,
        text => Some(serde_json::from_str(text).map_err(|_| WebError::refused("the shape cannot be read"))?),
    };
    bothros_workflow::reshape(&app.store, study, layer, feature, shape).await?;
    Ok(changed(LAYERS))
}
