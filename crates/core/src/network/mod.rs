//! Streams: their heads, junctions and orders.

mod again;
mod astray;
mod begins;
mod continuity;
mod edits;
mod extract;
mod main_stem;
mod ratios;

pub use again::{Agreement, derived_again};
pub use astray::{Astray, leaves_low_ground};
pub use begins::{Beginning, Begins, Converging, Flow, SlopeArea};
pub use continuity::{Ending, Piece, pieces};
pub use edits::{Edit, Edited, edited_accumulation};
pub use extract::{Network, Reach, extract, extract_cells, extract_edited};
pub use main_stem::{main_stem, main_stem_of_cells};
pub use ratios::{HortonRatios, OrderTotals, horton_ratios, totals_by_order};
