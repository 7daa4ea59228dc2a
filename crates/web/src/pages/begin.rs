//! The page on which a study begins from a boundary, and the sets of elevations offered on the desk.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_archive::Archive;

use super::page;
use crate::App;
use crate::error::Result;
use crate::numbers;
use crate::security::Token;

#[derive(Template)]
#[template(path = "begin.html")]
struct Begin {
    token: Token,
}

pub async fn begin(Extension(token): Extension<Token>) -> Result<Response> {
    page(&Begin { token })
}

#[derive(Template)]
#[template(path = "archive_sets.html")]
struct Sets {
    study: i64,
    host: String,
    sets: Vec<(String, String)>,
    problem: Option<String>,
}

/// What the archive has, as a form for another DEM of the study's area.
pub async fn archive_sets(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let mut sets = Sets { study, host: String::new(), sets: Vec::new(), problem: None };
    let Some(address) = &app.options.archive else {
        sets.problem = Some("This server was started without an elevation archive.".into());
        return page(&sets);
    };
    let archive = Archive::new(address)?;
    sets.host = archive.host();
    match archive.collections().await {
        Ok(all) => {
            let title = |c: bothros_archive::Collection| match c.resolution_m {
                Some(m) => (c.id, format!("{}, {} m", c.title, numbers::plain(m))),
                None => (c.id, c.title),
            };
            sets.sets = all.into_iter().map(title).collect();
        }
        Err(error) => sets.problem = Some(error.to_string()),
    }
    page(&sets)
}
