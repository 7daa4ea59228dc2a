//! The batches, and the form that begins one.

use askama::Template;
use axum::Extension;
use axum::extract::{Query, State};
use axum::response::Response;
use bothros_store::BatchHead;
use bothros_workflow::{VARIED, Varied};
use serde::Deserialize;

use super::begin::ROWS;
use crate::App;
use crate::http::error::Result;
use crate::http::security::Token;
use crate::ui::{page, quantity};

/// A batch in the list.
struct Listed {
    id: i64,
    name: String,
    begun: String,
    state: String,
    active: bool,
    by_service: bool,
}

impl Listed {
    fn of(head: BatchHead) -> Self {
        Self {
            id: head.id,
            begun: head.created_at.format("%-d %b %Y, %H:%M UTC").to_string(),
            state: standing(&head),
            active: head.active > 0,
            by_service: head.made_by == "service",
            name: head.name,
        }
    }
}

/// How far a batch is, in words.
pub(super) fn standing(head: &BatchHead) -> String {
    let mut told = format!("{} of {}", head.done, quantity::count(head.runs as u64, "run done", "runs done"));
    if head.failed > 0 {
        told += &format!(", {} failed", head.failed);
    }
    if head.active > 0 {
        told += &format!(", {} to do", head.active);
    }
    let stopped = head.runs - head.done - head.failed - head.active;
    if stopped > 0 {
        told += &format!(", {stopped} stopped");
    }
    told
}

#[derive(Template)]
#[template(path = "batches/list.html")]
struct List {
    token: Token,
    batches: Vec<Listed>,
    studies: Vec<(i64, String)>,
    chosen: Option<i64>,
    varied: &'static [Varied],
    rows: Vec<usize>,
    limit: String,
    /// where the service for scripts is, and what lets them in
    service: &'static str,
    service_token: String,
}

impl List {
    fn is_chosen(&self, study: &i64) -> bool {
        self.chosen == Some(*study)
    }
}

#[derive(Deserialize)]
pub struct Chosen {
    study: Option<i64>,
}

pub async fn list(
    State(app): State<App>,
    Query(query): Query<Chosen>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let batches = app.store.batches().await?.into_iter().map(Listed::of).collect();
    let studies = app.with_networks().await?;
    page(&List {
        token,
        batches,
        studies,
        chosen: query.study,
        varied: &VARIED,
        rows: (1..=ROWS).collect(),
        limit: quantity::bytes(app.options.upload_limit),
        service: crate::service::ROOT,
        service_token: app.store.service_token(false).await?,
    })
}
