//! Catchments: what drains to a pour point, and its outline.

mod delineate;
mod polygon;
mod snap;
mod upstream;

pub use delineate::{Catchment, delineate, innermost};
pub use polygon::{MultiPolygon, Outline, outline};
pub use snap::{SnapTo, snap};
