//! Taking up a recipe: what of it does not fit here is told before.

use askama::Template;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_workflow::{Offered, Source, offer_recipe};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::upload::receive_recipe;
use crate::ui::page;

/// The section, with the other studies whose recipes there are.
#[derive(Template)]
#[template(path = "stages/terrain/recipe.html")]
struct Section {
    study: i64,
    others: Vec<(i64, String)>,
    taken: Option<String>,
}

pub async fn section(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let heads = app.store.study_heads().await?;
    let known = app.facts_of(&heads).await?;
    let ready = |id: i64| known.get(&id).is_some_and(|f| f.as_ref().is_ok_and(|f| f.network.is_some()));
    let others = heads.into_iter().filter(|h| h.id != study && ready(h.id)).map(|h| (h.id, h.name)).collect();
    let taken = facts.settings.recipe.as_ref().map(|r| r.name.clone());
    page(&Section { study, others, taken })
}

#[derive(Template)]
#[template(path = "stages/terrain/misfits.html")]
struct Misfits {
    name: String,
    misfits: Vec<String>,
}

async fn offered(app: &App, study: i64, form: Multipart) -> Result<Offered> {
    let received = receive_recipe(form, app.options.upload_limit).await?;
    let source = match (received.recipe.clone(), received.text("study").parse::<i64>()) {
        (Some((name, path)), _) => Source::File(name, path),
        (None, Ok(other)) if other != study => Source::Study(other),
        (None, Ok(_)) => return Err(WebError::refused("this is the study itself: choose another")),
        (None, Err(_)) => return Err(WebError::refused("choose a study or a file whose recipe is taken up")),
    };
    Ok(offer_recipe(&app.store, study, source).await?)
}

/// What of a recipe does not fit here.
pub async fn misfits(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    let Offered { name, misfits, .. } = &offered(&app, study, form).await?;
    page(&Misfits { name: name.clone(), misfits: misfits.clone() })
}

/// Takes a recipe up.
pub async fn take_up(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    offered(&app, study, form).await?.take_up(&app.store, study).await?;
    Ok(changed(STUDY))
}
