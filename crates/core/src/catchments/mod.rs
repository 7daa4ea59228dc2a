//! Catchments: what drains to a pour point, and its outline.

mod delineate;
mod label;
mod longest;
mod polygon;
mod snap;
mod upstream;

pub use delineate::{Catchment, delineate, innermost};
pub use label::{Labelled, label, outlets_of_footprint};
pub use longest::{LongestPath, longest_flow_path};
pub use polygon::{MultiPolygon, Outline, outline, outlines};
pub use snap::{SnapTo, snap, snap_to_cells};
