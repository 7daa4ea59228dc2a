//! `[[derived]]`: rasters from formulas, as a recipe says them.

use std::collections::BTreeMap;

use bothros_core::formula::{Checked, Formula, Unit};
use serde::{Deserialize, Serialize};

use crate::{Error, Recipe, Result};

/// `[[derived]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Derived {
    /// makes the name of its file, and can be named in formulas after it
    pub name: String,
    /// plain mathematics
    pub formula: String,
}

/// The longest name of a derived raster.
const LONGEST: usize = 40;

/// Rasters that a formula may name, with their units; the order of streams where there is a network.
pub(crate) fn given(recipe: &Recipe) -> BTreeMap<String, Unit> {
    let mut all = BTreeMap::from([
        ("elevation".to_owned(), Unit::of("m", 1)),
        ("slope".to_owned(), Unit::none()),
        ("contributing_area".to_owned(), Unit::of("m", 2)),
        ("accumulation".to_owned(), Unit::none()),
    ]);
    if recipe.network.is_some() {
        all.insert("order".to_owned(), Unit::none());
    }
    all
}

/// The formulas of a recipe, checked in their order: each may name those before it.
///
/// # Errors
/// [`Error::Recipe`] with the formula, the character and what is wrong there.
pub(crate) fn formulas(recipe: &Recipe) -> Result<Vec<Checked>> {
    let mut known = given(recipe);
    let mut out = Vec::new();
    for Derived { name, formula } in &recipe.derived {
        let letter = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        let begins = name.starts_with(|c: char| c.is_ascii_lowercase());
        if !begins || !name.chars().all(letter) || name.len() > LONGEST {
            let what = format!(
                "“{name}” is no name: small letters, digits and underscores, a letter first, {LONGEST} at most"
            );
            return Err(Error::key("derived.name", what));
        }
        if known.contains_key(name) {
            return Err(Error::key(
                "derived.name",
                format!("there is a raster {name} already; choose another name"),
            ));
        }
        if bothros_core::formula::functions().any(|(function, _)| function == name) {
            return Err(Error::key("derived.name", format!("{name} is a function; choose another name")));
        }
        let wrong = |e: bothros_core::formula::Error| {
            let character = formula[..e.at.from.min(formula.len())].chars().count() + 1;
            let order = if e.what.ends_with("raster order") { ", which comes with [network]" } else { "" };
            let rasters: Vec<&str> = known.keys().map(String::as_str).collect();
            let names = match e.what.starts_with("there is no raster") {
                true => format!("; there are {}", rasters.join(", ")),
                false => String::new(),
            };
            Error::key("derived.formula", format!("{name}, character {character}: {}{order}{names}", e.what))
        };
        let checked =
            Formula::read(formula).and_then(|f| f.check(&|name| known.get(name).cloned())).map_err(wrong)?;
        known.insert(name.clone(), checked.kind.unit());
        out.push(checked);
    }
    Ok(out)
}

/// Checks what a recipe says of formulas, before any work begins.
pub(crate) fn check(recipe: &Recipe) -> Result<()> {
    formulas(recipe).map(|_| ())
}
