//! Profiles: the ground along and across lines.

mod along;
mod knickpoints;
mod section;

pub use along::{Profile, Station, distances_along, profile_along, stations_along};
pub use knickpoints::{Knickpoint, knickpoints};
pub use section::{Section, SectionPlace, burn_across, section_across};
