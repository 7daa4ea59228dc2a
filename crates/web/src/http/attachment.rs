//! Answers that are kept as files.

use std::path::Path;

use axum::body::Body;
use axum::http::{HeaderName, header};
use axum::response::{IntoResponse, Response};
use tokio_util::io::ReaderStream;

use super::error::Result;

/// What an answer says that is kept as a file of a name.
pub(crate) fn attachment(kind: &str, name: &str) -> [(HeaderName, String); 3] {
    [
        (header::CONTENT_TYPE, kind.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
        (header::CACHE_CONTROL, "no-store".into()),
    ]
}

/// A zip that lies on the disk.
///
/// # Errors
/// Those of the disk.
pub(crate) async fn zip(path: &Path, name: &str) -> Result<Response> {
    // Open, it can be read to its end though its name is gone.
    let file = tokio::fs::File::open(path).await?;
    let length = [(header::CONTENT_LENGTH, file.metadata().await?.len().to_string())];
    let body = Body::from_stream(ReaderStream::new(file));
    Ok((attachment("application/zip", name), length, body).into_response())
}
