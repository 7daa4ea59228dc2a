//! Who is let in: requests that carry the token.

use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use sha2::{Digest, Sha256};

use super::answer::Fault;
use crate::App;
use crate::http::changed::changed;
use crate::http::error::Result;

/// Where the service is.
pub const ROOT: &str = "/service";

/// Whether a request with this header may go on; what is answered where it may not.
///
/// # Errors
/// The answer: 401 without the token.
pub async fn let_in(app: &App, authorization: Option<String>) -> std::result::Result<(), Box<Response>> {
    let given = authorization.as_deref().and_then(|text| text.split_once(' '));
    let given = given.filter(|(how, _)| how.eq_ignore_ascii_case("bearer"));
    let refused = |fault: Fault| {
        let mut answer = fault.into_response();
        answer.headers_mut().insert(header::WWW_AUTHENTICATE, header::HeaderValue::from_static("Bearer"));
        Err(Box::new(answer))
    };
    let token = match app.store.service_token(false).await {
        Ok(token) => token,
        Err(error) => return refused(error.into()),
    };
    // Of equal length whatever was given, so that time tells nothing of it.
    let same = |text: &str| Sha256::digest(text.trim()) == Sha256::digest(&token);
    if given.is_some_and(|(_, text)| same(text)) {
        return Ok(());
    }
    refused(Fault {
        status: StatusCode::UNAUTHORIZED,
        kind: None,
        message: "say Authorization: Bearer and the token, which the page of batches tells".into(),
    })
}

/// Makes another token; the one before is no longer good.
pub async fn anew(State(app): State<App>) -> Result<Response> {
    app.store.service_token(true).await?;
    Ok(changed("token-changed"))
}
