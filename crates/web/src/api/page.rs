//! Answers as pages for people.

use askama::Template;
use axum::response::IntoResponse;

use super::answer::{Answered, Fault};

/// A text, perhaps with where it leads.
#[derive(Debug, Clone, Default)]
pub struct Entry {
    pub href: String,
    pub text: String,
    pub about: String,
}

impl Entry {
    pub fn new(href: impl Into<String>, text: &str) -> Self {
        Self { href: href.into(), text: text.to_owned(), about: String::new() }
    }

    pub fn text(text: &str) -> Self {
        Self::new("", text)
    }
}

/// A page of links and a table.
#[derive(Template, Default)]
#[template(path = "api/page.html")]
pub struct Page {
    pub title: String,
    pub about: String,
    /// the same as JSON
    pub json: String,
    /// address and title of the page above
    pub up: Option<(String, String)>,
    pub entries: Vec<Entry>,
    pub heads: Vec<String>,
    pub rows: Vec<Vec<Entry>>,
    pub previous: Option<String>,
    pub next: Option<String>,
}

/// A page.
///
/// # Errors
/// Never: all that it holds is text.
pub fn page(of: Page) -> Answered {
    let html = of.render().map_err(|e| Fault::from(crate::http::error::WebError::outside(e.to_string())))?;
    Ok(axum::response::Html(html).into_response())
}
