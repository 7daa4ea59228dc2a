//! The elements of a scheme and how they are connected.

use serde::{Deserialize, Serialize};

/// What a nexus is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NexusKind {
    /// where flowpaths or sub-basins meet, and one goes on
    Junction,
    /// at a pour point
    Station,
    /// a lake or reservoir, whose water is held back
    Storage,
    /// where a flowpath divides; a network of D8 has none
    Split,
    /// a final outlet: no flowpath leads on
    Terminal,
}

impl NexusKind {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Junction, Self::Station, Self::Storage, Self::Split, Self::Terminal];

    /// Name in files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Junction => "junction",
            Self::Station => "station",
            Self::Storage => "storage",
            Self::Split => "split",
            Self::Terminal => "terminal",
        }
    }

    /// The kind of a name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// A point where sub-basins and flowpaths end, and the next flowpath begins.
#[derive(Debug, Clone, PartialEq)]
pub struct Nexus {
    /// its number, from 1, rising downstream
    pub id: u32,
    /// what it is
    pub kind: NexusKind,
    /// its cell, by number in row order
    pub cell: u32,
    /// the pour point at it, by number from 1
    pub point: Option<u32>,
    /// the storage at it, by its place in the list that was given
    pub storage: Option<usize>,
    /// the flowpath that leads on; none at a final outlet
    pub flowpath: Option<u32>,
}

/// The way of water from one nexus to the next.
#[derive(Debug, Clone, PartialEq)]
pub struct Flowpath {
    /// its number, from 1, rising downstream
    pub id: u32,
    /// the nexus it begins at
    pub from: u32,
    /// the nexus it ends at
    pub to: u32,
    /// the sub-basin that it crosses
    pub subbasin: u32,
    /// its cells from nexus to nexus, by number in row order
    pub cells: Vec<u32>,
    /// length along the centres of its cells, metres
    pub length_m: f64,
    /// fall of the ground from end to end, metres; negative where it rises
    pub drop_m: f64,
}

impl Flowpath {
    /// Fall over length, m/m.
    pub fn slope(&self) -> f64 {
        if self.length_m > 0.0 { self.drop_m / self.length_m } else { 0.0 }
    }
}

/// A sub-basin as part of the scheme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// its number among the sub-basins
    pub id: u32,
    /// the nexus that it drains to
    pub nexus: u32,
    /// its cells
    pub cells: u64,
}

/// A model scheme.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Scheme {
    /// the nexuses by their numbers
    pub nexuses: Vec<Nexus>,
    /// the flowpaths by their numbers
    pub flowpaths: Vec<Flowpath>,
    /// the sub-basins by their numbers
    pub subbasins: Vec<Part>,
    /// flowpaths that were too short to be routed: their nexuses became one
    pub merged: usize,
}

impl Scheme {
    /// The nexus after one; none at a final outlet.
    pub fn after(&self, nexus: u32) -> Option<u32> {
        let flowpath = self.nexuses.get(nexus as usize - 1)?.flowpath?;
        self.flowpaths.get(flowpath as usize - 1).map(|f| f.to)
    }
}
