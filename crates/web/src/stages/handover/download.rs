//! Files from the store, piece by piece: whole or in ranges.

use std::ops::Range;
use std::time::{Duration, Instant};

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_store::{FileRole, PIECE, Store, StoredFile};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::range::range;

/// How long a file is kept after its last piece was requested, even if it is replaced.
const HELD: Duration = Duration::from_secs(180);
/// How often a reader's hold on the file is renewed.
const SAY_AGAIN: Duration = Duration::from_secs(30);

/// The bytes of a file in a range, while they are asked for.
fn pieces(store: Store, id: i64, wanted: Range<u64>) -> Body {
    let first = (wanted.start / PIECE as u64) as i32;
    let state = (store, first, Instant::now());
    Body::from_stream(futures::stream::try_unfold(state, move |(store, sequence, held)| {
        let wanted = wanted.clone();
        async move {
            let begins = sequence as u64 * PIECE as u64;
            if begins >= wanted.end {
                return Ok(None);
            }
            let held = match held.elapsed() > SAY_AGAIN {
                true => {
                    store.hold_file(id, HELD).await.map_err(std::io::Error::other)?;
                    Instant::now()
                }
                false => held,
            };
            let piece = store.file_piece(id, sequence).await.map_err(std::io::Error::other)?;
            // A file that ends early must not look whole.
            let piece = piece.ok_or_else(|| std::io::Error::other("the file ends early"))?;
            let from = wanted.start.saturating_sub(begins) as usize;
            let to = ((wanted.end - begins) as usize).min(piece.len());
            let part = piece.get(from..to).map(<[u8]>::to_vec);
            let part = part.ok_or_else(|| std::io::Error::other("the file ends early"))?;
            Ok::<_, std::io::Error>(Some((part, (store, sequence + 1, held))))
        }
    }))
}

/// The package that was written last.
pub async fn package(State(app): State<App>, Path(study): Path<i64>, asked: HeaderMap) -> Result<Response> {
    app.store.study(study).await?;
    let file = app.store.file(study, FileRole::Package).await?;
    let file = file.ok_or_else(|| WebError::nothing("the package has not been written yet"))?;
    sent(&app, file, ZIP, &asked).await
}

/// A package that is kept, by its number; its name tells when it was written.
pub async fn kept(
    State(app): State<App>,
    Path((study, id)): Path<(i64, i64)>,
    asked: HeaderMap,
) -> Result<Response> {
    app.store.study(study).await?;
    let mut file = app.store.kept_package(study, id).await?;
    let at = file.at.format("%Y-%m-%d_%H%M%S");
    file.name = format!("{}_{at}.zip", file.name.trim_end_matches(".zip"));
    sent(&app, file, ZIP, &asked).await
}

const ZIP: &str = "application/zip";

/// A file, whole or in part.
pub(crate) async fn sent(
    app: &App,
    file: StoredFile,
    media_type: &str,
    asked: &HeaderMap,
) -> Result<Response> {
    app.store.hold_file(file.id, HELD).await?;
    let tag = format!("\"{}\"", file.sha256);
    let header = |name| asked.get(name).and_then(|v| v.to_str().ok());
    if header(header::IF_NONE_MATCH) == Some(&tag) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    // A part of another version would not fit to what the client has.
    let same = header(header::IF_RANGE).is_none_or(|known| known == tag);
    let wanted = match range(header(header::RANGE).filter(|_| same), file.bytes) {
        Ok(wanted) => wanted,
        Err(()) => {
            let all = [(header::CONTENT_RANGE, format!("bytes */{}", file.bytes))];
            return Ok(
                (StatusCode::RANGE_NOT_SATISFIABLE, all, "the file is shorter than that").into_response()
            );
        }
    };
    let (status, part) = match &wanted {
        Some(part) => (StatusCode::PARTIAL_CONTENT, part.clone()),
        None => (StatusCode::OK, 0..file.bytes),
    };
    let headers = [
        (header::CONTENT_TYPE, media_type.to_owned()),
        (header::CONTENT_LENGTH, (part.end - part.start).to_string()),
        (header::ACCEPT_RANGES, "bytes".to_owned()),
        (header::ETAG, tag),
        (header::CACHE_CONTROL, "no-cache".to_owned()),
        // The name is made of lower-case letters, digits and underscores.
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{}\"", file.name)),
    ];
    let mut response = (status, headers, pieces(app.store.clone(), file.id, part.clone())).into_response();
    if wanted.is_some() {
        let told = format!("bytes {}-{}/{}", part.start, part.end - 1, file.bytes);
        if let Ok(value) = told.parse() {
            response.headers_mut().insert(header::CONTENT_RANGE, value);
        }
    }
    Ok(response)
}
