//! How what is computed looks: colours, and the ground as pictures; on the map and on sheets alike.

pub mod colour;
mod ground;

pub use colour::Ramp;
pub use ground::{
    Dot, OUTER, View, contour_interval, derived_tint, halo, index_tint, range, relief_dots, shade_dots,
    usual_light, view_dots,
};
pub(crate) use ground::{Look, ends};
