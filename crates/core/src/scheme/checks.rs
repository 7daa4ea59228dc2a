//! What is wrong with how a scheme is connected.

use std::collections::{HashMap, HashSet};

use super::Scheme;

/// Something that is wrong, or doubtful, about a scheme. Numbers are those of its elements.
#[derive(Debug, Clone, PartialEq)]
pub enum Flaw {
    /// following the water from a nexus comes back to it
    Cycle {
        /// a nexus of the circle
        nexus: u32,
    },
    /// several flowpaths begin at a nexus
    SeveralWays {
        /// the nexus
        nexus: u32,
        /// the flowpaths
        flowpaths: Vec<u32>,
    },
    /// a sub-basin or a flowpath ends at a nexus that does not exist
    NoSuchNexus {
        /// the sub-basin, where it is one
        subbasin: Option<u32>,
        /// the flowpath, where it is one
        flowpath: Option<u32>,
        /// the nexus that is named
        nexus: u32,
    },
    /// nothing ends at a nexus
    Orphan {
        /// the nexus
        nexus: u32,
    },
    /// a flowpath crosses a sub-basin that does not exist
    NoSuchSubbasin {
        /// the flowpath
        flowpath: u32,
        /// the sub-basin that is named
        subbasin: u32,
    },
    /// a flowpath does not fall
    Flat {
        /// the flowpath
        flowpath: u32,
        /// its fall, metres
        drop_m: f64,
    },
    /// a number is given twice to elements of one kind
    Twice {
        /// what they are
        what: &'static str,
        /// the number
        id: u32,
    },
}

impl Flaw {
    /// Whether no model can be made of a scheme that has it.
    pub fn is_error(&self) -> bool {
        !matches!(self, Self::Flat { .. } | Self::Orphan { .. })
    }
}

impl std::fmt::Display for Flaw {
    /// The flaw in one sentence, without a full stop.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Cycle { nexus } => write!(f, "water from nexus {nexus} comes back to it"),
            Self::SeveralWays { nexus, flowpaths } => {
                write!(f, "{} flowpaths begin at nexus {nexus}: one alone may lead on", flowpaths.len())
            }
            Self::NoSuchNexus { subbasin: Some(id), nexus, .. } => {
                write!(f, "sub-basin {id} drains to nexus {nexus}, which does not exist")
            }
            Self::NoSuchNexus { flowpath, nexus, .. } => {
                let id = flowpath.unwrap_or_default();
                write!(f, "flowpath {id} names nexus {nexus}, which does not exist")
            }
            Self::Orphan { nexus } => write!(f, "nothing drains to nexus {nexus}"),
            Self::NoSuchSubbasin { flowpath, subbasin } => {
                write!(f, "flowpath {flowpath} crosses sub-basin {subbasin}, which does not exist")
            }
            Self::Flat { flowpath, drop_m } if *drop_m < 0.0 => {
                write!(f, "flowpath {flowpath} rises by {:.2} m", -drop_m)
            }
            Self::Flat { flowpath, .. } => {
                write!(f, "flowpath {flowpath} does not fall: a model cannot route along it")
            }
            Self::Twice { what, id } => write!(f, "more than one {what} has the number {id}"),
        }
    }
}

fn twice(what: &'static str, ids: impl Iterator<Item = u32>, found: &mut Vec<Flaw>) -> HashSet<u32> {
    let mut seen = HashSet::new();
    for id in ids {
        if !seen.insert(id) {
            found.push(Flaw::Twice { what, id });
        }
    }
    seen
}

