//! Runoff: what reaches and fills sinks.

mod sinks;

pub use sinks::{runoff_to_fill, shares_through};
