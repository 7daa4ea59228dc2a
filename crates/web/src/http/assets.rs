//! Scripts, styles and fonts, shipped inside the program.

use axum::extract::Path;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "assets/"]
struct Own;

#[derive(RustEmbed)]
#[folder = "vendor/"]
#[exclude = "test/*"]
#[exclude = "*.sh"]
struct Vendor;

/// The licences of what is shipped: name and text.
pub fn licences() -> Vec<(String, String)> {
    Vendor::iter()
        .filter_map(|path| {
            let name = path.strip_prefix("licences/")?.strip_suffix(".txt")?.to_owned();
            Some((name, String::from_utf8_lossy(&Vendor::get(&path)?.data).into_owned()))
        })
        .collect()
}

pub async fn serve(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let file = match path.strip_prefix("vendor/") {
        Some(rest) => Vendor::get(rest),
        None => Own::get(&path),
    };
    let Some(file) = file else { return (StatusCode::NOT_FOUND, "there is no such file").into_response() };
    let tag = format!(
        "\"{}\"",
        file.metadata.sha256_hash()[..8].iter().map(|b| format!("{b:02x}")).collect::<String>()
    );
    if headers.get(header::IF_NONE_MATCH).is_some_and(|t| t.as_bytes() == tag.as_bytes()) {
        return StatusCode::NOT_MODIFIED.into_response();
    }
    let kind = mime_guess::from_path(&path).first_or_octet_stream();
    let headers = [
        (header::CONTENT_TYPE, kind.to_string()),
        (header::ETAG, tag),
        (header::CACHE_CONTROL, "no-cache".into()),
    ];
    (headers, file.data.into_owned()).into_response()
}
