//! Sinks, barriers and burned streams: choices, the review, and the run that conditions and routes.

mod changed;
pub(crate) mod choices;
mod decide;
mod keeping;
pub(crate) mod review;
pub(crate) mod route;
mod together;

pub use choices::{Choices, conditioning_key, conditioning_key_of};
pub use decide::{barrier_profile, choose_conditioning, decide, start_review, start_routing};
pub use review::{BarrierFacts, DEEP_M, Decision, ReviewChoice, choose_review};
pub use together::{AtWork, Sharing, help_others, share_routing, sharing};
