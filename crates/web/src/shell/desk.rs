//! The desk: its head with the stage, its state and the one next action; below it the stage's sections.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_store::Job;
use bothros_workflow::{Facts, Stage};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::map::layer_rows::layers_section;
use crate::shell::rail::{self, StageState};
use crate::stages;
use crate::ui::page;

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
    let problem =
        last.as_ref().filter(|j| ["failed", "interrupted"].contains(&j.state.as_str())).map(Job::told);
    Ok((active, Busy { title: last.map(|j| j.title().to_owned()).unwrap_or_default(), problem }))
}

/// How an action is done.
pub enum How {
    /// another stage is opened
    Go(Stage),
    /// a form without fields is sent to this address of the study
    Post(&'static str),
    /// the stage's own script handles a click on the element with this attribute
    Press(&'static str),
}

/// The one next action of a stage.
pub struct Next {
    /// what it does
    pub label: &'static str,
    /// the key that does it too
    pub key: Option<&'static str>,
    /// names the button
    pub id: &'static str,
    /// how
    pub how: How,
}

impl Next {
    /// Opens another stage.
    pub fn go(stage: Stage, label: &'static str) -> Self {
        Self { label, key: None, id: "next-stage", how: How::Go(stage) }
    }

    /// Sends a form.
    pub fn post(path: &'static str, id: &'static str, label: &'static str) -> Self {
        Self { label, key: None, id, how: How::Post(path) }
    }
}

#[derive(Template)]
#[template(path = "shell/desk.html")]
struct Desk {
    study: i64,
    stage: Stage,
    state: StageState,
    fact: String,
    next: Option<Next>,
    /// what is shown rests on choices that have changed since
    stale: bool,
    active: bool,
    body: String,
}

pub async fn desk(State(app): State<App>, Path((study, stage)): Path<(i64, String)>) -> Result<Response> {
    let stage = Stage::from_key(&stage).ok_or_else(|| {
        let all: Vec<&str> = Stage::ALL.into_iter().map(Stage::key).collect();
        WebError::nothing(format!("there is no such stage; there are {}", all.join(", ")))
    })?;
    let facts = app.facts(study).await?;
    let (state, fact, next, stale, active) = rail::standing(&app, &facts, |standing| {
        let (state, fact) = stages::standing(stage, standing);
        let stale = standing.stale && stage != Stage::Terrain;
        let next = match stale {
            true => Some(Next { key: Some("U"), ..Next::post("route", "run-route", "Bring up to date") }),
            false => stages::next(stage, standing),
        };
        (state, fact, next, stale, standing.job.is_some())
    })
    .await?;
    let mut body = stages::desk(&app, Facts::clone(&facts), stage).await?;
    // The first two have more to say of layers, and say it themselves.
    let own = matches!(stage, Stage::Terrain | Stage::Conditioning);
    if facts.terrain.is_some() && !own {
        body += &layers_section(&app, study).await?;
    }
    page(&Desk { study, stage, state, fact, next, stale, active, body })
}
