//! Making a DEM fit for hydrology: sinks found, measured, filled and breached; lines, lakes, voids
//! and mapped streams worked in.
//!
//! Every step takes a surface and gives a new one; [`cut_and_fill`] and [`difference`] tell what it
//! changed. [`condition`] runs them all in their order.

mod barriers;
mod bed;
mod breach;
mod breach_band;
mod burn;
mod closed;
mod condition;
mod cuts;
mod difference;
mod fill;
mod fill_band;
mod fit;
mod held;
mod hierarchy;
mod join;
mod lakes;
mod lines;
mod nests;
mod paths;
mod rebuild;
mod rows;
mod sinks;
mod skeleton;
mod steps;
mod tile;
mod trees;
mod voids;
mod way_out;
mod whole;

pub use barriers::{Barrier, BarrierSearch, CROSSINGS_SEEN_M, TRUE_BY_SCORE, find_barriers, share_true};
pub use bed::bed_below_banks;
pub use breach::{Breach, BreachLimits, BreachReport, bottoms, breach};
pub use breach_band::{
    BandBreaches, BreachingBand, Lowered, LoweredBeside, least_rows_to_breach, reach_of_breaching,
    report_of_bands,
};
pub use burn::{Burn, burn, stream_cells};
pub use closed::{ClosedBasin, KeptSinks, closed_basin_bottoms, fill_no_deeper};
pub use condition::{Conditioned, Conditioning, Remark, Step, StepKind, TreatSinks, condition};
pub use cuts::{Cut, deepest_cuts};
pub use difference::{Changes, CutAndFill, cut_and_fill, difference};
pub use fill::{fill, fill_to_outlets};
pub use fill_band::{BandSpills, FillingBand, settle_spills};
pub use fit::{StreamFit, stream_fits};
pub use hierarchy::{Depression, sink_hierarchy, sink_hierarchy_and_fill};
pub use lakes::{LakeLevel, Polygons, level_lakes};
pub use lines::{BreachLineOutcome, Line, lower_along, raise_along};
pub use rebuild::{OwnGround, Rebuild, Rebuilt, lines_near, rebuild};
pub use sinks::{DEEP, SHALLOW, Sink, SinkReport, list_and_mark_sinks, list_sinks};
pub use steps::{Unfilled, before_sinks};
pub use voids::fill_voids;
