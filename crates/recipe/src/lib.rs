//! Recipes: a study's steps and settings as a file, run from files to files with no database.
//!
//! [`Recipe::read`] reads and checks the file, [`run`] does what it says.

pub mod batch;
mod by_hand;
mod catchments;
mod chain;
mod conditioning;
mod derived;
mod difference;
mod error;
mod handover;
mod inputs;
mod pages;
mod paths;
mod recipe;
mod room;
mod run;
mod summary;
mod terrain;

pub use by_hand::{EditKind, EditSettings, SubbasinName};
pub use catchments::{Catchments, CurveNumber, SnapChoice, ValueRaster, snapping};
pub use chain::ChainStep;
pub use conditioning::{BurnMethod, BurnSettings, Conditioning, RebuildSettings, Sinks};
pub use derived::{Derived, NamedLayer};
pub use difference::{Difference, difference};
pub use error::{Error, Result};
pub use handover::{Handover, HandoverFormat};
pub use inputs::split_layer;
pub use pages::{Pages, Ran, ReportFormat, ReportSettings, ReportUnits, SheetFormat, SheetSettings};
pub use recipe::{Network, Paths, Recipe, Routing, RoutingMethod, ThresholdChoice};
pub use room::Bytes;
pub use run::{Joined, Report, run, run_jointly, run_with};
pub use summary::Summary;
pub use terrain::{Align, Lattice, Terrain, definition};

/// The program and version that results are made by.
pub const PROGRAM: &str = concat!("bothros ", env!("CARGO_PKG_VERSION"));
