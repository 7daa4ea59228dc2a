//! Answers in the form that a client asks for, with addresses that it can follow.

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use crate::http::error::WebError;

pub const JSON: &str = "application/json";
pub const GEOJSON: &str = "application/geo+json";
pub const HTML: &str = "text/html";

/// The form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// JSON, or GeoJSON
    Json,
    /// a page for people
    Html,
}

impl Form {
    /// The form that is asked for: by `f`, or else by the header Accept; JSON where neither says.
    ///
    /// # Errors
    /// A fault of the client for an `f` that is none of them.
    pub fn of(f: Option<&str>, headers: &HeaderMap) -> Result<Self, Fault> {
        match f {
            Some("json") => return Ok(Self::Json),
            Some("html") => return Ok(Self::Html),
            Some(other) => return Err(Fault::wrong(format!("f is json or html, not {}", short(other)))),
            None => {}
        }
        let accept = headers.get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let place = |kind: &str| accept.find(kind).unwrap_or(usize::MAX);
        let html = place("text/html");
        Ok(if html < place("json") && html != usize::MAX { Self::Html } else { Self::Json })
    }
}

/// A text of a client, short enough to be told.
pub fn short(text: &str) -> String {
    text.chars().take(60).collect()
}

/// What cannot be answered, as JSON.
#[derive(Debug)]
pub struct Fault {
    pub status: StatusCode,
    pub message: String,
}

impl Fault {
    /// A request that cannot be understood.
    pub fn wrong(message: impl Into<String>) -> Self {
        Self { status: StatusCode::BAD_REQUEST, message: message.into() }
    }

    /// Something that is not there.
    pub fn nothing(message: impl Into<String>) -> Self {
        Self { status: StatusCode::NOT_FOUND, message: message.into() }
    }
}

impl<E: Into<WebError>> From<E> for Fault {
    fn from(error: E) -> Self {
        let error = error.into();
        // Parameters of this interface are checked before; what is refused now is not there yet.
        let status = match error.status {
            StatusCode::UNPROCESSABLE_ENTITY => StatusCode::NOT_FOUND,
            other => other,
        };
        Self { status, message: error.message }
    }
}

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let body = json!({ "code": self.status.as_str(), "description": self.message });
        answer(self.status, JSON, &body)
    }
}

/// The result of a request.
pub type Answered = Result<Response, Fault>;

/// An answer in JSON.
pub fn answer(status: StatusCode, kind: &str, body: &Value) -> Response {
    (status, [(header::CONTENT_TYPE, kind.to_owned())], body.to_string()).into_response()
}

/// A good answer in JSON.
pub fn json(body: &Value) -> Answered {
    Ok(answer(StatusCode::OK, JSON, body))
}

/// The address that the client knows this server by.
#[derive(Debug, Clone)]
pub struct Base(pub String);

impl<S: Sync> FromRequestParts<S> for Base {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        let host = parts.headers.get(header::HOST).and_then(|h| h.to_str().ok());
        let host = host.or_else(|| parts.uri.authority().map(axum::http::uri::Authority::as_str));
        Ok(Self(format!("http://{}", host.unwrap_or("localhost"))))
    }
}

/// A link.
pub fn link(rel: &str, href: impl Into<String>, kind: &str, title: &str) -> Value {
    json!({ "rel": rel, "href": href.into(), "type": kind, "title": title })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(None, "", Form::Json)]
    #[case(None, "*/*", Form::Json)]
    #[case(None, "text/html,application/xhtml+xml,*/*;q=0.8", Form::Html)]
    #[case(None, "application/geo+json, text/html", Form::Json)]
    #[case(Some("json"), "text/html", Form::Json)]
    #[case(Some("html"), "application/json", Form::Html)]
    fn the_form_is_as_asked(#[case] f: Option<&str>, #[case] accept: &str, #[case] expected: Form) {
        let mut headers = HeaderMap::new();
        headers.insert(header::ACCEPT, accept.parse().unwrap());
        assert_eq!(Form::of(f, &headers).unwrap(), expected);
        assert!(Form::of(Some("xml"), &headers).is_err());
    }
}
