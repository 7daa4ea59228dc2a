//! The list of kept recipes, and what is done with one.

use askama::Template;
use axum::extract::{Multipart, Path, State};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Form};
use bothros_store::KeptRecipe;
use bothros_workflow::{ChainStep, chain_of, describe_kept_recipe, keep_recipe_file, keep_recipe_of_study};
use serde::Deserialize;

use crate::App;
use crate::http::attachment::{self, attachment};
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::security::Token;
use crate::http::upload::receive_recipe;
use crate::ui::{page, quantity};

/// What the list hears of when a recipe was kept, named or deleted.
pub(super) const RECIPES: &str = "recipes-changed";

/// A kept recipe in the list.
struct Listed {
    id: i64,
    name: String,
    about: String,
    origin: String,
    kept: String,
    size: String,
    /// its steps, in words; why it cannot be read
    steps: std::result::Result<Vec<String>, String>,
    text: String,
}

impl Listed {
    fn of(kept: KeptRecipe) -> Self {
        let steps = chain_of(&kept.recipe);
        let step = |step: ChainStep| match step.says.is_empty() {
            true => step.title.to_owned(),
            false => format!("{}: {}", step.title, step.says.join(", ")),
        };
        Self {
            id: kept.id,
            steps: steps.map(|all| all.into_iter().map(step).collect()).map_err(|e| e.to_string()),
            name: kept.name,
            about: kept.about,
            origin: kept.origin,
            kept: kept.created_at.format("%-d %b %Y, %H:%M UTC").to_string(),
            size: quantity::bytes(kept.bytes as u64),
            text: kept.recipe,
        }
    }
}

#[derive(Template)]
#[template(path = "recipes/list.html")]
struct List {
    token: Token,
    recipes: Vec<Listed>,
    studies: Vec<(i64, String)>,
    limit: String,
}

pub async fn list(State(app): State<App>, Extension(token): Extension<Token>) -> Result<Response> {
    let recipes = app.store.recipes().await?.into_iter().map(Listed::of).collect();
    let limit = quantity::bytes(app.options.upload_limit);
    page(&List { token, recipes, studies: app.with_networks().await?, limit })
}

#[derive(Deserialize)]
pub struct Described {
    name: String,
    #[serde(default)]
    about: String,
}

#[derive(Template)]
#[template(path = "recipes/kept.html")]
struct Kept {
    name: String,
}

/// Keeps the recipe of a study.
pub async fn keep(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Described>,
) -> Result<Response> {
    keep_recipe_of_study(&app.store, study, &form.name, &form.about).await?;
    page(&Kept { name: form.name.trim().to_owned() })
}

/// Keeps a recipe from a file.
pub async fn keep_file(State(app): State<App>, form: Multipart) -> Result<Response> {
    let limit = app.options.upload_limit;
    let received = receive_recipe(form, limit).await?;
    let (name, path) =
        received.recipe.as_ref().ok_or_else(|| WebError::refused("choose the file of a recipe"))?;
    let of = (name.as_str(), path.as_path());
    let called = received.text("name");
    keep_recipe_file(&app.store, of, &called, &received.text("about"), limit.saturating_mul(4)).await?;
    Ok(changed(RECIPES))
}

/// Names a recipe anew.
pub async fn describe(
    State(app): State<App>,
    Path(recipe): Path<i64>,
    Form(form): Form<Described>,
) -> Result<Response> {
    describe_kept_recipe(&app.store, recipe, &form.name, &form.about).await?;
    Ok(changed(RECIPES))
}

/// Deletes a recipe.
pub async fn delete(State(app): State<App>, Path(recipe): Path<i64>) -> Result<Response> {
    app.store.delete_recipe(recipe).await?;
    Ok(changed(RECIPES))
}

/// What a recipe's file is called.
fn file_name(of: &KeptRecipe, ending: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
    let stem: String = of.name.chars().map(plain).take(60).collect();
    let stem = stem.trim_matches('_');
    format!("{}.{ending}", if stem.is_empty() { "recipe" } else { stem })
}

/// A recipe alone, as text.
pub async fn text(State(app): State<App>, Path(recipe): Path<i64>) -> Result<Response> {
    let kept = app.store.recipe(recipe).await?;
    Ok((attachment("application/toml", &file_name(&kept, "toml")), kept.recipe).into_response())
}

/// A recipe with what it reads but for the DEM, as a zip.
pub async fn with_files(State(app): State<App>, Path(recipe): Path<i64>) -> Result<Response> {
    let kept = app.store.recipe(recipe).await?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("recipe.zip");
    app.store.fetch_recipe(recipe, &path).await?;
    attachment::zip(&path, &file_name(&kept, "zip")).await
}
