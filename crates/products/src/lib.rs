//! What Bothros hands out: every table, layer and raster, defined once.
//!
//! The application's package, `bothros run` and tables on screen take names, columns, units, meanings and nodata from
//! here, so that the same thing has the same name and the same digits wherever it appears.
//!
//! ```
//! use bothros_products::{REACHES, Unit};
//!
//! let length = REACHES.column("length_m").unwrap();
//! assert_eq!(length.quantity.unit(), Unit::Metre);
//! assert!(!length.nullable);
//! ```

mod catchments;
mod findings;
mod measures;
mod network;
pub mod numbers;
mod places;
mod quantity;
mod rasters;
mod records;
mod table;
mod units;

pub use catchments::{CATCHMENTS, Delineated, POUR_POINTS, Placed, SUBBASINS, pour_points};
pub use findings::{CROSSINGS, ORDERS, SHORTFALLS, SINKS};
pub use measures::{MEASURES, measures_row};
pub use network::{JUNCTIONS, MAIN_STEMS, REACHES, Stem, junctions, main_stems, reach_row, reaches};
pub use places::{BASINS, BOUNDARY_DIFFERENCE, INFLOWS, SiteFound, basins, boundary_difference, inflows};
pub use quantity::{Quantity, Unit};
pub use rasters::{
    CATCHMENT_IDS, CONDITIONED, DIVIDED_ACCUMULATION, FLOW_ACCUMULATION, FLOW_DIRECTION, GROUND, ProductCell,
    RasterProduct, STREAM_ORDER, WEIGHTED_ACCUMULATION, WEIGHTED_TOTAL,
};
pub use records::{PROVENANCE, TRIALS};
pub use table::{Column, Error, Key, Result, Row, Table};
pub use units::{ShownUnit, Units};

/// All tables and layers.
pub const TABLES: [&Table; 16] = [
    &REACHES,
    &JUNCTIONS,
    &MAIN_STEMS,
    &CATCHMENTS,
    &SUBBASINS,
    &POUR_POINTS,
    &MEASURES,
    &INFLOWS,
    &BASINS,
    &BOUNDARY_DIFFERENCE,
    &TRIALS,
    &PROVENANCE,
    &SINKS,
    &CROSSINGS,
    &SHORTFALLS,
    &ORDERS,
];
