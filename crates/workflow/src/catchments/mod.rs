//! Pour points and what drains to them.

pub(crate) mod pour_points;

pub use pour_points::{
    CatchmentFacts, PourPointPlace, add_pour_point, delete_pour_point, move_pour_point, rename_pour_point,
    set_snapping,
};
