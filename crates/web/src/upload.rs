//! A DEM on its way in: streamed to disk, looked at, made a study of.

use axum::Json;
use axum::extract::multipart::{Field, MultipartError};
use axum::extract::{Multipart, State};
use axum::http::StatusCode;
use bothros_work::NewStudy;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;

use crate::App;
use crate::error::{Result, WebError};

pub(crate) fn broken_off(error: MultipartError) -> WebError {
    if error.status() == StatusCode::PAYLOAD_TOO_LARGE {
        return WebError {
            status: StatusCode::PAYLOAD_TOO_LARGE,
            message: "the upload is larger than this server accepts".into(),
        };
    }
    WebError {
        status: StatusCode::BAD_REQUEST,
        message: "the upload was broken off; nothing was kept. Try again".into(),
    }
}

/// Writes a part of the request to disk, `limit` bytes at most.
pub(crate) async fn keep(mut field: Field<'_>, path: &std::path::Path, limit: u64) -> Result<u64> {
    let mut file = tokio::fs::File::create(path).await?;
    let mut bytes = 0;
    while let Some(piece) = field.chunk().await.map_err(broken_off)? {
        bytes += piece.len() as u64;
        if bytes > limit {
            let message = format!(
                "the file is larger than {}, the most this server accepts; crop it, or raise the limit with BOTHROS_UPLOAD_LIMIT_MB",
                crate::numbers::bytes(limit)
            );
            return Err(WebError { status: StatusCode::PAYLOAD_TOO_LARGE, message });
        }
        file.write_all(&piece).await?;
    }
    file.flush().await?;
    Ok(bytes)
}

/// Takes `dem` (the file), `prj` (a .prj beside an ASCII grid) and `name`; answers with the address of
/// the new study. Whatever goes wrong, nothing is kept.
pub async fn create(State(app): State<App>, mut form: Multipart) -> Result<Json<Value>> {
    let dir = tempfile::tempdir()?;
    let (mut dem, mut projection, mut name, mut description) = (None, None, String::new(), String::new());
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        match field.name().unwrap_or_default() {
            "dem" => {
                let given = field.file_name().unwrap_or("dem").to_owned();
                let given =
                    given.rsplit(['/', '\\']).next().unwrap_or("dem").chars().take(120).collect::<String>();
                let ascii = given.to_lowercase().ends_with(".asc") || given.to_lowercase().ends_with(".txt");
                // The name on disk is ours.
                let path = dir.path().join(if ascii { "dem.asc" } else { "dem.tif" });
                if keep(field, &path, app.options.upload_limit).await? == 0 {
                    return Err(WebError::refused(format!("{given} is empty; choose another file")));
                }
                dem = Some((given, path));
            }
            "prj" => {
                let path = dir.path().join("dem.prj");
                keep(field, &path, 1 << 20).await?;
                projection = Some(path);
            }
            "name" => name = field.text().await.map_err(broken_off)?,
            "description" => description = field.text().await.map_err(broken_off)?,
            _ => {}
        }
    }
    let (file, path) = dem.ok_or_else(|| WebError::refused("choose a DEM: a GeoTIFF or an ASCII grid"))?;
    let name = match name.trim() {
        "" => file.rsplit_once('.').map_or(file.as_str(), |(stem, _)| stem).to_owned(),
        name => name.chars().take(80).collect(),
    };
    let new = NewStudy {
        name: &name,
        description: description.trim(),
        file: &file,
        path: &path,
        projection: projection.as_deref(),
    };
    let (study, _) = bothros_work::begin_study(&app.store, new).await?;
    Ok(Json(json!({ "location": format!("/studies/{}/?stage=terrain", study.id) })))
}
