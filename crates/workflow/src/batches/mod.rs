//! Batches: one recipe over many DEMs, thresholds, methods, pour points, each a run that any worker does.

mod begin;
mod compared;
mod results;
mod values;
mod work;

pub use begin::{BatchWish, Given, PlannedBatch, WhatVaries, plan_batch};
pub use bothros_recipe::PROGRAM;
pub use bothros_recipe::batch::{PlannedRun, RunRow};
pub use compared::{NetworksCompared, StreamsOf, compare_networks};
pub use results::{batch_csv, row_of, write_batch_package};
pub use values::{VARIED, Varied, read_values};
pub use work::work_on_run;
