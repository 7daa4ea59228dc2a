//! Catchments: what drains to a pour point, and its outline.

mod along;
mod beyond;
mod bit_rows;
mod climb;
mod colours;
mod concentration;
mod coverage;
mod dam;
mod delineate;
mod distances;
mod division;
mod edge;
mod elevations;
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
pub use beyond::{Beyond, beyond};
pub use colours::{COLOURS, colours};
pub use concentration::{Estimate, Flow, Formula, LAG_SHARE, concentration, spread};
pub use coverage::{Coverage, OutlineKind};
pub use dam::{AtLine, at_line};
pub use delineate::{Catchment, delineate, edge_sides, innermost};
pub use distances::area_distance_of_parts;
pub use division::{Divided, Division, DivisionEdits, SubBasins, divide};
pub use edge::below_edge;
pub use elevations::{Elevations, hypsometry};
pub use label::{Labelled, label, outlets_of_footprint};
pub use longest::{LongestPath, flow_paths, longest_flow_path};
pub use many::{Outlined, delineate_many};
pub use measures::{Measured, Measures, Stem, measure, measure_part, measure_with};
pub use polygon::{MultiPolygon, Outline, outline, outlines};
pub use published::{Agreement, Discrepancy, area_of_polygons, compare_with};
pub use site::{Inflow, Outflow, Side, Site, site};
pub use snap::{Beside, Confluence, SnapTo, beside, confluence_near, snap, snap_to_cells};
pub use zonal::{
    Classes, Holds, MOST_CLASSES, Zonal, cells_shared, classes, classes_of_parts, no_classes, zonal,
    zonal_of_parts,
};
