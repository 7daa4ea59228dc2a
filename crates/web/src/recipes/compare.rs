//! Two recipes held against each other.

use askama::Template;
use axum::extract::{Query, State};
use axum::response::Response;
use bothros_workflow::{Difference, RecipeOf, compare_recipes};
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::page;

#[derive(Deserialize)]
pub struct Asked {
    first: String,
    second: String,
}

#[derive(Template)]
#[template(path = "recipes/compared.html")]
struct Compared {
    first: String,
    second: String,
    found: Vec<Difference>,
}

/// `kept-3`, `study-2`
fn asked(text: &str) -> Result<RecipeOf> {
    let number = |n: &str| n.parse::<i64>().ok();
    let read = match text.split_once('-') {
        Some(("kept", n)) => number(n).map(RecipeOf::Kept),
        Some(("study", n)) => number(n).map(RecipeOf::Study),
        _ => None,
    };
    read.ok_or_else(|| WebError::refused("choose two recipes that are compared"))
}

pub async fn compare(State(app): State<App>, Query(query): Query<Asked>) -> Result<Response> {
    let (first, second) = (asked(&query.first)?, asked(&query.second)?);
    if first == second {
        return Err(WebError::refused("both are the same recipe: choose another"));
    }
    let of = compare_recipes(&app.store, first, second).await?;
    let [first, second] = of.names;
    page(&Compared { first, second, found: of.found })
}
