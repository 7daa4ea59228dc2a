//! The start page: the studies, and a place to drop a DEM.

use std::collections::HashMap;
use std::time::Duration;

use askama::Template;
use axum::Extension;
use axum::Json;
use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_store::{Barrier, Job, Layer, Store};
use bothros_workflow::{Facts, conditioning_key_of};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;
use crate::http::security::Token;
use crate::shell::rail::{StageState, Standing, is_stale_by, stages};
use crate::ui::page;
use crate::ui::quantity;

/// How long a deleted study can be restored.
pub const RESTORE_WITHIN: Duration = Duration::from_secs(30 * 60);

struct Card {
    id: i64,
    name: String,
    description: String,
    changed: String,
    shown: Shown,
}

/// Summary of a study.
enum Shown {
    /// progress
    Known {
        size: String,
        state: String,
        running: bool,
        waiting: bool,
        stage: &'static str,
        has_picture: bool,
        destroys: String,
    },
    /// why it cannot be read
    Unreadable(String),
}

struct Gone {
    id: i64,
    name: String,
    minutes: i64,
}

#[derive(Template)]
#[template(path = "shell/start.html")]
struct Start {
    token: Token,
    studies: Vec<Card>,
    deleted: Vec<Gone>,
    limit: String,
    limit_bytes: u64,
    /// the kept recipe that the study is to begin with
    recipe: Option<(i64, String)>,
}

/// Summaries of all studies, fetched in one query.
struct Gathered {
    jobs: HashMap<i64, Job>,
    points: HashMap<i64, usize>,
    layers: HashMap<i64, Vec<Layer>>,
    barriers: HashMap<i64, Vec<Barrier>>,
    packages: HashMap<i64, bool>,
}

impl Gathered {
    async fn of(store: &Store) -> Result<Self> {
        let (jobs, points, layers, barriers, packages) = tokio::try_join!(
            store.active_jobs(),
            store.pour_point_counts(),
            store.all_layers(),
            store.decided_barriers(),
            store.packages(None),
        )?;
        Ok(Self {
            jobs: jobs.into_iter().map(|j| (j.study_id, j)).collect(),
            points,
            layers,
            barriers,
            packages,
        })
    }

    fn told(&self, facts: &Facts) -> Result<Shown> {
        let job = self.jobs.get(&facts.study);
        let points = self.points.get(&facts.study).copied().unwrap_or(0);
        let layers = self.layers.get(&facts.study).map_or(&[][..], Vec::as_slice);
        let barriers = self.barriers.get(&facts.study).map_or(&[][..], Vec::as_slice);
        let stale = is_stale_by(facts, || conditioning_key_of(facts, layers, barriers))?;
        let package = self.packages.get(&facts.study).copied();
        let all = stages(&Standing { facts, points, job, failed: None, package, stale });
        let running = job.map(|j| j.title().to_owned());
        let last = all.iter().rev().find(|s| s.state == StageState::Done).unwrap_or(&all[0]);
        let size = match (&facts.terrain, &facts.source) {
            (Some(t), _) => format!(
                "{} × {} cells, {} {}",
                quantity::whole(t.frame.cols as u64),
                quantity::whole(t.frame.rows as u64),
                t.frame.cell_size,
                quantity::unit(&t.crs.unit)
            ),
            (None, Some(s)) => format!(
                "{} × {} cells",
                quantity::whole(s.info.cols as u64),
                quantity::whole(s.info.rows as u64)
            ),
            _ => "no DEM".into(),
        };
        Ok(Shown::Known {
            has_picture: facts.source.as_ref().is_some_and(|s| s.summary.is_some()),
            destroys: format!(
                "its DEM, {}{points} pour points and its log",
                if facts.routing.is_some() { "its network, " } else { "" }
            ),
            size,
            running: running.is_some(),
            waiting: last.state != StageState::Done,
            state: running.unwrap_or_else(|| format!("{}: {}", last.stage, last.fact)),
            stage: last.stage.key(),
        })
    }
}

#[derive(Deserialize)]
pub struct Asked {
    /// the kept recipe that a study is to begin with
    recipe: Option<i64>,
}

pub async fn start(
    State(app): State<App>,
    Query(query): Query<Asked>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let heads = app.store.study_heads().await?;
    let gathered = Gathered::of(&app.store).await?;
    let known = app.facts_of(&heads).await?;
    let mut studies = Vec::new();
    for head in heads {
        // One study that cannot be read takes no other along.
        let shown = match known.get(&head.id) {
            Some(Ok(facts)) => gathered.told(facts).unwrap_or_else(|e| Shown::Unreadable(e.message)),
            Some(Err(why)) => Shown::Unreadable(why.clone()),
            // Deleted since.
            None => continue,
        };
        studies.push(Card {
            id: head.id,
            name: head.name,
            description: head.description,
            changed: head.updated_at.format("%-d %b %Y, %H:%M UTC").to_string(),
            shown,
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
    let recipe = match query.recipe {
        Some(id) => Some((id, app.store.recipe(id).await?.name)),
        None => None,
    };
    page(&Start { token, studies, deleted, limit: quantity::bytes(limit), limit_bytes: limit, recipe })
}

#[derive(Template)]
#[template(path = "shell/nowhere.html")]
struct Nowhere {
    token: Token,
}

pub async fn nowhere(Extension(token): Extension<Token>) -> Result<Response> {
    Ok((StatusCode::NOT_FOUND, page(&Nowhere { token })?).into_response())
}

/// What does not work at the moment.
pub async fn health(State(app): State<App>) -> Json<Value> {
    Json(json!({ "troubles": app.health.told() }))
}
