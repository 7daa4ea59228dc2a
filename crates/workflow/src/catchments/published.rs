//! Catchments of a study against boundaries that somebody else drew.

use std::sync::Arc;

use bothros_core::catchments::{
    Agreement, Discrepancy, MultiPolygon, area_of_polygons, compare_with, delineate,
};
use bothros_core::routing::{DIRECTION_NODATA, downstream};
use bothros_core::{Area, Connection, cells_along};
use bothros_store::{LayerRole, PourPoint, Shape, Store, kept};

use super::dams::{FeatureKey, features};
use crate::{CatchmentFacts, Error, Facts, GridCache, Grids, Result, blocking, boxed};

/// A published boundary that can be compared with.
#[derive(Debug, Clone, PartialEq)]
pub struct Published {
    /// the polygon
    pub key: FeatureKey,
    /// its name
    pub name: String,
    /// its area
    pub area: Area,
}

/// A comparison, with the probable reason of each difference.
pub struct Compared {
    /// what was found
    pub agreement: Agreement,
    /// for each piece of the agreement why it may be there
    pub reasons: Vec<&'static str>,
}

/// The boundaries of a study; none before its DEM is prepared.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn published_boundaries(store: &Store, facts: &Facts) -> Result<Vec<Published>> {
    let Some(frame) = facts.terrain.as_ref().map(|t| t.frame) else { return Ok(Vec::new()) };
    let all = features(store, facts.study, LayerRole::Boundaries, "Boundary").await?;
    let published = |(key, name, shape): (FeatureKey, String, Shape)| {
        let area = match &shape {
            Shape::Polygons(polygons) => area_of_polygons(polygons, &frame),
            _ => Area::m2(0.0),
        };
        Published { key, name, area }
    };
    Ok(all.into_iter().map(published).collect())
}

/// The name of a boundary and its polygons.
///
/// # Errors
/// [`Error::Refused`] where there is no such boundary.
#[boxed]
pub async fn boundary(store: &Store, study: i64, key: FeatureKey) -> Result<(String, MultiPolygon)> {
    let all = features(store, study, LayerRole::Boundaries, "Boundary").await?;
    let found = all.into_iter().find(|(k, ..)| *k == key);
    let gone = || Error::Refused("there is no such boundary any more".into());
    match found.ok_or_else(gone)? {
        (_, name, Shape::Polygons(polygons)) => Ok((name, polygons)),
        _ => Err(Error::Refused("a boundary must be a polygon".into())),
    }
}

/// Compares the catchment of a pour point with a boundary.
///
/// # Errors
/// [`Error::Refused`] where the pour point has no catchment, or there is no such boundary.
#[boxed]
pub async fn compared(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    point: &PourPoint,
    key: FeatureKey,
) -> Result<Arc<Compared>> {
    let found = kept::read_some::<CatchmentFacts>(&point.catchment)?.filter(|_| facts.routing.is_some());
    let cell = found.ok_or_else(|| Error::Refused("the pour point has no catchment yet".into()))?.cell;
    let (_, polygons) = boundary(store, facts.study, key).await?;
    // Where the analyst let water through a barrier.
    let lines = features(store, facts.study, LayerRole::BreachLines, "").await?;
    let grids = cache.get(store, facts).await?;
    blocking(move || {
        let ours = delineate(&grids.directions, cell)?;
        let known = |index: usize| grids.directions.values()[index] != DIRECTION_NODATA;
        let agreement = compare_with(&ours, &polygons, &grids.frame, &known);
        let breached: std::collections::HashSet<u32> = lines
            .iter()
            .filter_map(|(_, _, shape)| match shape {
                Shape::Line(line) => Some(cells_along(line, &grids.frame, Connection::Eight)),
                _ => None,
            })
            .flatten()
            .map(|cell| grids.directions.index(cell) as u32)
            .collect();
        let outlet = grids.directions.index(cell);
        let reasons = agreement.pieces.iter().map(|piece| reason(piece, &grids, outlet, &breached)).collect();
        Ok(Arc::new(Compared { agreement, reasons }))
    })
    .await
}

/// Share of level cells from which ground counts as level.
const LEVEL: f64 = 0.3;

/// Why a piece of land may be held by one only, the most telling reason first.
fn reason(
    piece: &Discrepancy,
    grids: &Grids,
    outlet: usize,
    breached: &std::collections::HashSet<u32>,
) -> &'static str {
    if piece.at_edge {
        return "at the edge of the DEM: water from beyond is not known";
    }
    if passes(piece, grids, breached) {
        return "its water passes a barrier where it was breached";
    }
    if piece.reach_cells <= 2.0 {
        return "a band of a cell or two along the divide: within what cells and drawing can tell";
    }
    let level = piece.places.iter().filter(|&&cell| is_level(grids, cell as usize)).count();
    if level as f64 > LEVEL * piece.places.len() as f64 {
        return "level ground: its divide is convention";
    }
    match piece.only_ours {
        true => "its water comes here on this DEM: the boundary leaves it out",
        false if below(piece, grids, outlet) => "it drains to the stream below the pour point",
        false => "its water goes elsewhere on this DEM",
    }
}

/// Whether water of a piece passes a breach within a kilometre of flow.
fn passes(piece: &Discrepancy, grids: &Grids, breached: &std::collections::HashSet<u32>) -> bool {
    if breached.is_empty() {
        return false;
    }
    let steps = (1000.0 / grids.frame.cell_m()) as usize;
    let mut seen = std::collections::HashSet::new();
    piece.places.iter().any(|&cell| {
        let mut at = Some(cell as usize);
        for _ in 0..steps {
            let Some(index) = at.filter(|&index| seen.insert(index)) else { return false };
            if breached.contains(&(index as u32)) {
                return true;
            }
            at = downstream(&grids.directions, index);
        }
        false
    })
}

/// Whether the lowest cell of a piece drains to what the pour point drains to.
fn below(piece: &Discrepancy, grids: &Grids, outlet: usize) -> bool {
    let ground = grids.filled.values();
    let lowest =
        piece.places.iter().copied().min_by(|&a, &b| ground[a as usize].total_cmp(&ground[b as usize]));
    let mut after = std::collections::HashSet::new();
    let mut at = Some(outlet);
    while let Some(index) = at.filter(|&index| after.insert(index)) {
        at = downstream(&grids.directions, index);
    }
    let mut at = lowest.map(|cell| cell as usize);
    for _ in 0..grids.directions.len() {
        let Some(index) = at else { return false };
        if after.contains(&index) {
            return true;
        }
        at = downstream(&grids.directions, index);
    }
    false
}

/// Whether the ground around a cell is level with it.
fn is_level(grids: &Grids, index: usize) -> bool {
    let z = grids.filled.values()[index];
    let cell = grids.filled.cell(index);
    let beside = |rows: isize, cols: isize| {
        let place = cell.row.checked_add_signed(rows).zip(cell.col.checked_add_signed(cols));
        place.and_then(|(row, col)| grids.filled.get(bothros_core::Cell { row, col }).copied())
    };
    let near = [(-1, 0), (1, 0), (0, -1), (0, 1)];
    near.iter().filter_map(|&(r, c)| beside(r, c)).filter(|&other| (other - z).abs() < 1e-4).count() >= 2
}
