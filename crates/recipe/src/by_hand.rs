//! What was changed by hand: edits of the network, sub-basins split, merged and named. All places are in the CRS of the
//! prepared DEM.

use bothros_core::catchments::{DivisionEdits, SubBasins};
use bothros_core::network::Edit;
use bothros_core::{Area, Cell, Frame};
use serde::{Deserialize, Serialize};

use crate::{Catchments, Error, Result};

/// What an edit of the network does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum EditKind {
    /// from a place upwards nothing is stream
    Prune,
    /// a stream begins at a place
    Head,
    /// inside an area another threshold holds
    Within,
}

/// `[[network.edits]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EditSettings {
    /// what it does
    pub kind: EditKind,
    /// easting and northing of the place, for `prune` and `head`
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<[f64; 2]>,
    /// corners of the area, for `within`
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ring: Vec<[f64; 2]>,
    /// for `within` the threshold there; for `prune` what drains to the place, so that the stream is known again; m²
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub area_m2: Option<f64>,
    /// why
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reason: String,
}

const EDITS: &str = "network.edits";

impl EditSettings {
    /// An edit as a recipe tells it.
    pub fn of(edit: &Edit, reason: &str) -> Self {
        let reason = reason.to_owned();
        match edit {
            Edit::Prune { at, area } => Self {
                kind: EditKind::Prune,
                at: Some(*at),
                ring: Vec::new(),
                area_m2: area.map(|a| a.as_m2()),
                reason,
            },
            Edit::Head { at } => {
                Self { kind: EditKind::Head, at: Some(*at), ring: Vec::new(), area_m2: None, reason }
            }
            Edit::Within { ring, area } => Self {
                kind: EditKind::Within,
                at: None,
                ring: ring.clone(),
                area_m2: Some(area.as_m2()),
                reason,
            },
        }
    }

    /// The edit, as the core takes it.
    ///
    /// # Errors
    /// [`Error::Recipe`] where something is missing or too much.
    pub fn edit(&self) -> Result<Edit> {
        let wrong = |what: &str| Error::key(EDITS, what);
        let area = match self.area_m2 {
            Some(m2) if !(m2.is_finite() && m2 > 0.0) => {
                return Err(wrong("area_m2 must be above 0"));
            }
            area => area.map(Area::m2),
        };
        match (self.kind, self.at, self.ring.len()) {
            (EditKind::Prune, Some(at), 0) => Ok(Edit::Prune { at, area }),
            (EditKind::Head, Some(at), 0) if area.is_none() => Ok(Edit::Head { at }),
            (EditKind::Within, None, 3..) => {
                let area = area.ok_or_else(|| wrong("within needs area_m2, the threshold there"))?;
                Ok(Edit::Within { ring: self.ring.clone(), area })
            }
            (EditKind::Prune, ..) => Err(wrong("prune needs at, a place, and no ring")),
            (EditKind::Head, ..) => Err(wrong("head needs at, a place, and neither ring nor area_m2")),
            (EditKind::Within, ..) => Err(wrong("within needs a ring of three corners at least, and no at")),
        }
    }
}

/// `[[catchments.names]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SubbasinName {
    /// easting and northing of its outlet
    pub at: [f64; 2],
    /// the name
    pub name: String,
}

impl Catchments {
    /// Sub-basins split and merged by hand, on a grid; places outside it are added to `notes`.
    pub(crate) fn division_edits(&self, frame: &Frame, notes: &mut Vec<String>) -> DivisionEdits {
        let mut cells = |key: &str, places: &[[f64; 2]]| {
            let mut cell = |[x, y]: &[f64; 2]| {
                let found = frame.cell_at(*x, *y);
                if found.is_none() {
                    notes.push(format!("catchments.{key}: {x}, {y} lies outside the DEM"));
                }
                found
            };
            places.iter().filter_map(&mut cell).collect()
        };
        DivisionEdits { split: cells("split", &self.split), merged: cells("merged", &self.merged) }
    }

    /// Names given to sub-basins, in their order; names of none are added to `notes`.
    pub(crate) fn names_of(
        &self,
        subbasins: &SubBasins,
        frame: &Frame,
        notes: &mut Vec<String>,
    ) -> Vec<Option<String>> {
        let mut names = vec![None; subbasins.outlets.len()];
        for SubbasinName { at: [x, y], name } in &self.names {
            let outlet: Option<Cell> = frame.cell_at(*x, *y);
            match subbasins.outlets.iter().position(|&o| Some(o) == outlet) {
                // Of two names for one outlet the first counts.
                Some(at) => names[at] = names[at].take().or_else(|| Some(name.clone())),
                None => notes.push(format!("catchments.names: no sub-basin ends at {x}, {y} (“{name}”)")),
            }
        }
        names
    }
}
