//! The threshold, the evidence for it, trials, edits by hand and shortfalls.

mod begins;
mod edits;
pub(crate) mod evidence;
mod indices;
mod judged;
pub(crate) mod map;
mod shortfalls;
pub(crate) mod threshold;
mod trials;

pub use begins::{Heads, begins_told, heads_have_changed, set_begins, set_heads_within};
pub use edits::{StreamEdit, edit_streams};
pub use evidence::{Calibration, Evidence, PLACES, set_tolerance};
pub use indices::{IndexGrid, LandIndex};
pub use judged::Judged;
pub use map::{Tolerance, ToleranceFrom, tolerance};
pub use shortfalls::{ShortfallMark, Verdict, mark_shortfall};
pub use threshold::{keep_threshold, set_threshold};
pub use trials::{
    KeptTrial, TrialFacts, TrialLine, choose_trial, chosen_trial, delete_trial, describe_trial, keep_trial,
    trials,
};
