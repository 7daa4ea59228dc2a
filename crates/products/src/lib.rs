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
mod datapackage;
mod directions;
mod findings;
mod lookup;
mod measures;
pub mod named;
mod network;
pub mod numbers;
mod parameters;
mod places;
mod quantity;
mod rasters;
mod records;
mod schematic;
mod scheme;
mod table;
mod units;
mod zonal;

pub use catchments::{CATCHMENTS, Delineated, POUR_POINTS, Placed, SUBBASINS, pour_points};
pub use datapackage::{datapackage, dictionary};
pub use directions::DirectionCodes;
pub use findings::{CROSSINGS, ORDERS, SHORTFALLS, SINKS};
pub use lookup::{ClassValue, looked_up};
pub use measures::{MEASURES, measures_row};
pub use network::{JUNCTIONS, MAIN_STEMS, REACHES, Stem, junctions, main_stems, reach_row, reaches};
pub use parameters::{
    CURVE_NUMBERS, Chosen, Elements, ModelChoice, Parameter, Parameters, Reservoir, Typed, TypedValue, shares,
};
pub use places::{BASINS, BOUNDARY_DIFFERENCE, INFLOWS, SiteFound, basins, boundary_difference, inflows};
pub use quantity::{Quantity, Unit};
pub use rasters::{
    ASPECT, CATCHMENT_IDS, CATCHMENT_PROBABILITY, CONDITIONED, DIVIDED_ACCUMULATION, FALLING,
    FLOW_ACCUMULATION, FLOW_ANGLE, FLOW_DIRECTION, FLOW_SHARES, GROUND, HEIGHT_ABOVE_STREAM, PREPARED,
    ProductCell, RasterProduct, SPECIFIC_AREA, STREAM_ORDER, STREAM_POWER, STREAM_PROBABILITY,
    WEIGHTED_ACCUMULATION, WEIGHTED_TOTAL, WETNESS,
};
pub use records::{PROVENANCE, SHAPEFILE_FIELDS, TRIALS};
pub use schematic::schematic;
pub use scheme::{
    AREA_DISTANCE, CONNECTIVITY, CROSS_SECTIONS, Channel, ChannelRule, FLOWPATHS, HYPSOMETRY, Model, NEXUSES,
    SUBBASIN_PARAMETERS, Sourced, section_rows,
};
pub use table::{Column, Error, Key, Result, Row, Table};
pub use units::{ShownUnit, Units};
pub use zonal::{Areas, CLASS_SHARES, GivenRaster, RASTER_FIGURES, ZonalRows};

/// All tables and layers.
pub const TABLES: [&Table; 26] = [
    &REACHES,
    &JUNCTIONS,
    &MAIN_STEMS,
    &CATCHMENTS,
    &SUBBASINS,
    &POUR_POINTS,
    &MEASURES,
    &RASTER_FIGURES,
    &CLASS_SHARES,
    &INFLOWS,
    &BASINS,
    &BOUNDARY_DIFFERENCE,
    &SUBBASIN_PARAMETERS,
    &FLOWPATHS,
    &NEXUSES,
    &CONNECTIVITY,
    &HYPSOMETRY,
    &AREA_DISTANCE,
    &CROSS_SECTIONS,
    &TRIALS,
    &PROVENANCE,
    &SHAPEFILE_FIELDS,
    &SINKS,
    &CROSSINGS,
    &SHORTFALLS,
    &ORDERS,
];
