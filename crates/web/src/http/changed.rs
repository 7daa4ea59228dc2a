//! Tells the page what has changed.

use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};

/// Sends the page an htmx event that names what has changed.
pub(crate) fn changed(what: &'static str) -> Response {
    let mut headers = HeaderMap::new();
    headers.insert("HX-Trigger", HeaderValue::from_static(what));
    (StatusCode::NO_CONTENT, headers).into_response()
}

pub(crate) const STUDY: &str = "study-changed";
