//! Jobs: how far they are, what they gave, dismissing them.

use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use bothros_store::{JobState, MadeBy, Run};
use serde::Deserialize;
use serde_json::{Value, json};

use super::answer::{Answer, Fault, link, told};
use super::describe::PROCESS;
use super::token::ROOT;
use crate::App;
use crate::batches::download::{media_type, pieces};

const JSON: &str = "application/json";
/// Jobs that are listed where nothing is said, and at most.
const USUAL: u64 = 100;
const MOST: u64 = 1000;

/// The standard's word for a state.
fn word(state: &str) -> &'static str {
    match state {
        "queued" => "accepted",
        "running" => "running",
        "done" => "successful",
        "cancelled" => "dismissed",
        _ => "failed",
    }
}

/// A job as it is now.
pub fn status_of(run: &Run) -> Value {
    let here = format!("{ROOT}/jobs/{}", run.id);
    let mut links = vec![link(&here, "self", JSON, "this job")];
    if run.state == JobState::Done.name() {
        let rel = "http://www.opengis.net/def/rel/ogc/1.0/results";
        links.push(link(&format!("{here}/results"), rel, JSON, "its results"));
    }
    let mut told = json!({
        "type": "process",
        "processID": PROCESS,
        "jobID": run.id.to_string(),
        "status": word(&run.state),
        "message": run.message,
        "progress": (run.progress.clamp(0.0, 1.0) * 100.0).round() as u64,
        "created": run.created_at.to_rfc3339(),
        "links": links,
    });
    let updated = run.finished_at.or(run.heartbeat_at).or(run.started_at);
    for (key, time) in [("started", run.started_at), ("finished", run.finished_at), ("updated", updated)] {
        if let Some(time) = time {
            told[key] = time.to_rfc3339().into();
        }
    }
    told
}

/// A job of the service.
async fn found(app: &App, job: &str) -> Result<Run, Fault> {
    let id: i64 = job.parse().map_err(|_| Fault::no_job())?;
    let run = match app.store.run(id).await {
        Ok(run) => run,
        Err(bothros_store::Error::NotFound(_)) => return Err(Fault::no_job()),
        Err(error) => return Err(error.into()),
    };
    match app.store.batch(run.batch_id).await {
        Ok(batch) if batch.made_by == MadeBy::Service.name() => Ok(run),
        Ok(_) | Err(bothros_store::Error::NotFound(_)) => Err(Fault::no_job()),
        Err(error) => Err(error.into()),
    }
}

#[derive(Deserialize)]
pub struct Which {
    limit: Option<String>,
    offset: Option<String>,
    status: Option<String>,
}

/// The jobs, the last one first.
pub async fn list(State(app): State<App>, Query(which): Query<Which>) -> Answer {
    let whole = |key: &str, text: &Option<String>, least: u64, usual: u64| match text {
        None => Ok(usual),
        Some(text) => {
            let read = text.parse::<u64>().ok().filter(|n| *n >= least && *n <= i32::MAX as u64);
            read.ok_or_else(|| Fault::wrong(format!("{key} must be a whole number of at least {least}")))
        }
    };
    let limit = whole("limit", &which.limit, 1, USUAL)?.min(MOST);
    let offset = whole("offset", &which.offset, 0, 0)?;
    let words = ["accepted", "running", "successful", "failed", "dismissed"];
    let wanted: Vec<&str> = which.status.iter().flat_map(|text| text.split(',')).collect();
    if let Some(unknown) = wanted.iter().find(|w| !words.contains(w)) {
        let unknown: String = unknown.chars().take(40).collect();
        return Err(Fault::wrong(format!("status “{unknown}” is none of {}", words.join(", "))));
    }
    let states: Vec<&'static str> = ["queued", "running", "done", "failed", "interrupted", "cancelled"]
        .into_iter()
        .filter(|state| wanted.is_empty() || wanted.contains(&word(state)))
        .collect();
    let runs = app.store.runs_made_by(MadeBy::Service, &states, offset, limit + 1).await?;
    let here = |offset: u64| {
        let status = which.status.as_ref().map_or(String::new(), |s| format!("&status={s}"));
        format!("{ROOT}/jobs?limit={limit}&offset={offset}{status}")
    };
    let mut links = vec![link(&here(offset), "self", JSON, "this")];
    if runs.len() as u64 > limit {
        links.push(link(&here(offset + limit), "next", JSON, "more"));
    }
    let jobs: Vec<Value> = runs.iter().take(limit as usize).map(status_of).collect();
    Ok(told(&json!({ "jobs": jobs, "links": links })))
}

/// How far a job is.
pub async fn status(State(app): State<App>, Path(job): Path<String>) -> Answer {
    Ok(told(&status_of(&found(&app, &job).await?)))
}

/// Dismisses a job: one that has not ended is stopped, of one that has, all is removed.
pub async fn dismiss(State(app): State<App>, Path(job): Path<String>) -> Answer {
    let run = found(&app, &job).await?;
    if run.is_active() {
        app.store.stop_run(run.id).await?;
    } else {
        app.store.delete_batch(run.batch_id).await?;
    }
    let mut gone = status_of(&run);
    gone["status"] = "dismissed".into();
    gone["message"] = "dismissed".into();
    gone["links"] = json!([link(&format!("{ROOT}/jobs"), "up", JSON, "jobs")]);
    Ok(told(&gone))
}

/// A job whose results are there.
async fn done(app: &App, job: &str) -> Result<Run, Fault> {
    let run = found(app, job).await?;
    let not = |status, kind: &'static str, message: String| Err(Fault { status, kind: Some(kind), message });
    match word(&run.state) {
        "successful" => Ok(run),
        "failed" => not(StatusCode::INTERNAL_SERVER_ERROR, "job-results-failed", run.message),
        "dismissed" => not(StatusCode::NOT_FOUND, "no-such-job", "the job was dismissed".into()),
        _ => not(StatusCode::NOT_FOUND, "result-not-ready", "the job has not ended yet".into()),
    }
}

/// What a job gave.
pub async fn results(State(app): State<App>, Path(job): Path<String>) -> Answer {
    let run = done(&app, &job).await?;
    let file = |f: &bothros_store::BatchFile| {
        json!({
            "href": format!("{ROOT}/jobs/{}/results/{}", run.id, f.name), "type": media_type(&f.name),
            "title": f.name, "length": f.bytes,
        })
    };
    let files = app.store.batch_files(run.batch_id, Some(run.id)).await?;
    let files: Vec<Value> = files.iter().map(file).collect();
    Ok(told(&json!({ "summary": run.summary.unwrap_or_default(), "files": files })))
}

/// A file that a job wrote.
pub async fn file(State(app): State<App>, Path((job, name)): Path<(String, String)>) -> Answer {
    let run = done(&app, &job).await?;
    let files = app.store.batch_files(run.batch_id, Some(run.id)).await?;
    let found = files.into_iter().find(|f| f.name == name);
    let nothing =
        || Fault { status: StatusCode::NOT_FOUND, kind: None, message: "this job wrote no such file".into() };
    let found = found.ok_or_else(nothing)?;
    let headers = [
        (header::CONTENT_TYPE, media_type(&found.name).to_owned()),
        (header::CONTENT_LENGTH, found.bytes.to_string()),
        (header::CACHE_CONTROL, "no-store".into()),
    ];
    Ok((headers, pieces(app.store.clone(), found)).into_response())
}
