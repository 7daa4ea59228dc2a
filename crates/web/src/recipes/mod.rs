//! Recipes that are kept beside the studies: listed, named, downloaded, held against each other.

mod compare;
mod list;

use axum::Router;
use axum::routing::{get, post};

use crate::App;

/// Routes of the application as a whole.
pub fn site() -> Router<App> {
    Router::new()
        .route("/recipes", get(list::list))
        .route("/recipes/compare", get(compare::compare))
        .route("/recipes/{recipe}/recipe.toml", get(list::text))
        .route("/recipes/{recipe}/recipe.zip", get(list::with_files))
        .route("/recipes/{recipe}/describe", post(list::describe))
        .route("/recipes/{recipe}/delete", post(list::delete))
}

/// Routes that take files.
pub fn uploads() -> Router<App> {
    Router::new().route("/recipes", post(list::keep_file))
}

/// Routes of a study.
pub fn routes() -> Router<App> {
    Router::new().route("/recipe/keep", post(list::keep))
}
