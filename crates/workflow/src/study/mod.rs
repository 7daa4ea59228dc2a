//! What is known of a study: facts, settings, grids in memory, findings.

mod facts;
mod findings;
pub(crate) mod grids;
pub(crate) mod kept_forms;
mod settings;
pub(crate) mod wanted;

pub use facts::{
    ConditionedFacts, Facts, NetworkFacts, PlacedSeam, Provenance, ReviewFacts, RoutingFacts, Settings,
    SourceFacts, SourceFile, TerrainFacts,
};
pub use findings::{Action, Finding, Severity, findings};
pub use grids::{GridCache, Grids, Index, Streams, Ways};
pub use settings::{change_settings, put_back_settings};
