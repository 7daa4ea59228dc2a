//! The steps of a study: what reads from the store and files, computes with the core, and writes
//! back. Jobs run here, in the server or in any worker process.

mod batches;
mod catchments;
mod conditioning;
mod derived;
mod drawing;
mod error;
mod handover;
mod inputs;
mod jobs;
mod network;
mod recipe;
mod report;
mod run_pages;
mod sheets;
mod stage;
mod study;
mod terrain;
mod told;
mod undo;

pub use batches::*;
pub use catchments::*;
pub use conditioning::*;
pub use derived::*;
pub use drawing::*;
pub use error::{Error, Result};
pub use handover::*;
pub use inputs::*;
pub use jobs::{blocking, work};
pub use network::*;
pub use recipe::{
    ChainStep, ComparedRecipes, Difference, Offered, RecipeOf, Source, StepTo, StudyRecipe, TakenUp,
    chain_of, compare_recipes, describe_kept_recipe, differs_from_taken_up, keep_recipe_file,
    keep_recipe_of_study, offer_recipe, start_run_to, study_recipe, write_recipe_with_files,
};
pub use report::*;
pub use run_pages::RunPages;
pub use sheets::*;
pub use stage::Stage;
pub use study::*;
pub use terrain::*;
pub use told::{evidence, quantity};
pub use undo::undo;

/// Boxes the future of an async function: what it does is compiled here, not once more in every crate that awaits it.
pub(crate) use async_recursion::async_recursion as boxed;
