//! What pages are made of.

pub mod chart;
pub mod form;
pub mod quantity;
pub mod table;

use axum::response::{Html, IntoResponse, Response};

use crate::http::error::Result;

/// Makes the HTML of a template.
pub fn render(template: &impl askama::Template) -> Result<String> {
    Ok(template.render().map_err(std::io::Error::other)?)
}

/// Makes the page of a template.
pub fn page(template: &impl askama::Template) -> Result<Response> {
    Ok(Html(render(template)?).into_response())
}
