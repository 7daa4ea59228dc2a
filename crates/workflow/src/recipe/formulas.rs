//! Formulas of a study as its recipe tells them, with the layers that they name.

use std::path::PathBuf;

use bothros_core::formula::Formula;
use bothros_formats::{Geometry, Shape as GeometryShape};
use bothros_products::named::{STREAMS, identifier};
use bothros_recipe::{Derived, NamedLayer, Paths};
use bothros_store::{LayerFeature, LayerRole, Shape, Store};

use super::inputs::{Inputs, Placed};
use crate::{Facts, Result};

/// The formulas of a study, each after those that it names.
pub(crate) fn derived(facts: &Facts, untold: &mut Vec<String>) -> Vec<Derived> {
    let mut open: Vec<(&str, &str)> = Vec::new();
    for raster in &facts.settings.rasters {
        open.extend(raster.formula.as_deref().map(|formula| (raster.name.as_str(), formula)));
    }
    let mut told: Vec<Derived> = Vec::new();
    loop {
        let waits = |name: &&str, open: &[(&str, &str)]| open.iter().any(|(other, _)| other == name);
        let next = open.iter().position(|(_, formula)| {
            Formula::read(formula).is_ok_and(|read| !read.names().iter().any(|name| waits(name, &open)))
        });
        let Some(next) = next else { break };
        let (name, formula) = open.remove(next);
        told.push(Derived { name: name.to_owned(), formula: formula.to_owned() });
    }
    untold.extend(open.into_iter().map(|(name, formula)| {
        format!("the derived raster {name}, whose formula cannot be read or names itself ({formula})")
    }));
    told
}

/// The layers of a study that its formulas name, beside the streams.
///
/// # Errors
/// Those of the store.
pub(crate) async fn named_layers(
    store: &Store,
    facts: &Facts,
) -> Result<Vec<(LayerRole, Vec<LayerFeature>)>> {
    let formulas = facts.settings.rasters.iter().filter_map(|r| Formula::read(r.formula.as_deref()?).ok());
    let mut names: Vec<String> = Vec::new();
    for formula in formulas {
        names.extend(formula.layers().into_iter().map(str::to_owned));
    }
    names.sort_unstable();
    names.dedup();
    let mut all = Vec::new();
    for role in names.iter().filter(|name| *name != STREAMS).filter_map(|name| LayerRole::from_name(name)) {
        all.push((role, store.features_of(facts.study, role).await?));
    }
    Ok(all)
}

/// A shape as files hold it.
pub(crate) fn geometry(shape: &Shape) -> Geometry {
    match shape {
        Shape::Point(at) => Geometry::Point(*at),
        Shape::Line(line) => Geometry::Line(line.clone()),
        Shape::Polygons(polygons) => Geometry::Polygons(polygons.clone()),
    }
}

fn placed(feature: &LayerFeature) -> Placed {
    Placed {
        name: feature.name.clone(),
        elevation: feature.elevation,
        numbers: feature.numbers.clone(),
        ..Placed::of(geometry(&feature.shape))
    }
}

/// Shapes with all that is known of the features that they are of; as they are, where they are not the shapes of `features`.
pub(crate) fn with_fields(shapes: Vec<Placed>, features: &[LayerFeature]) -> Vec<Placed> {
    let same = shapes.len() == features.len()
        && shapes.iter().zip(features).all(|(placed, of)| placed.shape == geometry(&of.shape));
    if same { features.iter().map(placed).collect() } else { shapes }
}

/// What a recipe says of a layer that formulas name; `there` is where its features lie already, if they do.
pub(crate) fn told(
    of: &(LayerRole, Vec<LayerFeature>),
    there: Option<PathBuf>,
    inputs: &mut Inputs,
) -> Option<NamedLayer> {
    let (role, features) = of;
    let mut fields: Vec<String> =
        features.iter().flat_map(|f| f.numbers.keys()).map(|name| identifier(name)).collect();
    fields.sort_unstable();
    fields.dedup();
    let named = |paths| NamedLayer { name: role.name().to_owned(), path: Paths(paths), fields };
    if let Some(path) = there.filter(|path| inputs.holds(path, features.len())) {
        return Some(named(vec![path]));
    }
    let (mut points, mut lines, mut areas) = (Vec::new(), Vec::new(), Vec::new());
    for feature in features {
        let to = match &feature.shape {
            Shape::Point(_) => &mut points,
            Shape::Line(_) => &mut lines,
            Shape::Polygons(_) => &mut areas,
        };
        to.push(placed(feature));
    }
    let called = |kind: &str| format!("{}_{kind}_of_formulas", role.name());
    let paths: Vec<PathBuf> = [
        inputs.add(called("points"), GeometryShape::Point, points),
        inputs.add(called("lines"), GeometryShape::Line, lines),
        inputs.add(called("areas"), GeometryShape::Polygons, areas),
    ]
    .into_iter()
    .flatten()
    .collect();
    (!paths.is_empty()).then(|| named(paths))
}
