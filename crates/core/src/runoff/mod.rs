//! Runoff: what reaches and fills sinks; from rain to runoff, and its way through sub-basins, channels and storages.

mod curve_number;
mod level_pool;
mod muskingum;
mod sinks;
mod storm;
mod unit_hydrograph;

pub use curve_number::{INITIAL_ABSTRACTION, retention_mm, runoff_mm};
pub use level_pool::{BROAD_CRESTED, Pool};
pub use muskingum::{Channel, Steady, Weights, route_channel};
pub use sinks::{runoff_to_fill, shares_through};
pub use storm::StormShape;
pub use unit_hydrograph::{DIMENSIONLESS, LONGEST_STEP, UnitHydrograph, convolve, unit_hydrograph};
