//! Keeps other sites out: a token that only our pages know, hosts, and what a page may load.

use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::{App, service};

const COOKIE: &str = "bothros_token";
const HEADER: &str = "x-bothros-token";

/// The token of a visitor, for the page that is made for them.
#[derive(Debug, Clone)]
pub struct Token {
    text: String,
    /// whether everybody who reaches the server may do everything, which each page says
    pub open_to_all: bool,
}

impl std::fmt::Display for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text)
    }
}

const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; \
    font-src 'self'; connect-src 'self'; worker-src 'self' blob:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

/// Checks each request and marks each answer.
///
/// A request that changes something must carry the visitor's token in a header, which a page of
/// another site cannot read. On loopback the host must be a loopback name too, since a foreign
/// name may be made to point here.
pub async fn guard(State(app): State<App>, mut request: Request, next: Next) -> Response {
    let headers = request.headers();
    if app.options.loopback_only {
        let host = headers.get(header::HOST).and_then(|h| h.to_str().ok()).unwrap_or("");
        let name = host
            .rsplit_once(':')
            .filter(|(_, port)| port.chars().all(|c| c.is_ascii_digit()))
            .map_or(host, |(n, _)| n);
        if !["localhost", "127.0.0.1", "[::1]"].contains(&name) {
            return (StatusCode::MISDIRECTED_REQUEST, "this server answers to localhost only")
                .into_response();
        }
    }
    let known = headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|c| c.to_str().ok())
        .flat_map(|c| c.split(';'))
        .filter_map(|c| c.trim().split_once('='))
        .find(|(name, value)| *name == COOKIE && value.len() == 32)
        .map(|(_, value)| value.to_owned());
    // Scripts have no page of ours: they are let in by the token of the service.
    let path = request.uri().path();
    let of_service =
        path == service::ROOT || path.strip_prefix(service::ROOT).is_some_and(|p| p.starts_with('/'));
    if of_service {
        let authorization =
            headers.get(header::AUTHORIZATION).and_then(|h| h.to_str().ok()).map(str::to_owned);
        if let Err(refused) = service::let_in(&app, authorization).await {
            return *refused;
        }
    }
    let headers = request.headers();
    let changes = !of_service && !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if changes {
        let given = headers.get(HEADER).and_then(|h| h.to_str().ok());
        if known.is_none() || given != known.as_deref() {
            let message =
                "this request did not come from a page of this server; reload the page and try again";
            return (StatusCode::FORBIDDEN, message).into_response();
        }
    }
    let token = known.clone().unwrap_or_else(|| uuid::Uuid::new_v4().simple().to_string());
    let open_to_all = !app.options.loopback_only;
    request.extensions_mut().insert(Token { text: token.clone(), open_to_all });
    let mut response = match changes {
        // A change is finished even if the client disconnects before the answer.
        true => match tokio::spawn(next.run(request)).await {
            Ok(response) => response,
            Err(error) => {
                tracing::error!(%error, "a request ended unexpectedly");
                (StatusCode::INTERNAL_SERVER_ERROR, "the server could not do this; nothing is known of why")
                    .into_response()
            }
        },
        false => next.run(request).await,
    };
    let headers = response.headers_mut();
    if known.is_none()
        && let Ok(cookie) =
            HeaderValue::from_str(&format!("{COOKIE}={token}; Path=/; SameSite=Strict; HttpOnly"))
    {
        headers.append(header::SET_COOKIE, cookie);
    }
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::X_FRAME_OPTIONS, "DENY"),
        (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    response
}
