//! The stage rail and the log.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_store::{Job, Store};
use bothros_workflow::{Facts, Severity, conditioning_key, findings};

use crate::App;
use crate::http::error::Result;
use crate::stages::STAGES;
use crate::ui::numbers;
use crate::ui::page;

/// A stage as the rail shows it.
pub struct Stage {
    pub key: &'static str,
    pub name: &'static str,
    pub number: usize,
    /// none, running, done, attention, out
    pub state: &'static str,
    pub state_text: &'static str,
    pub fact: String,
}

/// How far a study is. `failed` is the last job where it ended badly; `package` tells whether one was
/// written, and whether nothing was done since; `stale` whether choices have changed since flow was routed.
pub fn stages(
    facts: &Facts,
    points: usize,
    job: Option<&Job>,
    failed: Option<&Job>,
    package: Option<bool>,
    stale: bool,
) -> Vec<Stage> {
    let running = |kinds: &[&str]| job.is_some_and(|j| kinds.contains(&j.kind.as_str()));
    let broken = |kinds: &[&str]| failed.is_some_and(|j| kinds.contains(&j.kind.as_str()));
    STAGES
        .iter()
        .enumerate()
        .map(|(at, &(key, name, purpose))| {
            let (state, fact) = match key {
                "terrain" => match (&facts.terrain, &facts.source) {
                    _ if running(&["import", "prepare"]) => ("running", "working…".into()),
                    (Some(t), _) => (
                        "done",
                        format!(
                            "{} {}, {} cells",
                            t.frame.cell_size,
                            numbers::unit(&t.crs.unit),
                            numbers::whole(t.summary.cells)
                        ),
                    ),
                    (None, Some(s)) if s.summary.is_some() || s.band.is_none() => {
                        let open =
                            findings(facts).iter().filter(|f| f.severity == Severity::Blocking).count();
                        ("attention", format!("{open} to settle"))
                    }
                    _ if broken(&["import", "prepare"]) => ("attention", "could not be read".into()),
                    _ => ("none", "no DEM yet".into()),
                },
                "conditioning" => match &facts.routing {
                    _ if running(&["route", "review"]) => ("running", "working…".into()),
                    Some(_) if stale => ("out", "choices have changed".into()),
                    Some(r) => ("done", format!("{} sinks filled", numbers::whole(r.sinks.sinks))),
                    None if facts.review.is_some() => (
                        "none",
                        facts.review.as_ref().map_or(String::new(), |r| {
                            format!("{} sinks, {} barriers", numbers::whole(r.sinks.sinks), r.barriers)
                        }),
                    ),
                    None => (
                        "none",
                        if facts.terrain.is_some() { "not begun".into() } else { purpose.to_owned() },
                    ),
                },
                "network" => match (&facts.network, &facts.terrain) {
                    (Some(n), Some(t)) => (
                        if stale { "out" } else { "done" },
                        format!(
                            "{}, {} reaches",
                            numbers::area(n.threshold.as_area(&t.frame).as_m2()),
                            numbers::whole(n.reaches as u64)
                        ),
                    ),
                    _ => ("none", "needs routed flow".into()),
                },
                "catchments" => match points {
                    0 => (
                        "none",
                        if facts.routing.is_some() {
                            "no pour point yet".into()
                        } else {
                            "needs routed flow".into()
                        },
                    ),
                    n if facts.routing.is_none() || stale => ("out", format!("{n} to delineate again")),
                    1 => ("done", "1 pour point".into()),
                    n => ("done", format!("{n} pour points")),
                },
                _ if running(&["package"]) => ("running", "writing…".into()),
                _ if facts.network.is_some() && package == Some(true) && !stale => {
                    ("done", "package written".into())
                }
                _ if facts.network.is_some() && package.is_some() => ("out", "package to write again".into()),
                _ => (
                    "none",
                    if facts.network.is_some() { "ready to write".into() } else { "needs a network".into() },
                ),
            };
            let state_text = match state {
                "running" => "running",
                "done" => "done",
                "attention" => "needs attention",
                "out" => "out of date",
                _ => "not begun",
            };
            Stage { key, name, number: at + 1, state, state_text, fact }
        })
        .collect()
}

#[derive(Template)]
#[template(path = "shell/rail.html")]
struct Rail {
    stages: Vec<Stage>,
}

pub async fn rail(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    page(&Rail { stages: current(&app, study).await? })
}

/// Whether a study's package was written, and nothing was done since.
pub async fn package(app: &App, study: i64) -> Result<Option<bool>> {
    if app.store.file(study, bothros_store::FileRole::Package).await?.is_none() {
        return Ok(None);
    }
    Ok(Some(app.store.last_logged_stage(study).await?.as_deref() == Some("Handover")))
}

/// The stages of a study as they stand now.
async fn current(app: &App, study: i64) -> Result<Vec<Stage>> {
    let facts = app.facts(study).await?;
    let last = app.store.last_job(study).await?;
    let points = app.store.pour_point_count(study).await?;
    let (active, ended): (Vec<_>, Vec<_>) = last.into_iter().partition(Job::is_active);
    let failed = ended.first().filter(|j| j.state == "failed");
    let stale = is_stale(&app.store, &facts).await?;
    Ok(stages(&facts, points, active.first(), failed, package(app, study).await?, stale))
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
            took: if e.took_ms > 0 { numbers::duration(e.took_ms) } else { String::new() },
        })
        .collect();
    let last = app.store.last_job(study).await?;
    let problem = last
        .as_ref()
        .filter(|j| ["failed", "interrupted", "cancelled"].contains(&j.state.as_str()))
        .map(|j| format!("{}: {}", j.title(), j.message));
    let job = last.filter(Job::is_active);
    page(&Log { study, lines, job, problem })
}
