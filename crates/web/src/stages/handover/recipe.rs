//! The study as a recipe: a chain of its steps, drawn from the recipe alone, and its text.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};

use bothros_workflow::{
    ChainStep, Difference, StepTo, differs_from_taken_up, start_run_to, study_recipe, write_recipe_with_files,
};

use crate::App;
use crate::http::attachment::{self, attachment};
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::ui::{page, quantity};

/// A step with where it is done.
struct Link {
    step: ChainStep,
    /// the stage that it leads to
    stage: &'static str,
    /// whether it is computed with what is chosen
    stale: bool,
    /// wall time, where it was taken
    took: Option<String>,
    /// whether the study can be run as far as it
    runs: bool,
}

#[derive(Template)]
#[template(path = "stages/handover/recipe.html")]
struct Told {
    study: i64,
    chain: Vec<Link>,
    untold: Vec<String>,
    text: String,
    stale: bool,
    /// the recipe that the study took up, and how its own differs from it
    taken: Option<(String, Vec<Difference>)>,
}

/// The stage that a step of a recipe belongs to.
fn stage(key: &str) -> &'static str {
    match key {
        "terrain" => "terrain",
        "conditioning" | "routing" => "conditioning",
        "network" | "derived" => "network",
        "catchments" => "catchments",
        _ => "handover",
    }
}

/// The chain of the study.
pub async fn told(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let of = study_recipe(&app.store, &facts).await?;
    let seconds = format!("{} s with routing", quantity::real(of.routed_s, 2));
    let link = |step: ChainStep| Link {
        stage: stage(step.key),
        // Everything after conditioning rests on it.
        stale: of.stale && step.key != "terrain",
        took: (step.key == "conditioning").then(|| seconds.clone()),
        runs: StepTo::from_key(step.key).is_some(),
        step,
    };
    let chain = of.recipe.chain().into_iter().map(link).collect();
    let taken = match &facts.settings.recipe {
        Some(taken) => differs_from_taken_up(taken, &of.recipe)?.map(|found| (taken.name.clone(), found)),
        None => None,
    };
    page(&Told { study, chain, untold: of.untold, text: of.text, stale: of.stale, taken })
}

/// Runs the study as far as a step.
pub async fn run_to(State(app): State<App>, Path((study, step)): Path<(i64, String)>) -> Result<Response> {
    let to = StepTo::from_key(&step).ok_or_else(|| WebError::nothing("there is no such step"))?;
    start_run_to(&app.store, study, to).await?;
    Ok(changed(STUDY))
}

/// The recipe as a file.
pub async fn file(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let of = study_recipe(&app.store, &facts).await?;
    let name = format!("{}_recipe.toml", facts.short_name());
    Ok((attachment("application/toml", &name), of.text).into_response())
}

/// The recipe with all that it reads, as a zip.
pub async fn with_files(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("recipe.zip");
    write_recipe_with_files(&app.store, &facts, &path).await?;
    attachment::zip(&path, &format!("{}_recipe.zip", facts.short_name())).await
}
