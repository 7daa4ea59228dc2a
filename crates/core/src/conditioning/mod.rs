//! Making a DEM fit for hydrology: sinks found, measured and filled.

mod breach;
mod fill;
mod sinks;
mod skeleton;
mod tile;

pub use breach::{Breach, BreachLimits, BreachReport, bottoms, breach};
pub use fill::{fill, fill_to_outlets};
pub use sinks::{Sink, SinkReport, list_sinks};
