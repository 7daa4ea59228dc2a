//! The catchment of a pour point beside that of the same place in another study: with another DEM, another conditioning.

use std::sync::Arc;

use bothros_core::catchments::{Agreement, MultiPolygon, SnapTo, compare_with, delineate, snap_to_cells};
use bothros_core::routing::DIRECTION_NODATA;
use bothros_formats::Transform;
use bothros_store::{PourPoint, Store, kept};

use super::pour_points::Delineating;
use crate::{
    CatchmentFacts, CatchmentMeasures, CurveNumbers, Error, Facts, GridCache, Result, blocking, boxed,
};

/// The catchment of a pour point's place in another study.
pub struct Elsewhere {
    /// name of the other study
    pub study: String,
    /// how far the place moved there by snapping, metres
    pub moved_m: f64,
    /// what is measured of it there
    pub measures: Arc<CatchmentMeasures>,
    /// its curve number there
    pub curve_number: Option<f64>,
    /// how it and the catchment of this study share land, on the cells of this study
    pub agreement: Agreement,
    /// its outline in the CRS of this study
    pub outline: MultiPolygon,
}

/// Delineates the place of a pour point, as it was given, in another study: by the distance and the rule that the pour point was
/// snapped with.
///
/// # Errors
/// [`Error::Refused`] where either study is not routed, or the place lies outside the other's DEM; [`Error::Core`] where no stream is
/// near.
#[boxed]
pub async fn elsewhere(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    point: &PourPoint,
    other: i64,
) -> Result<Elsewhere> {
    let found = kept::read_some::<CatchmentFacts>(&point.catchment)?.filter(|_| facts.routing.is_some());
    let own_cell = found.ok_or_else(|| Error::Refused("the pour point has no catchment yet".into()))?.cell;
    let there = Facts::of(&store.study(other).await?)?;
    let named = |why: &str| Error::Refused(format!("{}: {why}", there.name));
    let not_routed = || named("flow is not routed there yet");
    let (here_crs, there_crs) = match (&facts.terrain, &there.terrain) {
        (Some(here), Some(other)) => (here.crs.clone(), other.crs.clone()),
        _ => return Err(not_routed()),
    };
    if there.routing.is_none() {
        return Err(not_routed());
    }
    let at = Transform::new(&here_crs, &there_crs)?.point(point.x, point.y)?;
    let with = Delineating::of(store, cache, &there).await?;
    let frame = with.grids.frame;
    if frame.cell_at(at.0, at.1).is_none() {
        return Err(named("the pour point lies outside its DEM"));
    }
    let snap_to: SnapTo = serde_json::from_value(serde_json::Value::String(point.snap_to.clone()))?;
    let snap_m = point.snap_m;
    let snapping = with.clone();
    let cell = blocking(move || {
        let areas = &snapping.grids.accumulation;
        let is_stream = |cell| snapping.streams.is_stream(snapping.threshold, areas.index(cell));
        Ok(snap_to_cells(areas, &frame, &is_stream, at, snap_m, snap_to)?)
    })
    .await?;
    let measures = cache.measured(store, &there, cell).await?;
    let numbers = CurveNumbers::of(store, cache, &there).await?;
    let grids = cache.get(store, facts).await?;
    let (x, y) = frame.centre(cell);
    blocking(move || {
        let curve_number = numbers.of_catchment(&with.grids, cell)?;
        let back = Transform::new(&there_crs, &here_crs)?;
        let mut outline = delineate(&with.grids.directions, cell)?.outline(&frame).polygons;
        for [x, y] in outline.iter_mut().flatten().flatten() {
            (*x, *y) = back.point(*x, *y)?;
        }
        let known = |index: usize| grids.directions.values()[index] != DIRECTION_NODATA;
        let ours = delineate(&grids.directions, own_cell)?;
        let agreement = compare_with(&ours, &outline, &grids.frame, &known);
        Ok(Elsewhere {
            study: there.name,
            moved_m: (x - at.0).hypot(y - at.1) * frame.unit_m,
            measures,
            curve_number,
            agreement,
            outline,
        })
    })
    .await
}
