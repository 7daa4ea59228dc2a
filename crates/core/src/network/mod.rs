//! Streams: where they begin, how they join, their order.

mod extract;
mod main_stem;

pub use extract::{Network, Reach, extract, extract_cells};
pub use main_stem::{main_stem, main_stem_of_cells};
