//! The proof run: a small stand-in for a hydrologic model, which reads a package and nothing else.
//!
//! A design storm falls on all sub-basins; curve numbers give the runoff, a dimensionless unit hydrograph brings it to the nexus, channels are
//! routed by Muskingum and Cunge, storages by level pool. It proves that a package is complete and consistent; it is no forecast.

mod complaint;
mod difference;
mod error;
mod package;
mod run;

pub use complaint::Complaint;
pub use difference::{PeakDifference, differences};
pub use error::{Error, Result};
pub use package::{FlowpathIn, NexusIn, Package, SubbasinIn, read};
pub use run::{Balance, NexusFlow, Proof, Settings, prove};
