//! Rasters from formulas: what can be named, how they are computed from what is there, kept, and used.
//!
//! What is kept is the formula. Cells are computed from what the study holds at that moment, so that a derived raster is never out of date.

mod compute;
mod keep;
mod names;
mod uses;

pub(crate) use compute::spread;
pub use compute::{DerivedGrid, Histogram};
pub use keep::keep_derived;
pub(crate) use keep::unnamed;
pub use names::{KnownName, Names};
pub use uses::{derived_as_dem, derived_as_weights, write_derived};
