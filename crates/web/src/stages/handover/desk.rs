//! The package, and whether it is up to date.

use askama::Template;
use bothros_workflow::Facts;

use crate::App;
use crate::http::error::Result;
use crate::shell::desk::{Busy, busy};
use crate::ui::{quantity, render};

#[derive(Template)]
#[template(path = "stages/handover/desk.html")]
struct Handover {
    study: i64,
    ready: bool,
    active: bool,
    busy: Busy,
    file: Option<(String, String)>,
    fresh: bool,
    has_points: bool,
    contents: Vec<(String, String)>,
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let (active, busy) = busy(app, study).await?;
    let file = app.store.file(study, bothros_store::FileRole::Package).await?;
    let fresh = crate::shell::rail::package(app, study).await? == Some(true);
    let has_points = app.store.pour_point_count(study).await? > 0;
    render(&Handover {
        study,
        ready: facts.network.is_some(),
        active,
        busy,
        file: file.map(|f| (f.name, quantity::bytes(f.bytes))),
        fresh,
        contents: bothros_workflow::package_contents(&facts, has_points),
        has_points,
    })
}
