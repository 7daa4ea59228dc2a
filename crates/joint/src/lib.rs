//! Breaching, filling and routing a DEM by any number of processes, on one machine or several.
//!
//! The DEM is cut into bands of rows. What is known of each lies in a place that all processes reach, a directory or an object
//! store by S3's protocol: elevations, what crosses from band to band, and what was computed, made smaller without loss. Work goes
//! in phases; in each, whoever is free takes a band and puts the result back ([`Joint::work`]). A process that ends in the
//! middle costs its band, which another takes once it has given no sign of life for a while; a process that comes later, even
//! after all have ended, goes on from what is there.
//!
//! Where one process is to finish the work, it opens it ([`Works::open`]), and others help ([`Works::help`]).

mod claims;
mod error;
mod ground;
mod joint;
mod phases;
mod pieces;
mod rows;
mod shelf;
mod tasks;
mod works;

pub use error::Error;
pub use ground::{Breaching, Computed, Ground, Ways, conditioned_by_bands, left_to_bands};
pub use joint::{Joint, Outcome, Terms, room_in};
pub use works::{Opened, Works};
