//! Catchments: what drains to a pour point, and its outline.

mod along;
mod colours;
mod concentration;
mod coverage;
mod dam;
mod delineate;
mod division;
mod label;
mod longest;
mod many;
mod measures;
mod polygon;
mod published;
mod site;
mod snap;
mod soften;
mod upstream;
mod windows;
mod zonal;

pub use along::{Along, Interval, at_intervals, places};
pub use colours::{COLOURS, colours};
pub use concentration::{Estimate, Flow, Formula, LAG_SHARE, concentration};
pub use coverage::{Coverage, OutlineKind};
pub use dam::{AtLine, at_line};
pub use delineate::{Catchment, delineate, edge_sides, innermost};
pub use division::{Divided, Division, DivisionEdits, SubBasins, divide};
pub use label::{Labelled, label, outlets_of_footprint};
pub use longest::{LongestPath, area_distance, longest_flow_path};
pub use many::{Outlined, delineate_many};
pub use measures::{
    Elevations, Measured, Measures, Stem, hypsometry, measure, measure_part, sorted_elevations,
};
pub use polygon::{MultiPolygon, Outline, outline, outlines};
pub use published::{Agreement, Discrepancy, compare_with};
pub use site::{Inflow, Outflow, Side, Site, site};
pub use snap::{Beside, SnapTo, beside, snap, snap_to_cells};
pub use zonal::{Zonal, cells_shared, zonal};
