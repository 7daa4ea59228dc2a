//! Answers as JSON, and faults by RFC 7807.

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use crate::http::error::WebError;

/// Types of faults that the standard names.
const TYPES: &str = "http://www.opengis.net/def/exceptions/ogcapi-processes-1/1.0/";

/// What cannot be answered.
#[derive(Debug)]
pub struct Fault {
    pub status: StatusCode,
    /// the end of its type, where the standard names one
    pub kind: Option<&'static str>,
    pub message: String,
}

impl Fault {
    /// A request that cannot be carried out as it is.
    pub fn wrong(message: impl Into<String>) -> Self {
        Self { status: StatusCode::BAD_REQUEST, kind: None, message: message.into() }
    }

    pub fn no_process(name: &str) -> Self {
        let name: String = name.chars().take(60).collect();
        let message = format!("there is no process “{name}”; there is “recipe”");
        Self { status: StatusCode::NOT_FOUND, kind: Some("no-such-process"), message }
    }

    pub fn no_job() -> Self {
        let message = "there is no such job; it may have been dismissed".into();
        Self { status: StatusCode::NOT_FOUND, kind: Some("no-such-job"), message }
    }
}

impl<E: Into<WebError>> From<E> for Fault {
    fn from(error: E) -> Self {
        let WebError { status, message } = error.into();
        // What this service is asked for wrongly is said as the standard says it.
        let status =
            if status == StatusCode::UNPROCESSABLE_ENTITY { StatusCode::BAD_REQUEST } else { status };
        Self { status, kind: None, message }
    }
}

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let kind = self.kind.map_or("about:blank".into(), |end| format!("{TYPES}{end}"));
        let title = self.status.canonical_reason().unwrap_or("Error");
        let body =
            json!({ "type": kind, "title": title, "status": self.status.as_u16(), "detail": self.message });
        let headers =
            [(header::CONTENT_TYPE, "application/problem+json"), (header::CACHE_CONTROL, "no-store")];
        (self.status, headers, body.to_string()).into_response()
    }
}

pub type Answer = std::result::Result<Response, Fault>;

/// JSON that is not kept by anybody.
pub fn told(body: &Value) -> Response {
    let headers = [(header::CONTENT_TYPE, "application/json"), (header::CACHE_CONTROL, "no-store")];
    (headers, body.to_string()).into_response()
}

pub fn link(href: &str, rel: &str, kind: &str, title: &str) -> Value {
    json!({ "href": href, "rel": rel, "type": kind, "title": title })
}
