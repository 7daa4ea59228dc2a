//! What the error of a DEM does to streams and catchments: the DEM is made again and again with an error of the same kind, and all is derived anew.

mod field;
mod realise;
mod spread;

pub use field::DemError;
pub use realise::{Place, Realisations, Realised, Tally};
pub use spread::{Doubt, Spread, doubt, standard_error};
