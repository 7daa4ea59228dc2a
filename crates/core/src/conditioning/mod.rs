//! Making a DEM fit for hydrology: sinks found, measured and filled.

mod fill;
mod sinks;

pub use fill::fill;
pub use sinks::{Sink, SinkReport, list_sinks};
