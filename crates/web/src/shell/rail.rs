//! The stage rail and the log.

use askama::Template;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_store::{Job, JobKind, Store};
use bothros_workflow::{Facts, Stage, conditioning_key};

use serde_json::{Value, json};

use crate::App;
use crate::http::error::Result;
use crate::stages;
use crate::ui::page;
use crate::ui::quantity;

/// The state of a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StageState {
    /// nothing was done
    None,
    /// a job works on it
    Running,
    /// its results are there
    Done,
    /// the analyst has to do something
    Attention,
    /// its results are older than the choices
    Out,
}

impl StageState {
    /// Name in style sheets.
    pub fn key(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Running => "running",
            Self::Done => "done",
            Self::Attention => "attention",
            Self::Out => "out",
        }
    }

    /// In words.
    pub fn title(self) -> &'static str {
        match self {
            Self::None => "not begun",
            Self::Running => "running",
            Self::Done => "done",
            Self::Attention => "needs attention",
            Self::Out => "out of date",
        }
    }
}

/// What tells how far a study is.
pub struct Standing<'a> {
    /// what is known of it
    pub facts: &'a Facts,
    /// number of pour points
    pub points: usize,
    /// the job that waits or runs
    pub job: Option<&'a Job>,
    /// the last job where it ended badly
    pub failed: Option<&'a Job>,
    /// whether a package was written, and is up to date
    pub package: Option<bool>,
    /// whether choices have changed since flow was routed
    pub stale: bool,
}

impl Standing<'_> {
    /// Whether a job of one of these kinds waits or runs.
    pub fn runs(&self, kinds: &[JobKind]) -> bool {
        self.job.is_some_and(|j| kinds.iter().any(|k| k.name() == j.kind))
    }

    /// Whether the last job was of one of these kinds and ended badly.
    pub fn failed(&self, kinds: &[JobKind]) -> bool {
        self.failed.is_some_and(|j| kinds.iter().any(|k| k.name() == j.kind))
    }
}

/// A stage as the rail shows it.
pub struct OnRail {
    pub stage: Stage,
    pub state: StageState,
    pub fact: String,
}

/// How far a study is.
pub fn stages(study: &Standing<'_>) -> Vec<OnRail> {
    let of = |stage| {
        let (state, fact) = stages::standing(stage, study);
        OnRail { stage, state, fact }
    };
    Stage::ALL.into_iter().map(of).collect()
}

#[derive(Template)]
#[template(path = "shell/rail.html")]
struct Rail {
    stages: Vec<OnRail>,
}

pub async fn rail(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    page(&Rail { stages: current(&app, study).await? })
}

/// Whether a study's package was written, and the study is still what it was written from.
pub async fn package(app: &App, study: i64) -> Result<Option<bool>> {
    Ok(app.store.packages(Some(study)).await?.remove(&study))
}

/// The stages of a study as they stand now.
async fn current(app: &App, study: i64) -> Result<Vec<OnRail>> {
    let facts = app.facts(study).await?;
    standing(app, &facts, stages).await
}

/// What follows from how far a study is now.
pub async fn standing<T>(app: &App, facts: &Facts, then: impl FnOnce(&Standing<'_>) -> T) -> Result<T> {
    let study = facts.study;
    let last = app.store.last_job(study).await?;
    let points = app.store.pour_point_count(study).await?;
    let (active, ended): (Vec<_>, Vec<_>) = last.into_iter().partition(Job::is_active);
    let failed = ended.first().filter(|j| j.state == "failed");
    let stale = is_stale(&app.store, facts).await?;
    let package = package(app, study).await?;
    Ok(then(&Standing { facts, points, job: active.first(), failed, package, stale }))
}

/// Whether flow was routed with other choices, layers or decisions than those that `key` marks.
pub fn is_stale_by(facts: &Facts, key: impl FnOnce() -> bothros_workflow::Result<String>) -> Result<bool> {
    match facts.routing.as_ref().and_then(|r| r.conditioned.as_ref()) {
        Some(done) => Ok(done.key != key()?),
        None => Ok(false),
    }
}

/// Whether choices, layers or decisions have changed since flow was routed.
pub async fn is_stale(store: &Store, facts: &Facts) -> Result<bool> {
    match facts.routing.as_ref().and_then(|r| r.conditioned.as_ref()) {
        Some(done) => Ok(done.key != conditioning_key(store, facts).await?),
        None => Ok(false),
    }
}

/// How often a study was changed, and which job waits or runs: what a page shows is current while both stay.
pub async fn revision(State(app): State<App>, Path(study): Path<i64>) -> Result<Json<Value>> {
    let job = app.store.active_job(study).await?.map(|job| job.id);
    Ok(Json(json!({ "revision": app.store.revision(study).await?, "job": job })))
}

struct Line {
    at: String,
    stage: String,
    text: String,
    took: String,
}

#[derive(Template)]
#[template(path = "shell/log.html")]
struct Log {
    study: i64,
    lines: Vec<Line>,
    job: Option<Job>,
    problem: Option<String>,
}

pub async fn log(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    app.store.study(study).await?;
    let lines = app
        .store
        .log_entries(study)
        .await?
        .into_iter()
        .map(|e| Line {
            at: e.at.format("%-d %b, %H:%M:%S").to_string(),
            stage: e.stage,
            text: e.text,
            took: if e.took_ms > 0 { quantity::duration(e.took_ms) } else { String::new() },
        })
        .collect();
    let last = app.store.last_job(study).await?;
    let problem = last
        .as_ref()
        .filter(|j| ["failed", "interrupted", "cancelled"].contains(&j.state.as_str()))
        .map(Job::told);
    let job = last.filter(Job::is_active);
    page(&Log { study, lines, job, problem })
}
