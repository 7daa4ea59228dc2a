//! Formulas over rasters, in plain mathematics: read, checked for units, computed by blocks of cells on all cores.
//!
//! `none` is a cell without a value: what is computed from it is none too, but `false and none` is false and `true or none` is
//! true, since the other side decides.

mod check;
mod compute;
mod layer;
mod near;
mod parse;
mod unit;

pub use check::{Checked, Formula, Named, functions};
pub use compute::{Odd, OddKind, Raster, Values};
pub use layer::{FeatureShape, Features};
pub use parse::{Distance, Expression, Infix, LONGEST, MOST_OPERATIONS, Prefix, Reach, What, parse};
pub use unit::{Kind, Unit};

/// Where something stands in the text of a formula, bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// first byte
    pub from: usize,
    /// the byte after the last
    pub to: usize,
}

/// What is wrong with a formula.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct Error {
    /// where it stands
    pub at: Span,
    /// what it is, and what was expected
    pub what: String,
}

impl Error {
    pub(crate) fn at(at: Span, what: impl Into<String>) -> Self {
        Self { at, what: what.into() }
    }
}

/// The result of reading a formula.
pub type Result<T> = std::result::Result<T, Error>;

#[cfg(test)]
mod tests;
