//! What the classes of a land-cover raster stand for.

use bothros_core::Grid;
use serde::{Deserialize, Serialize};

/// What a class stands for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClassValue {
    /// the class
    pub class: i64,
    /// its curve number
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub curve_number: Option<f64>,
    /// share of its land whose rain runs off whole
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub impervious: Option<f64>,
}

/// A raster of classes with one of the values that they stand for in their place; `NaN` where a class stands for none.
pub fn looked_up(
    classes: &Grid<f32>,
    lookup: &[ClassValue],
    of: impl Fn(&ClassValue) -> Option<f64>,
) -> Grid<f32> {
    let values: std::collections::HashMap<i64, f32> =
        lookup.iter().filter_map(|c| Some((c.class, of(c)? as f32))).collect();
    let value = |&class: &f32| match class.is_nan() {
        true => f32::NAN,
        false => values.get(&(class.round() as i64)).copied().unwrap_or(f32::NAN),
    };
    Grid::from_vec(classes.rows(), classes.cols(), classes.values().iter().map(value).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_become_what_they_stand_for_and_nothing_where_they_stand_for_none() {
        let of = |class, curve_number| ClassValue { class, curve_number, impervious: None };
        let grid = Grid::from_vec(1, 4, vec![11.0, 42.0, 99.0, f32::NAN]);
        let found =
            looked_up(&grid, &[of(11, Some(70.0)), of(42, Some(60.0)), of(99, None)], |c| c.curve_number);
        assert_eq!(found.values()[..2], [70.0, 60.0]);
        assert!(found.values()[2].is_nan() && found.values()[3].is_nan());
    }
}
