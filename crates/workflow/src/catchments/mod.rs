//! Pour points and what drains to them.

pub(crate) mod catchment;

pub use catchment::{CatchmentFacts, PourPointPlace, place_pour_point};
