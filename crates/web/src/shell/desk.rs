//! The desk: a stage's findings, choices and action.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_store::Job;
use bothros_workflow::{Facts, Stage};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::stages;

/// A name and a value, perhaps with a place on the map.
pub(crate) struct Fact {
    pub name: &'static str,
    pub value: String,
    pub at: Option<(f64, f64)>,
}

pub(crate) fn fact(name: &'static str, value: impl Into<String>) -> Fact {
    Fact { name, value: value.into(), at: None }
}

pub(crate) struct Busy {
    pub title: String,
    pub problem: Option<String>,
}

pub(crate) async fn busy(app: &App, study: i64) -> Result<(bool, Busy)> {
    let last = app.store.last_job(study).await?;
    let active = last.as_ref().is_some_and(Job::is_active);
    let problem = last
        .as_ref()
        .filter(|j| ["failed", "interrupted"].contains(&j.state.as_str()))
        .map(|j| format!("{}: {}", j.title(), j.message));
    Ok((active, Busy { title: last.map(|j| j.title().to_owned()).unwrap_or_default(), problem }))
}

pub async fn desk(State(app): State<App>, Path((study, stage)): Path<(i64, String)>) -> Result<Response> {
    let stage = Stage::from_key(&stage).ok_or_else(|| {
        let all: Vec<&str> = Stage::ALL.into_iter().map(Stage::key).collect();
        WebError::nothing(format!("there is no such stage; there are {}", all.join(", ")))
    })?;
    let facts = Facts::clone(&*app.facts(study).await?);
    stages::desk(&app, facts, stage).await
}
