//! The layers that a recipe reads: they lie beside it, in one file.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use bothros_formats::{Field, FieldKind, Geometry, Layer, Shape, Value};
use bothros_recipe::SnapChoice;

use super::write::INPUTS;

/// How a pour point snaps.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Snaps {
    /// how far, metres
    pub m: f64,
    pub to: SnapChoice,
    /// what is known to drain to it, km²
    pub area_km2: Option<f64>,
}

/// A shape with what is known of it.
#[derive(Debug, Clone)]
pub(crate) struct Placed {
    pub shape: Geometry,
    pub name: Option<String>,
    /// metres
    pub elevation: Option<f64>,
    /// its other numbers, by the names of their fields
    pub numbers: BTreeMap<String, f64>,
    pub snaps: Option<Snaps>,
}

impl Placed {
    pub fn of(shape: Geometry) -> Self {
        Self { shape, name: None, elevation: None, numbers: BTreeMap::new(), snaps: None }
    }
}

/// The layers of a recipe.
pub(crate) struct Inputs {
    short: String,
    pub layers: Vec<Layer>,
}

/// A field of a layer, and what it holds of a feature.
type Told = (Field, Box<dyn Fn(&Placed) -> Value>);

/// The fields of features: of each only where one of them has it.
fn fields(features: &[Placed]) -> Vec<Told> {
    fn real(name: impl Into<Cow<'static, str>>, of: impl Fn(&Placed) -> Option<f64> + 'static) -> Told {
        (Field { name: name.into(), kind: FieldKind::Real }, Box::new(move |placed| of(placed).into()))
    }
    let text = |name: &'static str| Field { name: name.into(), kind: FieldKind::Text };
    let mut all: Vec<Told> = vec![(text("name"), Box::new(|placed| placed.name.clone().into()))];
    if features.iter().any(|f| f.elevation.is_some()) {
        all.push(real("elevation", |placed| placed.elevation));
    }
    if features.iter().any(|f| f.snaps.is_some()) {
        let to = |placed: &Placed| placed.snaps.map(|snaps| snaps.to.name().to_owned()).into();
        all.push(real("snap_m", |placed| placed.snaps.map(|snaps| snaps.m)));
        all.push((text("snap_to"), Box::new(to)));
    }
    if features.iter().any(|f| f.snaps.is_some_and(|snaps| snaps.area_km2.is_some())) {
        all.push(real("area_km2", |placed| placed.snaps.and_then(|snaps| snaps.area_km2)));
    }
    let taken: BTreeSet<String> = all.iter().map(|(field, _)| field.name.to_string()).collect();
    let others: BTreeSet<&String> = features.iter().flat_map(|f| f.numbers.keys()).collect();
    // A field of that name may hold what the file's own key is.
    for name in others.into_iter().filter(|name| !taken.contains(*name) && *name != "fid") {
        let asked = name.clone();
        all.push(real(name.clone(), move |placed| placed.numbers.get(&asked).copied()));
    }
    all
}

impl Inputs {
    pub fn new(short: &str) -> Self {
        Self { short: short.into(), layers: Vec::new() }
    }

    /// Whether a layer lies there with so many features, and with what is known of each but for names.
    pub fn holds(&self, path: &Path, features: usize) -> bool {
        let layer = path.to_str().and_then(|p| p.rsplit_once('#')).map(|(_, layer)| layer);
        let found = self.layers.iter().find(|l| Some(l.name.as_ref()) == layer);
        found.is_some_and(|l| l.features.len() == features && l.fields.len() > 1)
    }

    /// Adds a layer, unless it is empty; what the recipe calls it.
    pub fn add(
        &mut self,
        name: impl Into<Cow<'static, str>>,
        shape: Shape,
        features: Vec<Placed>,
    ) -> Option<PathBuf> {
        if features.is_empty() {
            return None;
        }
        let name = name.into();
        let told = fields(&features);
        let row = |placed: Placed| {
            let row: Vec<Value> = told.iter().map(|(_, of)| of(&placed)).collect();
            (placed.shape, row)
        };
        let features = features.into_iter().map(row).collect();
        let fields = told.iter().map(|(field, _)| field.clone()).collect();
        let path = PathBuf::from(format!("{}_{INPUTS}#{name}", self.short));
        self.layers.push(Layer { name, fields, features, shape });
        Some(path)
    }
}
