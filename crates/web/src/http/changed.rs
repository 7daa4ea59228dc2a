//! Tells the page what has changed.

use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};

/// Tells the page what has changed, by an htmx event.
pub(crate) fn changed(what: &'static str) -> Response {
    let mut headers = HeaderMap::new();
    headers.insert("HX-Trigger", HeaderValue::from_static(what));
    (StatusCode::NO_CONTENT, headers).into_response()
}

pub(crate) const STUDY: &str = "study-changed";
