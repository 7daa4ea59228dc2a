//! What is done with formulas: kept, used.

use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::stages::catchments::rasters::Named;

/// A formula with its name.
#[derive(Deserialize)]
pub struct Kept {
    name: String,
    formula: String,
    /// the one whose place it takes
    #[serde(default)]
    earlier: String,
}

/// Keeps a formula.
pub async fn keep(State(app): State<App>, Path(study): Path<i64>, Form(of): Form<Kept>) -> Result<Response> {
    let earlier = Some(of.earlier.as_str()).filter(|e| !e.is_empty());
    bothros_workflow::keep_derived(&app.store, &app.grids, study, (&of.name, &of.formula), earlier).await?;
    Ok(changed(STUDY))
}

/// Takes a derived raster as it is now for the weights that are accumulated.
pub async fn weights(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(of): Form<Named>,
) -> Result<Response> {
    bothros_workflow::derived_as_weights(&app.store, &app.grids, study, &of.name).await?;
    Ok(changed(STUDY))
}

/// Begins with a derived raster as another DEM.
pub async fn dem(State(app): State<App>, Path(study): Path<i64>, Form(of): Form<Named>) -> Result<Response> {
    bothros_workflow::derived_as_dem(&app.store, &app.grids, study, &of.name).await?;
    Ok(changed(STUDY))
}

/// A derived raster as a GeoTIFF.
pub async fn file(State(app): State<App>, Path((study, name)): Path<(i64, String)>) -> Result<Response> {
    let nothing = || WebError::nothing("derived rasters are written as NAME.tif");
    let name = name.strip_suffix(".tif").ok_or_else(nothing)?;
    let facts = app.facts(study).await?;
    let dir = tempfile::tempdir().map_err(bothros_workflow::Error::from)?;
    let path = dir.path().join("raster.tif");
    bothros_workflow::write_derived(&app.store, &app.grids, &facts, name, &path).await?;
    let bytes = tokio::fs::read(&path).await.map_err(bothros_workflow::Error::from)?;
    let headers = [
        (header::CONTENT_TYPE, "image/tiff; application=geotiff".to_owned()),
        (
            header::CONTENT_DISPOSITION,
            format!("attachment; filename=\"{}_derived_{name}.tif\"", facts.short_name()),
        ),
        (header::CACHE_CONTROL, "no-store".into()),
    ];
    Ok((headers, bytes).into_response())
}
