//! Catchments: what drains to a pour point, and its outline.

mod concentration;
mod delineate;
mod label;
mod longest;
mod measures;
mod polygon;
mod snap;
mod upstream;

pub use concentration::{Estimate, Flow, Formula, LAG_SHARE, concentration};
pub use delineate::{Catchment, delineate, innermost};
pub use label::{Labelled, label, outlets_of_footprint};
pub use longest::{LongestPath, longest_flow_path};
pub use measures::{Elevations, Measured, Measures, Stem, hypsometry, measure, sorted_elevations};
pub use polygon::{MultiPolygon, Outline, outline, outlines};
pub use snap::{Beside, SnapTo, beside, snap, snap_to_cells};
