//! The model scheme: sub-basins that drain to nexuses, and flowpaths that connect these down to the final outlets.
//!
//! After OGC 14-111r6, WaterML 2 part 3, Surface Hydrology Features (HY_Features): a sub-basin is its catchment, realised as an area; a
//! flowpath realises one as a line from its inflow nexus to its outflow nexus; a nexus is where catchments meet.

mod build;
mod checks;
mod graph;
mod sections;

pub use build::{Storage, from_subbasins};
pub use checks::{Flaw, flaws};
pub use graph::{Flowpath, Nexus, NexusKind, Part, Scheme};
pub use sections::{Section, SectionPoint, sections};
