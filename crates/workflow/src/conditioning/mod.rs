//! Sinks, barriers and burned streams: choices, the review, and the run that conditions and routes.

pub(crate) mod choices;
pub(crate) mod review;
pub(crate) mod route;
mod section;

pub use choices::{Choices, conditioning_key, conditioning_key_of};
pub use review::{BarrierFacts, Decision, Profile, profile_along};
pub use section::{Section, SectionPlace, burn_across, section_across};
