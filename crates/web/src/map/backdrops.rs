//! Pictures behind the map: added, shown, placed by points, removed.

use axum::Json;
use axum::extract::{Multipart, Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_core::{TiePoint, place_picture};
use bothros_workflow::{NewPicture, PicturePlace, Provenance};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::text_of;
use crate::http::upload::{broken_off, given_name, keep, told};
use crate::stages::conditioning::actions::prepared;

/// The name on disk of a picture or its world file; what the user calls it never becomes a path.
fn name_on_disk(given: &str) -> Option<&'static str> {
    let ending = given.rsplit_once('.')?.1.to_lowercase();
    Some(match ending.as_str() {
        "tif" | "tiff" => "picture.tif",
        "png" => "picture.png",
        "jpg" | "jpeg" => "picture.jpg",
        "tfw" | "tifw" => "picture.tfw",
        "pgw" | "pngw" => "picture.pgw",
        "jgw" | "jpgw" => "picture.jgw",
        "wld" => "picture.wld",
        _ => return None,
    })
}

/// Takes a `picture` (and its world file) and where it comes from.
pub async fn add(State(app): State<App>, Path(study): Path<i64>, mut form: Multipart) -> Result<Response> {
    prepared(&app, study).await?;
    let dir = tempfile::tempdir()?;
    let mut picture = None;
    let mut provenance = Provenance::default();
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        let key = field.name().unwrap_or_default().to_owned();
        let given = given_name(&field);
        if given.is_empty() {
            let text = text_of(field, &key).await?;
            match key.as_str() {
                "source" => provenance.source = text,
                "date" => provenance.date = text,
                "scale" => provenance.scale = text,
                "licence" => provenance.licence = text,
                _ => {}
            }
            continue;
        }
        let on_disk = name_on_disk(&given).ok_or_else(|| {
            WebError::refused(format!(
                "{given} is no picture that can be shown: choose a GeoTIFF, PNG or JPEG, with its world file where it has one"
            ))
        })?;
        let path = dir.path().join(on_disk);
        keep(field, &path, app.options.upload_limit).await?;
        if !on_disk.ends_with('w') && !on_disk.ends_with(".wld") {
            picture = Some((given, path));
        }
    }
    let (file, path) = picture.ok_or_else(|| WebError::refused("choose a picture"))?;
    let text =
        bothros_workflow::add_backdrop(&app.store, study, NewPicture { file, path, provenance }).await?;
    Ok(told(changed(STUDY), &text))
}

/// The pictures, with their extents on the map where they are placed.
pub async fn list(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let mut out = Vec::new();
    for backdrop in app.store.backdrops(study).await? {
        let place = PicturePlace::of(&backdrop)?;
        let extent = match (&place, &facts.terrain) {
            (Some(place), Some(terrain)) => Some(place.extent(&backdrop, &terrain.crs)?),
            _ => None,
        };
        out.push(json!({ "id": backdrop.id, "name": backdrop.name, "width": backdrop.width, "height": backdrop.height,
            "version": backdrop.version, "extent": extent, "points": place.as_ref().map(|p| &p.points),
            "rms": place.as_ref().and_then(|p| p.rms) }));
    }
    Ok(Json(Value::Array(out)))
}

/// The headers of a picture; `None` where the browser has it already.
fn headers(asked: &HeaderMap, tag: String) -> Option<[(header::HeaderName, String); 3]> {
    if asked.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return None;
    }
    Some([
        (header::CONTENT_TYPE, "image/png".to_owned()),
        (header::ETAG, tag),
        (header::CACHE_CONTROL, "no-cache".to_owned()),
    ])
}

/// A georeferenced picture, north up.
pub async fn laid(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    asked: HeaderMap,
) -> Result<Response> {
    let backdrop = app.store.backdrop(study, id).await?;
    let facts = app.facts(study).await?;
    let crs = facts.terrain.as_ref().map_or(String::new(), |t| t.crs.label());
    let crs: String = crs.chars().filter(char::is_ascii_alphanumeric).collect();
    let Some(headers) = headers(&asked, format!("\"backdrop-{id}-{}-{crs}\"", backdrop.version)) else {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    };
    Ok((headers, bothros_workflow::laid_backdrop(&app.store, study, id).await?).into_response())
}

/// A picture as it was given.
pub async fn plain(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    asked: HeaderMap,
) -> Result<Response> {
    app.store.backdrop(study, id).await?;
    let Some(headers) = headers(&asked, format!("\"picture-{id}\"")) else {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    };
    Ok((headers, app.store.backdrop_picture(id).await?).into_response())
}

/// Points of a picture on the ground; kept, or only tried.
#[derive(Deserialize)]
pub struct Points {
    points: Vec<TiePoint>,
    #[serde(default)]
    keep: bool,
}

/// What points make of a picture's place: residuals.
pub async fn place(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    Json(form): Json<Points>,
) -> Result<Json<Value>> {
    let placed = match form.keep {
        true => bothros_workflow::place_backdrop(&app.store, study, id, form.points).await?,
        false => place_picture(&form.points)?,
    };
    Ok(Json(
        json!({ "residuals": placed.residuals, "rms": placed.rms, "geo_transform": placed.geo_transform }),
    ))
}

pub async fn remove(State(app): State<App>, Path((study, id)): Path<(i64, i64)>) -> Result<Response> {
    bothros_workflow::remove_backdrop(&app.store, study, id).await?;
    Ok(changed(STUDY))
}
