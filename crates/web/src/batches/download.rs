//! What a batch hands out: its table, one package of all runs, a run's recipe and files.

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_store::{BatchFile, Store};
use bothros_workflow::{batch_csv, write_batch_package};

use crate::App;
use crate::http::attachment::{self, attachment};
use crate::http::error::{Result, WebError};

/// runs.csv.
pub async fn csv(State(app): State<App>, Path(batch): Path<i64>) -> Result<Response> {
    let batch = app.store.batch(batch).await?;
    let runs = app.store.runs(batch.id).await?;
    let text = batch_csv(&batch, &runs)?;
    Ok((attachment("text/csv; charset=utf-8", "runs.csv"), text).into_response())
}

/// All results in one zip.
pub async fn package(State(app): State<App>, Path(batch): Path<i64>) -> Result<Response> {
    let batch = app.store.batch(batch).await?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("batch.zip");
    write_batch_package(&app.store, &batch, &path).await?;
    attachment::zip(&path, &format!("batch_{}.zip", batch.id)).await
}

/// The recipe of a run.
pub async fn recipe(State(app): State<App>, Path((batch, run)): Path<(i64, i64)>) -> Result<Response> {
    let run = app.store.run(run).await?;
    if run.batch_id != batch {
        return Err(WebError::nothing("this batch has no such run"));
    }
    let name = format!("{}_recipe.toml", run.name);
    Ok((attachment("application/toml", &name), run.recipe).into_response())
}

/// A file that a run wrote.
pub async fn file(
    State(app): State<App>,
    Path((batch, run, name)): Path<(i64, i64, String)>,
) -> Result<Response> {
    let found = app.store.batch_files(batch, Some(run)).await?.into_iter().find(|f| f.name == name);
    let found = found.ok_or_else(|| WebError::nothing(format!("this run has no file {name}")))?;
    let length = [(header::CONTENT_LENGTH, found.bytes.to_string())];
    Ok((attachment(media_type(&name), &name), length, pieces(app.store.clone(), found)).into_response())
}

/// The media type of a result by its name.
pub(crate) fn media_type(name: &str) -> &'static str {
    match name.rsplit_once('.').map(|(_, end)| end) {
        Some("tif") => "image/tiff; application=geotiff; profile=cloud-optimized",
        Some("gpkg") => "application/geopackage+sqlite3",
        Some("csv") => "text/csv",
        Some("json") => "application/json",
        Some("zip") => "application/zip",
        Some("pdf") => "application/pdf",
        Some("svg") => "image/svg+xml",
        Some("png") => "image/png",
        Some("html") => "text/html",
        _ => "application/octet-stream",
    }
}

/// The bytes of a file of a batch.
pub(crate) fn pieces(store: Store, file: BatchFile) -> Body {
    Body::from_stream(futures::stream::try_unfold((store, 0i32), move |(store, sequence)| async move {
        let piece = store.batch_file_piece(file.id, sequence).await.map_err(std::io::Error::other)?;
        Ok::<_, std::io::Error>(piece.map(|piece| (piece, (store, sequence + 1))))
    }))
}
