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
    kept: Vec<(i64, String)>,
    taken: Option<String>,
}

pub async fn section(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let others = app.with_networks().await?.into_iter().filter(|(id, _)| *id != study).collect();
    let kept = app.store.recipes().await?.into_iter().map(|r| (r.id, r.name)).collect();
    let taken = facts.settings.recipe.as_ref().map(|r| r.name.clone());
    page(&Section { study, others, kept, taken })
}

#[derive(Template)]
#[template(path = "stages/terrain/misfits.html")]
struct Misfits {
    name: String,
    misfits: Vec<String>,
}

async fn offered(app: &App, study: i64, form: Multipart) -> Result<Offered> {
    let received = receive_recipe(form, app.options.upload_limit).await?;
    let chosen = received.text("of");
    let number = |prefix: &str| chosen.strip_prefix(prefix).and_then(|n| n.parse::<i64>().ok());
    let source = match (received.recipe.clone(), number("study-"), number("kept-")) {
        (Some((name, path)), ..) => Source::File(name, path),
        (None, Some(other), _) if other != study => Source::Study(other),
        (None, Some(_), _) => return Err(WebError::refused("this is the study itself: choose another")),
        (None, None, Some(kept)) => Source::Kept(kept),
        (None, None, None) => {
            return Err(WebError::refused("choose a recipe that is kept, a study, or a file"));
        }
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
