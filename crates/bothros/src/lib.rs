//! The parts of the program, for `main` and for tests that start the real server.

/// Large blocks of a run that must not take more memory than it says lie on disk; all others are the system's.
#[global_allocator]
static MEMORY: bothros_spill::Spilling = bothros_spill::Spilling;

pub mod apart;
pub mod backup;
pub mod baselines;
pub mod batch;
pub mod bench;
pub mod bench_recipe;
mod bench_shared;
pub mod bench_site;
pub mod demo;
pub mod elevations;
pub mod limits;
pub mod map_servers;
pub mod prove;
pub mod run;
pub mod scratch;
pub mod serve;
mod stand_in;
mod supervise;

/// Boxes the future of an async function: what it does is compiled here, not once more in every crate that awaits it.
pub(crate) use async_recursion::async_recursion as boxed;