/// Examines how a scheme is connected; nothing is taken for granted of its numbers, which may have been edited.
pub fn flaws(scheme: &Scheme) -> Vec<Flaw> {
    let mut found = Vec::new();
    let nexuses = twice("nexus", scheme.nexuses.iter().map(|n| n.id), &mut found);
    let subbasins = twice("sub-basin", scheme.subbasins.iter().map(|s| s.id), &mut found);
    twice("flowpath", scheme.flowpaths.iter().map(|f| f.id), &mut found);
    let mut ends: HashSet<u32> = HashSet::new();
    let mut ways: HashMap<u32, Vec<(u32, u32)>> = HashMap::new();
    for part in &scheme.subbasins {
        ends.insert(part.nexus);
        if !nexuses.contains(&part.nexus) {
            found.push(Flaw::NoSuchNexus { subbasin: Some(part.id), flowpath: None, nexus: part.nexus });
        }
    }
    for f in &scheme.flowpaths {
        ends.insert(f.to);
        ways.entry(f.from).or_default().push((f.id, f.to));
        for nexus in [f.from, f.to].into_iter().filter(|n| !nexuses.contains(n)) {
            found.push(Flaw::NoSuchNexus { subbasin: None, flowpath: Some(f.id), nexus });
        }
        if !subbasins.contains(&f.subbasin) {
            found.push(Flaw::NoSuchSubbasin { flowpath: f.id, subbasin: f.subbasin });
        }
        // Nor is what is no number a fall.
        if f.drop_m.is_nan() || f.drop_m <= 0.0 {
            found.push(Flaw::Flat { flowpath: f.id, drop_m: f.drop_m });
        }
    }
    for nexus in &scheme.nexuses {
        if !ends.contains(&nexus.id) {
            found.push(Flaw::Orphan { nexus: nexus.id });
        }
        if let Some(several) = ways.get(&nexus.id).filter(|w| w.len() > 1) {
            let flowpaths = several.iter().map(|w| w.0).collect();
            found.push(Flaw::SeveralWays { nexus: nexus.id, flowpaths });
        }
    }
    // Each nexus is followed once; one that is met again on the same way closes a circle.
    let mut done: HashSet<u32> = HashSet::new();
    for nexus in &scheme.nexuses {
        let (mut at, mut way) = (nexus.id, HashSet::new());
        while !done.contains(&at) {
            if !way.insert(at) {
                found.push(Flaw::Cycle { nexus: at });
                break;
            }
            match ways.get(&at).and_then(|w| w.first()) {
                Some(&(_, next)) => at = next,
                None => break,
            }
        }
        done.extend(way);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scheme::{Flowpath, Nexus, NexusKind, Part};

    /// Three nexuses in a row, a sub-basin at each.
    fn row() -> Scheme {
        let nexus = |id| Nexus {
            id,
            kind: NexusKind::Junction,
            cell: id,
            point: None,
            storage: None,
            flowpath: (id < 3).then_some(id),
        };
        let way = |id| Flowpath {
            id,
            from: id,
            to: id + 1,
            subbasin: id + 1,
            cells: vec![id, id + 1],
            length_m: 10.0,
            drop_m: 1.0,
        };
        Scheme {
            nexuses: (1..=3).map(nexus).collect(),
            flowpaths: (1..=2).map(way).collect(),
            subbasins: (1..=3).map(|id| Part { id, nexus: id, cells: 4 }).collect(),
            merged: 0,
        }
    }

    #[test]
    fn each_flaw_is_found_alone() {
        assert_eq!(flaws(&row()), []);
        let with = |change: fn(&mut Scheme)| {
            let mut scheme = row();
            change(&mut scheme);
            flaws(&scheme)
        };
        assert_eq!(with(|s| s.flowpaths[1].to = 1), [Flaw::Cycle { nexus: 1 }]);
        assert_eq!(
            with(|s| s.flowpaths[1].from = 1),
            [Flaw::SeveralWays { nexus: 1, flowpaths: vec![1, 2] }]
        );
        let none = |subbasin, flowpath| Flaw::NoSuchNexus { subbasin, flowpath, nexus: 9 };
        assert_eq!(with(|s| s.subbasins[1].nexus = 9), [none(Some(2), None)]);
        assert_eq!(with(|s| s.flowpaths[1].to = 9), [none(None, Some(2))]);
        assert_eq!(
            with(|s| s.flowpaths[1].subbasin = 7),
            [Flaw::NoSuchSubbasin { flowpath: 2, subbasin: 7 }]
        );
        assert_eq!(with(|s| s.flowpaths[0].drop_m = -0.5), [Flaw::Flat { flowpath: 1, drop_m: -0.5 }]);
        assert!(matches!(with(|s| s.flowpaths[0].drop_m = f64::NAN)[..], [Flaw::Flat { .. }]));
        assert_eq!(with(|s| s.subbasins[0].nexus = 2), [Flaw::Orphan { nexus: 1 }]);
        assert_eq!(with(|s| s.nexuses[2].id = 2).first(), Some(&Flaw::Twice { what: "nexus", id: 2 }));
    }
}
