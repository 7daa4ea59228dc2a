//! Making a DEM fit to be computed on, from elevations as they were read: spikes, sea, voids, steps of rounding, another
//! CRS or cell size, a clip. A study and a recipe prepare alike, because both do it here.

mod choices;
mod error;
mod read;
mod steps;

pub use choices::{Alignment, Clip, PreparedPlace, Preparing};
pub use error::{Error, Result};
pub use read::Read;
pub use steps::{Prepared, prepare};
