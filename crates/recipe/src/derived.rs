//! `[[derived]]`: rasters from formulas, as a recipe says them.

use std::collections::BTreeMap;

use bothros_core::formula::{Checked, Formula, Named, Unit};
use bothros_products::named::{NAMED, Needs, STREAMS, check_name, identifier};
use serde::{Deserialize, Serialize};

use crate::{Error, Paths, Recipe, Result};

/// `[[derived]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Derived {
    /// makes the name of its file, and can be named in formulas after it
    pub name: String,
    /// plain mathematics
    pub formula: String,
}

/// `[[layers]]`: a layer that formulas may name
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NamedLayer {
    /// as formulas say it
    pub name: String,
    /// one or more files of points, lines or polygons
    pub path: Paths,
    /// fields whose numbers formulas may ask for
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<String>,
}

/// Checks the names of layers.
fn check_layers(recipe: &Recipe) -> Result<()> {
    let mut before: Vec<&str> = Vec::new();
    for layer in &recipe.layers {
        check_name(&layer.name, &|name| before.contains(&name))
            .map_err(|what| Error::key("layers.name", what))?;
        if layer.path.is_empty() {
            return Err(Error::key("layers.path", format!("{} names no file", layer.name)));
        }
        if let Some(field) = layer.fields.iter().find(|field| identifier(field) != **field) {
            let what = format!("“{field}” is no name of a field as formulas say it: {}", identifier(field));
            return Err(Error::key("layers.fields", what));
        }
        before.push(&layer.name);
    }
    Ok(())
}

/// What formulas may name: rasters with their units and layers, those of the network where there is one.
pub(crate) fn given(recipe: &Recipe) -> BTreeMap<String, Named> {
    let there = |needs: Needs| needs != Needs::Network || recipe.network.is_some();
    let rasters = NAMED.iter().filter(|n| there(n.needs));
    let mut all: BTreeMap<String, Named> =
        rasters.map(|n| (n.name.to_owned(), Named::Raster(n.unit()))).collect();
    if recipe.network.is_some() {
        all.insert(STREAMS.to_owned(), Named::Layer { unit: None, fields: Vec::new() });
    }
    for layer in &recipe.layers {
        let unit = Some(Unit::of("m", 1));
        all.insert(layer.name.clone(), Named::Layer { unit, fields: layer.fields.clone() });
    }
    for raster in recipe.catchments.iter().flat_map(|c| &c.rasters) {
        if raster.derived.is_none() {
            all.entry(identifier(&raster.name)).or_insert(Named::Raster(Unit::read(&raster.unit)));
        }
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
        check_name(name, &|name| known.contains_key(name))
            .map_err(|what| Error::key("derived.name", what))?;
        let wrong = |e: bothros_core::formula::Error| {
            let character = formula[..e.at.from.min(formula.len())].chars().count() + 1;
            let of_network = NAMED.iter().any(|n| n.needs == Needs::Network && e.what.ends_with(n.name))
                || e.what.ends_with(STREAMS);
            let of_network = if of_network { ", which comes with [network]" } else { "" };
            let rasters: Vec<&str> = known.keys().map(String::as_str).collect();
            let names = match e.what.starts_with("there is no raster") {
                true => format!("; there are {}", rasters.join(", ")),
                false => String::new(),
            };
            Error::key(
                "derived.formula",
                format!("{name}, character {character}: {}{of_network}{names}", e.what),
            )
        };
        let checked =
            Formula::read(formula).and_then(|f| f.check(&|name| known.get(name).cloned())).map_err(wrong)?;
        known.insert(name.clone(), Named::Raster(checked.kind.unit()));
        out.push(checked);
    }
    Ok(out)
}

/// Checks what a recipe says of formulas, before any work begins.
pub(crate) fn check(recipe: &Recipe) -> Result<()> {
    check_layers(recipe)?;
    formulas(recipe)?;
    let named = recipe.catchments.iter().flat_map(|c| &c.rasters).filter_map(|r| r.derived.as_ref());
    match named.into_iter().find(|name| !recipe.derived.iter().any(|d| d.name == **name)) {
        Some(name) => {
            let what = format!("“{name}” is the name of no raster of derived");
            Err(Error::key("catchments.rasters.derived", what))
        }
        None => Ok(()),
    }
}
