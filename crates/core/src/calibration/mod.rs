//! Calibrating the threshold: how well the network at each of many thresholds agrees with mapped streams, and
//! what the network's own form says.

mod agreement;
mod constant_drop;

pub use agreement::{Scores, agreement};
pub use constant_drop::{DropTest, constant_drop, smallest_constant};
