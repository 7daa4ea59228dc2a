//! Pour points as a recipe tells them.

use bothros_core::catchments::SnapTo;
use bothros_formats::Geometry;
use bothros_recipe::SnapChoice;
use bothros_store::PourPoint;

use super::inputs::{Placed, Snaps};
use crate::CatchmentFacts;

/// Pour points of a study, as its recipe tells them.
pub(crate) struct Points {
    /// where they were placed, each with how it snaps where they do not all snap alike
    pub placed: Vec<Placed>,
    /// how far all of them may move, metres; 0 where each has its own
    pub snap_m: f64,
    /// what all of them snap to
    pub snap_to: SnapChoice,
    /// what a recipe does not tell of them
    pub untold: Vec<String>,
}

/// How a point snaps, as a file of points says it.
fn snaps(point: &PourPoint) -> Snaps {
    let (to, area_km2) = match SnapTo::try_from(point.snap_to.clone()) {
        Ok(SnapTo::KnownArea(m2)) => (SnapChoice::KnownArea, Some(m2 as f64 / 1e6)),
        Ok(SnapTo::NearestStream) => (SnapChoice::NearestStream, None),
        _ => (SnapChoice::Largest, None),
    };
    Snaps { m: point.snap_m, to, area_km2 }
}

impl Points {
    /// Those of points that have catchments.
    pub fn of(points: &[(PourPoint, CatchmentFacts)]) -> Self {
        let mut untold = Vec::new();
        let mut own: Vec<&(PourPoint, CatchmentFacts)> = Vec::new();
        for given in points {
            match own.iter().find(|(_, found)| found.cell == given.1.cell) {
                Some((first, _)) => untold.push(format!(
                    "the pour point {}, which lies in one cell with {}",
                    given.0.name, first.name
                )),
                None => own.push(given),
            }
        }
        let first = own.first().map(|(point, _)| snaps(point));
        let alike = own.iter().all(|(point, _)| Some(snaps(point)) == first);
        // What is known to drain to a point is its own.
        let alike = alike && first.is_none_or(|snaps| snaps.area_km2.is_none());
        let placed = own.iter().map(|(point, _)| Placed {
            name: Some(point.name.clone()),
            snaps: (!alike).then(|| snaps(point)),
            ..Placed::of(Geometry::Point([point.x, point.y]))
        });
        let all = first.filter(|_| alike);
        Self {
            placed: placed.collect(),
            snap_m: all.map_or(0.0, |snaps| snaps.m),
            snap_to: all.map_or(SnapChoice::Largest, |snaps| snaps.to),
            untold,
        }
    }
}
