//! The package, piece by piece from the store.

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_store::FileRole;

use crate::App;
use crate::error::{Result, WebError};

pub async fn package(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.study(study).await?;
    let file = app.store.file(study, FileRole::Package).await?;
    let file = file.ok_or_else(|| WebError::nothing("the package has not been written yet"))?;
    let (store, id) = (app.store.clone(), file.id);
    let pieces = futures::stream::try_unfold(0, move |sequence| {
        let store = store.clone();
        async move {
            let piece = store.file_piece(id, sequence).await.map_err(std::io::Error::other)?;
            Ok::<_, std::io::Error>(piece.map(|piece| (piece, sequence + 1)))
        }
    });
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_owned()),
        (header::CONTENT_LENGTH, file.bytes.to_string()),
        // The name is made of lower-case letters, digits and underscores.
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{}\"", file.name)),
    ];
    Ok((headers, Body::from_stream(pieces)).into_response())
}
