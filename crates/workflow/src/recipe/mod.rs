//! A study as a recipe: with all that it was made of, so that it can be made again.

mod beginning;
pub(crate) mod bundle;
mod choose;
mod fit;
pub(crate) mod follow;
mod formulas;
pub(crate) mod given;
mod inputs;
mod kept_recipes;
pub(crate) mod pages;
mod points;
pub(crate) mod run_to;
pub(crate) mod write;

pub use bothros_recipe::{ChainStep, Difference};
use bothros_recipe::{Recipe, ReportFormat};
use bothros_store::{Store, kept};

use self::write::{Begins, Steps, Wanted, Written, written};
use crate::{CatchmentFacts, Error, Facts, ReportChoice, Result, boxed};

pub use bundle::write_recipe_with_files;
pub use follow::{Offered, Source, TakenUp, differs_from_taken_up, offer_recipe};
pub use kept_recipes::{
    ComparedRecipes, RecipeOf, chain_of, compare_recipes, describe_kept_recipe, keep_recipe_file,
    keep_recipe_of_study,
};
pub use run_to::{StepTo, start_run_to};

/// A study as a recipe.
#[derive(Debug, Clone, PartialEq)]
pub struct StudyRecipe {
    /// TOML, with what it is and what it leaves out at its head
    pub text: String,
    /// the recipe
    pub recipe: Recipe,
    /// what of the study a recipe does not tell
    pub untold: Vec<String>,
    /// whether what is chosen now was not computed yet
    pub stale: bool,
    /// wall time of conditioning and routing as they were computed last, seconds
    pub routed_s: f64,
}

/// The recipe of a study, from the files of its DEM, with files that lie beside it.
///
/// # Errors
/// [`Error::Refused`] before there is a network, and where a file that was given is no longer kept.
#[boxed]
pub async fn study_recipe(store: &Store, facts: &Facts) -> Result<StudyRecipe> {
    let routing = facts.routing.as_ref().ok_or_else(Error::not_routed)?;
    let (_, written, stale) = of_files(store, facts, true).await?;
    let recipe = Recipe::parse(&written.text, std::path::Path::new(""));
    let recipe = recipe.map_err(|e| Error::Refused(format!("the recipe cannot be read again: {e}")))?;
    Ok(StudyRecipe { text: written.text, recipe, untold: written.untold, stale, routed_s: routing.took_s })
}

/// The recipe of a study from its files, with its sheets and its report where `pages` are wanted; what it was written from, and whether it is ahead of what was computed.
async fn of_files(store: &Store, facts: &Facts, pages: bool) -> Result<(Steps, Written, bool)> {
    let (Some(routing), Some(network)) = (&facts.routing, &facts.network) else {
        return Err(Error::not_routed());
    };
    let steps = Steps::of(store, facts).await?;
    let mut points = Vec::new();
    for point in store.pour_points(facts.study).await? {
        if let Some(found) = point.catchment.clone() {
            points.push((point, kept::read::<CatchmentFacts>(found)?));
        }
    }
    let stale = match &routing.conditioned {
        Some(done) => done.key != crate::conditioning_key(store, facts).await?,
        None => false,
    };
    let short = facts.short_name();
    let mut sheets = Vec::new();
    if pages {
        sheets.extend(pages::told_sheets(store, facts).await?.into_iter().map(|(_, told)| told));
    }
    let choice = &facts.settings;
    let report = choice.handover.report || choice.report != ReportChoice::default();
    let report = (pages && report).then(|| pages::report_settings(facts, &[ReportFormat::Pdf]));
    let wanted = Wanted {
        begins: Begins::Files,
        short: &short,
        threshold: network.threshold,
        stale,
        sheets: &sheets,
        report: report.as_ref(),
    };
    let written = written(&steps, facts, &points, &wanted)?;
    Ok((steps, written, stale))
}
