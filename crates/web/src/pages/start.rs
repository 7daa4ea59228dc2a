//! The start page: the studies, and a place to drop a DEM.

use std::time::Duration;

use askama::Template;
use axum::Extension;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_work::Facts;

use super::page;
use super::rail::{is_stale, package, stages};
use crate::App;
use crate::error::Result;
use crate::numbers;
use crate::security::Token;

/// How long a deleted study can be restored.
pub const RESTORE_WITHIN: Duration = Duration::from_secs(30 * 60);

struct Card {
    id: i64,
    name: String,
    description: String,
    size: String,
    state: String,
    running: bool,
    waiting: bool,
    stage: &'static str,
    changed: String,
    has_picture: bool,
    destroys: String,
}

struct Gone {
    id: i64,
    name: String,
    minutes: i64,
}

#[derive(Template)]
#[template(path = "start.html")]
struct Start {
    token: String,
    studies: Vec<Card>,
    deleted: Vec<Gone>,
    limit: String,
    limit_bytes: u64,
}

pub async fn start(State(app): State<App>, Extension(token): Extension<Token>) -> Result<Response> {
    let mut studies = Vec::new();
    for study in app.store.studies().await? {
        let facts = Facts::of(&study)?;
        let job = app.store.active_job(study.id).await?;
        let points = app.store.pour_points(study.id).await?.len();
        let stale = is_stale(&app.store, &facts).await?;
        let all = stages(&facts, points, job.as_ref(), None, package(&app, study.id).await?, stale);
        let running = job.as_ref().map(|j| j.title().to_owned());
        let last = all.iter().rev().find(|s| s.state == "done").unwrap_or(&all[0]);
        let size = match (&facts.terrain, &facts.source) {
            (Some(t), _) => format!(
                "{} × {} cells, {} {}",
                numbers::whole(t.frame.cols as u64),
                numbers::whole(t.frame.rows as u64),
                t.frame.cell_size,
                numbers::unit(&t.crs.unit)
            ),
            (None, Some(s)) => format!(
                "{} × {} cells",
                numbers::whole(s.info.cols as u64),
                numbers::whole(s.info.rows as u64)
            ),
            _ => "no DEM".into(),
        };
        studies.push(Card {
            id: study.id,
            has_picture: facts.source.as_ref().is_some_and(|s| s.summary.is_some()),
            destroys: format!(
                "its DEM, {}{points} pour points and its log",
                if facts.routing.is_some() { "its network, " } else { "" }
            ),
            name: study.name,
            description: study.description,
            size,
            running: running.is_some(),
            waiting: last.state != "done",
            state: running.unwrap_or_else(|| format!("{}: {}", last.name, last.fact)),
            stage: last.key,
            changed: study.updated_at.format("%-d %b %Y, %H:%M UTC").to_string(),
        });
    }
    let deleted = app
        .store
        .deleted_studies()
        .await?
        .into_iter()
        .filter_map(|study| {
            let gone = study.deleted_at?;
            let left = RESTORE_WITHIN.as_secs() as i64
                - (std::time::SystemTime::now().duration_since(gone.into()).unwrap_or_default().as_secs()
                    as i64);
            (left > 0).then_some(Gone { id: study.id, name: study.name, minutes: left / 60 + 1 })
        })
        .collect();
    let limit = app.options.upload_limit;
    page(&Start { token: token.0, studies, deleted, limit: numbers::bytes(limit), limit_bytes: limit })
}

#[derive(Template)]
#[template(path = "nowhere.html")]
struct Nowhere {
    token: String,
}

pub async fn nowhere(Extension(token): Extension<Token>) -> Result<Response> {
    Ok((StatusCode::NOT_FOUND, page(&Nowhere { token: token.0 })?).into_response())
}
