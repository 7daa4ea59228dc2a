//! The layers that a recipe reads: they lie beside it, in one file.

use std::path::PathBuf;

use bothros_formats::{Field, FieldKind, Geometry, Layer, Shape, Value};

use super::write::INPUTS;

/// A shape with what is known of it.
#[derive(Debug, Clone)]
pub(crate) struct Placed {
    pub shape: Geometry,
    pub name: Option<String>,
    /// metres
    pub elevation: Option<f64>,
}

impl Placed {
    pub fn of(shape: Geometry) -> Self {
        Self { shape, name: None, elevation: None }
    }
}

/// The layers of a recipe.
pub(crate) struct Inputs {
    short: String,
    pub layers: Vec<Layer>,
}

impl Inputs {
    pub fn new(short: &str) -> Self {
        Self { short: short.into(), layers: Vec::new() }
    }

    /// Adds a layer, unless it is empty; what the recipe calls it.
    pub fn add(&mut self, name: &'static str, shape: Shape, features: Vec<Placed>) -> Option<PathBuf> {
        if features.is_empty() {
            return None;
        }
        let mut fields = vec![Field { name: "name", kind: FieldKind::Text }];
        let high = features.iter().any(|f| f.elevation.is_some());
        if high {
            fields.push(Field { name: "elevation", kind: FieldKind::Real });
        }
        let row = |placed: Placed| {
            let mut row: Vec<Value> = vec![placed.name.into()];
            if high {
                row.push(placed.elevation.into());
            }
            (placed.shape, row)
        };
        self.layers.push(Layer { name, fields, features: features.into_iter().map(row).collect(), shape });
        Some(PathBuf::from(format!("{}_{INPUTS}#{name}", self.short)))
    }
}
