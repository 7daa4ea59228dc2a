//! Batches: one recipe over many DEMs, thresholds, methods, pour points. A batch file says what varies; each combination is
//! a run.

mod figures;
mod plan;
mod work;

pub use figures::{RunRow, runs_csv};
pub use plan::{Batch, MOST_RUNS, PlannedRun, Varied};
pub use work::{Ended, Outcome, RunState, Told, work};
