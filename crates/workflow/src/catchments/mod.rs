//! Pour points and what drains to them.

pub(crate) mod measures;
pub(crate) mod pour_points;

pub use measures::{CURVE_NUMBERS, CatchmentMeasures, Concentration, measures_of, set_concentration, spread};
pub use pour_points::{
    CatchmentFacts, PourPointPlace, Preview, add_pour_point, delete_pour_point, move_pour_point, preview,
    rename_pour_point, set_snapping,
};
