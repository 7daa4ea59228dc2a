//! Batches: one recipe over many DEMs, thresholds, methods, pour points. A batch file says what varies; each combination is
//! a run.

mod plan;
mod work;

pub use plan::{Batch, PlannedRun};
pub use work::{Ended, Outcome, RunState, Told, work};
