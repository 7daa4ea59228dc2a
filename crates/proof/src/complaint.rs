//! What a hydrologic model would complain about.

use serde::Serialize;

/// Something that the run had to assume or leave out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Complaint {
    /// what was missing or odd, and what was done instead
    pub what: String,
    /// number of elements that it holds for
    pub elements: usize,
    /// the first of them
    pub first: u32,
}

/// Complaints of one kind, gathered.
pub(crate) fn gathered(what: impl Into<String>, elements: &[u32]) -> Option<Complaint> {
    let first = *elements.first()?;
    Some(Complaint { what: what.into(), elements: elements.len(), first })
}
