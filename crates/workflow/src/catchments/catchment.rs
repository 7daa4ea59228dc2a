//! Pour points: placed, snapped, delineated.

use bothros_core::catchments::{delineate, snap_to_cells};
use bothros_core::{Cell, Threshold};
use bothros_store::{Kept, NewPourPoint, Store};
use serde::{Deserialize, Serialize};

use crate::{Error, Facts, GridCache, Grids, Result, Settings, blocking};

/// A catchment as it is kept with its pour point.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CatchmentFacts {
    /// the cell that the pour point snapped to
    pub cell: Cell,
    /// easting of its centre
    pub x: f64,
    /// northing of its centre
    pub y: f64,
    /// distance moved, metres
    pub moved_m: f64,
    /// number of cells
    pub cells: u64,
    /// its cells at the edge of the footprint
    pub edge_cells: u64,
    /// area, km²
    pub area_km2: f64,
    /// perimeter along the edges of the cells, km
    pub perimeter_km: f64,
}

/// Where a pour point is wanted.
#[derive(Debug, Clone, PartialEq)]
pub struct PourPointPlace {
    /// name
    pub name: String,
    /// easting, study CRS
    pub x: f64,
    /// northing, study CRS
    pub y: f64,
}

/// Snaps a point and delineates its catchment.
fn delineate_at(
    grids: &Grids,
    settings: &Settings,
    is_stream: &dyn Fn(usize) -> bool,
    at: (f64, f64),
) -> Result<(CatchmentFacts, serde_json::Value)> {
    let (areas, frame) = (&grids.accumulation, &grids.frame);
    let stream_at = |cell| is_stream(areas.index(cell));
    let cell = snap_to_cells(areas, frame, &stream_at, at, settings.snap_m, settings.snap_to)?;
    let catchment = delineate(&grids.directions, cell)?;
    let outline = catchment.outline(&grids.frame);
    let (cx, cy) = grids.frame.centre(cell);
    let facts = CatchmentFacts {
        cell,
        x: cx,
        y: cy,
        moved_m: (cx - at.0).hypot(cy - at.1) * grids.frame.unit_m,
        cells: catchment.cells,
        edge_cells: catchment.edge_cells,
        area_km2: catchment.area(&grids.frame).as_km2(),
        perimeter_km: outline.perimeter_m / 1000.0,
    };
    Ok((facts, serde_json::to_value(&outline.polygons)?))
}

/// Delineates the catchment of a place, ready to be kept.
///
/// # Errors
/// [`Error::Core`] where the place lies outside, or no stream is near.
pub async fn place_pour_point(
    store: &Store,
    cache: &GridCache,
    study: i64,
    place: PourPointPlace,
) -> Result<NewPourPoint> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    if !place.x.is_finite() || !place.y.is_finite() {
        return Err(Error::Refused("coordinates must be numbers".into()));
    }
    if terrain.frame.cell_at(place.x, place.y).is_none() {
        let [west, south, east, north] = terrain.frame.extent();
        return Err(Error::Refused(format!(
            "easting {:.1}, northing {:.1} lies outside the DEM, which spans {west:.0} to {east:.0} east and {south:.0} to {north:.0} north",
            place.x, place.y
        )));
    }
    let grids = cache.get(store, &facts).await?;
    let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
    let settings = facts.settings.clone();
    let at = (place.x, place.y);
    let streams = cache.streams(store, &facts).await?;
    let delineated =
        blocking(move || delineate_at(&grids, &settings, &|cell| streams.is_stream(threshold, cell), at));
    let (found, outline) = delineated.await?;
    Ok(NewPourPoint {
        name: place.name,
        x: place.x,
        y: place.y,
        catchment: Some(Kept::of(&found)?),
        outline: Some(outline),
        problem: None,
    })
}

/// Delineates all catchments of a study again, after its routing has changed. A point that has
/// no catchment any more is kept, and says why.
pub(crate) async fn delineate_again(store: &Store, cache: &GridCache, study: i64) -> Result<()> {
    for point in store.pour_points(study).await? {
        let place = PourPointPlace { name: point.name.clone(), x: point.x, y: point.y };
        let new = match place_pour_point(store, cache, study, place).await {
            Ok(new) => new,
            Err(error) if error.is_users() => NewPourPoint {
                name: point.name,
                x: point.x,
                y: point.y,
                catchment: None,
                outline: None,
                problem: Some(error.to_string()),
            },
            Err(error) => return Err(error),
        };
        store.change_pour_point(study, point.id, new).await?;
    }
    Ok(())
}
