//! Recipes that are kept beside the studies: put there from a study or a file, named, and held against each other.

use std::path::Path;

use bothros_recipe::{ChainStep, Difference, Recipe, difference};
use bothros_store::{NewRecipe, Store};

use super::bundle::zipped;
use super::given::{Unpacked, packed, parsed, unpacked};
use super::study_recipe;
use crate::{Error, Facts, Result, blocking, boxed};

/// Letters that a name may have.
const NAME: usize = 200;
/// Letters that may tell what a recipe is for.
const ABOUT: usize = 10_000;
/// Recipes that may be kept.
const MOST: usize = 500;

/// A name and what a recipe is for, as they are kept.
async fn described(store: &Store, id: Option<i64>, name: &str, about: &str) -> Result<(String, String)> {
    let name: String = name.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(NAME).collect();
    if name.is_empty() {
        return Err(Error::Refused("give the recipe a name".into()));
    }
    if store.recipe_name_taken(&name, id).await? {
        return Err(Error::Refused(format!("another recipe is kept as “{name}”: choose another name")));
    }
    if id.is_none() && store.recipes().await?.len() >= MOST {
        return Err(Error::Refused(format!("{MOST} recipes are kept already: delete one")));
    }
    Ok((name, about.trim().chars().take(ABOUT).collect()))
}

/// Keeps the recipe of a study as it is now, with what it reads but for the DEM; its number.
///
/// # Errors
/// [`Error::Refused`] without a name or with one that is taken; those of [`study_recipe`].
#[boxed]
pub async fn keep_recipe_of_study(store: &Store, study: i64, name: &str, about: &str) -> Result<i64> {
    let (name, about) = described(store, None, name, about).await?;
    let facts = Facts::of(&store.study(study).await?)?;
    let dir = tempfile::tempdir()?;
    let zip = dir.path().join("recipe.zip");
    zipped(store, &facts, &zip, false).await?;
    let text = study_recipe(store, &facts).await?.text;
    let origin = format!("the study {}", facts.name);
    let new = NewRecipe { name: &name, about: &about, origin: &origin, recipe: &text, zip: &zip };
    Ok(store.keep_recipe(new).await?)
}

/// Keeps a recipe from a file: a zip with what it reads, or a recipe alone; its number.
///
/// # Errors
/// [`Error::Refused`] for what is no recipe, and as for [`keep_recipe_of_study`].
#[boxed]
pub async fn keep_recipe_file(
    store: &Store,
    (file, path): (&str, &Path),
    name: &str,
    about: &str,
    limit: u64,
) -> Result<i64> {
    let (name, about) = described(store, None, name, about).await?;
    let dir = tempfile::tempdir()?;
    let folder = dir.path().join("files");
    std::fs::create_dir(&folder)?;
    let mut zip = path.to_owned();
    if file.to_lowercase().ends_with(".toml") {
        zip = dir.path().join("recipe.zip");
        packed(path, &zip)?;
    }
    let from = zip.clone();
    let text = blocking(move || {
        let Unpacked { text, .. } = unpacked(&from, &folder, limit)?;
        parsed(&text, &folder)?;
        Ok(text)
    })
    .await?;
    let origin = format!("the file {file}");
    let new = NewRecipe { name: &name, about: &about, origin: &origin, recipe: &text, zip: &zip };
    Ok(store.keep_recipe(new).await?)
}

/// Names a kept recipe anew, and says what it is for.
///
/// # Errors
/// As for [`keep_recipe_of_study`]; [`bothros_store::Error::NotFound`].
#[boxed]
pub async fn describe_kept_recipe(store: &Store, id: i64, name: &str, about: &str) -> Result<()> {
    let (name, about) = described(store, Some(id), name, about).await?;
    Ok(store.describe_recipe(id, &name, &about).await?)
}

/// The steps of a kept recipe.
///
/// # Errors
/// [`Error::Refused`] where it cannot be read, as one of a later version.
pub fn chain_of(recipe: &str) -> Result<Vec<ChainStep>> {
    let read = Recipe::parse(recipe, Path::new("")).map_err(|e| Error::Refused(e.to_string()))?;
    Ok(read.chain())
}

/// A recipe that is held against another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RecipeOf {
    /// one that is kept
    Kept(i64),
    /// that of a study as it is now
    Study(i64),
}

/// Two recipes held against each other.
#[derive(Debug, Clone, PartialEq)]
pub struct ComparedRecipes {
    /// what each is called
    pub names: [String; 2],
    /// where they differ
    pub found: Vec<Difference>,
}

async fn named(store: &Store, of: RecipeOf) -> Result<(String, Recipe)> {
    match of {
        RecipeOf::Kept(id) => {
            let kept = store.recipe(id).await?;
            let recipe = Recipe::parse(&kept.recipe, Path::new(""));
            let recipe =
                recipe.map_err(|e| Error::Refused(format!("“{}” cannot be read: {e}", kept.name)))?;
            Ok((kept.name, recipe))
        }
        RecipeOf::Study(id) => {
            let facts = Facts::of(&store.study(id).await?)?;
            Ok((format!("the study {}", facts.name), study_recipe(store, &facts).await?.recipe))
        }
    }
}

/// Where two recipes differ, key by key.
///
/// # Errors
/// [`Error::Refused`] where one cannot be read; [`bothros_store::Error::NotFound`].
#[boxed]
pub async fn compare_recipes(store: &Store, first: RecipeOf, second: RecipeOf) -> Result<ComparedRecipes> {
    let ((one, first), (two, second)) = (named(store, first).await?, named(store, second).await?);
    let found = difference(&first, &second).map_err(|e| Error::Refused(e.to_string()))?;
    Ok(ComparedRecipes { names: [one, two], found })
}
