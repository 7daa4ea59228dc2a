//! What is known of a study: facts, settings, grids in memory, findings.

pub(crate) mod as_read;
mod cell_flow;
mod describe;
mod facts;
mod findings;
pub(crate) mod grid_cache;
pub(crate) mod grids;
pub(crate) mod kept_forms;
mod place;
pub(crate) mod settings;
pub(crate) mod style;
pub(crate) mod wanted;

pub use cell_flow::{CellFlow, Further};
pub use describe::describe_study;
pub use facts::{
    ConditionedFacts, Facts, NetworkFacts, PlacedSeam, Provenance, ReviewFacts, RoutingFacts, Settings,
    SourceFacts, SourceFile, TerrainFacts,
};
pub use findings::{Action, Finding, Severity, findings};
pub use grid_cache::{GridCache, Lines};
pub use grids::{Grids, Index, Streams, Ways};
pub use place::{AsTyped, PlaceForm, read_place};
pub use settings::set_style;
pub use style::{
    BASIN_COLOURS, CATCHMENTS as CATCHMENT_STYLE, Colour, Dash, Fill, OrderStyle, STREAMS as STREAM_STYLE,
    SUBBASINS as SUBBASIN_STYLE, VectorStyle, order_styles, role_key, usual_styles, vector_style,
};
