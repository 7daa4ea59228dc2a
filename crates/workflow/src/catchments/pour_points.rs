//! Pour points: placed, snapped, delineated.

use std::sync::Arc;

use bothros_core::catchments::{SnapTo, beside, confluence_near, delineate, delineate_many, snap_to_cells};
use bothros_core::{Cell, Frame, Silent, Threshold};
use bothros_store::{
    Change, Delineated, Inverse, Kept, LogLine, NewPourPoint, PourPoint, Record, Snapping, Store,
};
use serde::{Deserialize, Serialize};

use crate::study::as_read::Rounds;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Grids, Result, Settings, Stage, Streams, blocking, boxed};

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
    /// what is known to drain to it, m²: then it snaps to the cell that fits this best
    pub area_m2: Option<u64>,
    /// how far it snaps, metres, and what to, where that is another way than the study's
    pub own: Option<(f64, SnapTo)>,
}

impl PourPointPlace {
    /// How it snaps: in its own way, by what is known of it, or else as the study has it.
    fn snaps(&self, (snap_m, snap_to): (f64, SnapTo)) -> (f64, SnapTo) {
        self.own.unwrap_or((snap_m, self.area_m2.map_or(snap_to, SnapTo::KnownArea)))
    }
}

/// How a pour point snaps.
fn snapping_of(snap_m: f64, snap_to: SnapTo) -> Result<Snapping> {
    let name = serde_json::to_value(snap_to)?;
    Ok(Snapping { snap_m, snap_to: name.as_str().unwrap_or_default().to_owned() })
}

/// What is needed to delineate catchments, as a study has it at one moment.
#[derive(Clone)]
pub(crate) struct Delineating {
    pub grids: Arc<Grids>,
    pub streams: Streams,
    pub threshold: Threshold,
}

impl Delineating {
    /// Takes it from a study.
    ///
    /// # Errors
    /// [`Error::Refused`] before flow is routed.
    #[boxed]
    pub async fn of(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Self> {
        let grids = cache.get(store, facts).await?;
        let streams = cache.streams(store, facts).await?;
        let threshold = facts.network.map_or(Threshold::cells(1), |n| n.threshold);
        Ok(Self { grids, streams, threshold })
    }

    /// Snaps a point and delineates its catchment.
    fn at(
        &self,
        at: (f64, f64),
        snap_m: f64,
        snap_to: SnapTo,
    ) -> Result<(CatchmentFacts, serde_json::Value)> {
        let (areas, frame) = (&self.grids.accumulation, &self.grids.frame);
        let stream_at = |cell| self.streams.is_stream(self.threshold, areas.index(cell));
        let cell = snap_to_cells(areas, frame, &stream_at, at, snap_m, snap_to)?;
        let catchment = delineate(&self.grids.directions, cell)?;
        let outline = catchment.outline(frame);
        let (cx, cy) = frame.centre(cell);
        let facts = CatchmentFacts {
            cell,
            x: cx,
            y: cy,
            moved_m: (cx - at.0).hypot(cy - at.1) * frame.unit_m,
            cells: catchment.cells,
            edge_cells: catchment.edge_cells,
            area_km2: catchment.area(frame).as_km2(),
            perimeter_km: outline.perimeter_m / 1000.0,
        };
        Ok((facts, serde_json::to_value(&outline.polygons)?))
    }

    /// Delineates a stored pour point again, with the distance and rule it was snapped with; or returns the
    /// reason why it has
    /// no catchment.
    ///
    /// # Errors
    /// Errors that do not concern the point itself.
    pub fn again(&self, at: (f64, f64), snapping: &Snapping) -> Result<Delineated> {
        let snap_to = serde_json::from_value(serde_json::Value::String(snapping.snap_to.clone()))?;
        let delineated = outside(&self.grids.frame, at).and_then(|()| self.at(at, snapping.snap_m, snap_to));
        match delineated {
            Ok((found, outline)) => {
                Ok(Delineated { catchment: Some(Kept::of(&found)?), outline: Some(outline), problem: None })
            }
            Err(error) if error.is_users() => {
                Ok(Delineated { problem: Some(error.to_string()), ..Delineated::default() })
            }
            Err(error) => Err(error),
        }
    }

    /// What is found for many places at once, each with how it snaps: the land is looked at once for all of them. Where one
    /// has no catchment, why.
    ///
    /// # Errors
    /// Errors that do not concern the points themselves.
    pub fn many(&self, all: &[((f64, f64), Snapping)]) -> Result<Vec<std::result::Result<Found, String>>> {
        let (areas, frame) = (&self.grids.accumulation, &self.grids.frame);
        let stream_at = |cell| self.streams.is_stream(self.threshold, areas.index(cell));
        let mut cells = Vec::new();
        for (at, snapping) in all {
            let snap_to = serde_json::from_value(serde_json::Value::String(snapping.snap_to.clone()))?;
            let cell = outside(frame, *at)
                .and_then(|()| Ok(snap_to_cells(areas, frame, &stream_at, *at, snapping.snap_m, snap_to)?));
            cells.push(match cell {
                Ok(cell) => Ok(cell),
                Err(error) if error.is_users() => Err(error.to_string()),
                Err(error) => return Err(error),
            });
        }
        let outlets: Vec<Cell> = cells.iter().filter_map(|c| c.as_ref().ok().copied()).collect();
        // From afar a picture of many needs no more.
        let coarse = (outlets.len() > FEW).then_some(COARSE_CELLS);
        let mut found = delineate_many(&self.grids.directions, &outlets, frame, coarse, &Silent)?.into_iter();
        let told = cells.into_iter().zip(all).map(|(cell, ((x, y), _))| {
            let cell = cell?;
            let of = found.next().ok_or("it was not delineated")?;
            let (cx, cy) = frame.centre(cell);
            let facts = CatchmentFacts {
                cell,
                x: cx,
                y: cy,
                moved_m: (cx - x).hypot(cy - y) * frame.unit_m,
                cells: of.cells,
                edge_cells: of.edge_cells,
                area_km2: frame.area_of(of.cells).as_km2(),
                perimeter_km: of.perimeter_m / 1000.0,
            };
            Ok((facts, serde_json::to_value(&of.polygons).map_err(|e| e.to_string())?))
        });
        Ok(told.collect())
    }

    fn of_point(&self, point: &PourPoint) -> Result<Delineated> {
        let snapping = Snapping { snap_m: point.snap_m, snap_to: point.snap_to.clone() };
        self.again((point.x, point.y), &snapping)
    }
}

/// A catchment and its outline.
type Found = (CatchmentFacts, serde_json::Value);

/// Up to this many catchments are outlined along the edges of their cells; beyond it, outlines are simplified.
const FEW: usize = 60;
/// How far from the edges of cells the outlines of many may lie, cells.
const COARSE_CELLS: f64 = 3.0;
/// Pour points that can be placed at once.
pub const MOST_AT_ONCE: usize = 2000;

/// Fails for a place outside the DEM.
fn outside(frame: &Frame, (x, y): (f64, f64)) -> Result<()> {
    if !x.is_finite() || !y.is_finite() {
        return Err(Error::Refused("coordinates must be numbers".into()));
    }
    if frame.cell_at(x, y).is_none() {
        let [west, south, east, north] = frame.extent();
        return Err(Error::Refused(format!(
            "easting {x:.1}, northing {y:.1} lies outside the DEM, which spans {west:.0} to {east:.0} east and {south:.0} to {north:.0} north",
        )));
    }
    Ok(())
}

/// Delineates the catchment of a place by the study's choices, ready to be kept.
///
/// # Errors
/// [`Error::Core`] where no stream is near; [`Error::Refused`] outside the DEM and before flow is routed.
pub(crate) async fn found_at(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    place: PourPointPlace,
) -> Result<NewPourPoint> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let at = (place.x, place.y);
    outside(&terrain.frame, at)?;
    let with = Delineating::of(store, cache, facts).await?;
    let (snap_m, snap_to) = place.snaps((facts.settings.snap_m, facts.settings.snap_to));
    let (found, outline) = blocking(move || with.at(at, snap_m, snap_to)).await?;
    let found = Delineated { catchment: Some(Kept::of(&found)?), outline: Some(outline), problem: None };
    let snapping = snapping_of(snap_m, snap_to)?;
    Ok(NewPourPoint { name: place.name, x: place.x, y: place.y, snapping, found })
}

/// Preview of a pour point.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Preview {
    /// contributing area of the cell under the place, km²
    pub area_km2: f64,
    /// whether that cell is a stream cell
    pub on_stream: bool,
    /// the cell it would snap to
    pub cell: Cell,
    /// easting and northing of that cell's centre
    pub at: (f64, f64),
    /// how far it would move, metres
    pub moved_m: f64,
    /// contributing area there, km²
    pub snapped_km2: f64,
    /// contributing areas one cell farther up and down, km², where a shift by one changes it by more than a tenth; nothing
    /// drains from an outlet
    pub touchy: Option<(f64, Option<f64>)>,
    /// distance of the nearest confluence within the snapping distance, metres, and contributing areas of the two largest streams that meet
    /// there, km²
    pub confluence: Option<(f64, [f64; 2])>,
}

/// Tells what a pour point at a place would be by the study's choices; nothing is kept.
///
/// # Errors
/// Those of [`add_pour_point`].
#[boxed]
pub async fn preview(store: &Store, cache: &GridCache, facts: &Facts, at: (f64, f64)) -> Result<Preview> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    outside(&terrain.frame, at)?;
    let with = Delineating::of(store, cache, facts).await?;
    let (snap_m, snap_to) = (facts.settings.snap_m, facts.settings.snap_to);
    blocking(move || {
        let (grids, frame) = (&with.grids, &with.grids.frame);
        let stream_at = |cell| with.streams.is_stream(with.threshold, grids.accumulation.index(cell));
        let cell = snap_to_cells(&grids.accumulation, frame, &stream_at, at, snap_m, snap_to)?;
        let own = frame.cell_at(at.0, at.1).unwrap_or(cell);
        let km2 = |cells: u64| frame.area_of(cells).as_km2();
        let area = |cell| km2(u64::from(grids.accumulation.values()[grids.accumulation.index(cell)]) + 1);
        let near = beside(&grids.directions, &grids.accumulation, cell)?;
        let (x, y) = frame.centre(cell);
        let meet = confluence_near(&grids.directions, &grids.accumulation, frame, &stream_at, at, snap_m)?;
        Ok(Preview {
            confluence: meet.map(|meet| (meet.away_m, meet.cells.map(km2))),
            area_km2: area(own),
            on_stream: stream_at(own),
            cell,
            at: (x, y),
            moved_m: (x - at.0).hypot(y - at.1) * frame.unit_m,
            snapped_km2: area(cell),
            touchy: near.is_touchy().then(|| (km2(near.up), near.down.map(km2))),
        })
    })
    .await
}

/// Places a pour point and delineates its catchment; one without a name gets the next that is free. It can be undone.
/// Returns the name.
///
/// # Errors
/// [`Error::Core`] where no stream is near; [`Error::Refused`] outside the DEM and before flow is routed.
#[boxed]
pub async fn add_pour_point(
    store: &Store,
    cache: &GridCache,
    study: i64,
    place: PourPointPlace,
) -> Result<String> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let new = found_at(store, cache, &facts, place.clone()).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        let settings = new.found.catchment.clone().map(Kept::into_json).unwrap_or_default();
        let (id, name) = change.add_pour_point(new).await?;
        let text = format!("Placed {name} at {:.1}, {:.1}", place.x, place.y);
        let line = LogLine::new(Stage::Catchments.title(), text).with(settings);
        let undo = Inverse::RemovePourPoint { id };
        change.commit(Record::log(line).undone_by(format!("{name} placed"), undo)).await?;
        return Ok(name);
    }
}

/// Many pour points that are to be placed at once.
#[derive(Debug, Clone, PartialEq)]
pub struct ManyPlaces {
    /// where; those without a name are called as `called`, with a number
    pub places: Vec<PourPointPlace>,
    /// how they are called
    pub called: &'static str,
    /// whether they are the centres of cells that are meant, and do not snap
    pub exact: bool,
}

/// Places many pour points as one change, which can be undone. Those outside the DEM, too far from a stream, or in a cell that
/// has a pour point already are left out. Returns a message about the result.
///
/// # Errors
/// [`Error::Refused`] where none can be placed, there are too many, and before flow is routed.
#[boxed]
pub async fn add_pour_points(
    store: &Store,
    cache: &GridCache,
    study: i64,
    many: ManyPlaces,
) -> Result<String> {
    if many.places.len() > MOST_AT_ONCE {
        return Err(Error::Refused(format!(
            "these would be {} pour points; {MOST_AT_ONCE} can be placed at once",
            many.places.len()
        )));
    }
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let with = Delineating::of(store, cache, &facts).await?;
        let snap_m = if many.exact { 0.0 } else { facts.settings.snap_m };
        let snapping = |p: &PourPointPlace| {
            let (snap_m, snap_to) = p.snaps((snap_m, facts.settings.snap_to));
            snapping_of(snap_m, snap_to)
        };
        let wanted: Vec<_> =
            many.places.iter().map(|p| Ok(((p.x, p.y), snapping(p)?))).collect::<Result<_>>()?;
        let found = blocking(move || with.many(&wanted)).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        let mut taken = std::collections::HashSet::new();
        let mut names = std::collections::HashSet::new();
        for point in change.pour_points().await? {
            if let Some(there) = bothros_store::kept::read_some::<CatchmentFacts>(&point.catchment)? {
                taken.insert(there.cell);
            }
            names.insert(point.name);
        }
        let (mut undo, mut doubled, mut reasons) = (Vec::new(), 0usize, Vec::new());
        let mut number = 0;
        for (place, found) in many.places.iter().zip(found) {
            let (of, outline) = match found {
                Ok(found) => found,
                Err(why) => {
                    reasons.push(why);
                    continue;
                }
            };
            if !taken.insert(of.cell) {
                doubled += 1;
                continue;
            }
            let mut name = place.name.trim().chars().take(60).collect::<String>();
            while name.is_empty() || (place.name.trim().is_empty() && names.contains(&name)) {
                number += 1;
                name = format!("{} {number}", many.called);
            }
            names.insert(name.clone());
            let found = Delineated { catchment: Some(Kept::of(&of)?), outline: Some(outline), problem: None };
            let new = NewPourPoint { name, x: place.x, y: place.y, snapping: snapping(place)?, found };
            let (id, _) = change.add_pour_point(new).await?;
            undo.push(Inverse::RemovePourPoint { id });
        }
        let left_out =
            |n: usize, what: &str| if n > 0 { format!("; {n} left out: {what}") } else { String::new() };
        let why = reasons.first().cloned().unwrap_or_default();
        let more = left_out(doubled, "another has their cell") + &left_out(reasons.len(), &why);
        if undo.is_empty() {
            return Err(Error::Refused(match more.strip_prefix("; ") {
                Some(more) => format!("no pour point could be placed: {more}"),
                None => "there is no such place".into(),
            }));
        }
        let told = match undo.len() {
            1 => format!("Placed one pour point{more}"),
            n => format!("Placed {n} pour points{more}"),
        };
        let line = LogLine::new(Stage::Catchments.title(), told.clone());
        let label = format!("{} pour points placed", undo.len());
        change.commit(Record::log(line).undone_by(label, Inverse::All { all: undo })).await?;
        return Ok(told);
    }
}

/// Moves a pour point and delineates its catchment anew. It can be undone.
///
/// # Errors
/// Those of [`add_pour_point`]; [`bothros_store::Error::NotFound`] where it was deleted.
#[boxed]
pub async fn move_pour_point(
    store: &Store,
    cache: &GridCache,
    study: i64,
    id: i64,
    (x, y): (f64, f64),
) -> Result<()> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let name = store.pour_point(study, id).await?.name;
        let new =
            found_at(store, cache, &facts, PourPointPlace { name, x, y, area_m2: None, own: None }).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        let before = change.pour_point(id).await?;
        change.move_pour_point(id, new).await?;
        let line =
            LogLine::new(Stage::Catchments.title(), format!("Moved {} to {x:.1}, {y:.1}", before.name));
        let label = format!("{} moved", before.name);
        change.commit(Record::log(line).undone_by(label, back(before))).await?;
        return Ok(());
    }
}

/// What puts a pour point back to what it was.
fn back(before: PourPoint) -> Inverse {
    Inverse::ChangePourPoint {
        id: before.id,
        name: before.name,
        x: before.x,
        y: before.y,
        snapping: Some((before.snap_m, before.snap_to)),
    }
}

/// Gives a pour point another name. It can be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where it was deleted.
#[boxed]
pub async fn rename_pour_point(store: &Store, study: i64, id: i64, name: &str) -> Result<()> {
    let change = store.change(study).await?;
    let before = change.pour_point(id).await?;
    change.rename_pour_point(id, name).await?;
    let text = format!("{} renamed {name}", before.name);
    let line = LogLine::new(Stage::Catchments.title(), text.clone());
    change.commit(Record::log(line).undone_by(text, back(before))).await?;
    Ok(())
}

/// Deletes a pour point. It can be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where it was deleted before.
#[boxed]
pub async fn delete_pour_point(store: &Store, study: i64, id: i64) -> Result<()> {
    let change = store.change(study).await?;
    let before = change.pour_point(id).await?;
    change.set_pour_point_deleted(id, true).await?;
    let line = LogLine::new(Stage::Catchments.title(), format!("Deleted {}", before.name));
    let undo = Inverse::RestorePourPoint { id };
    change.commit(Record::log(line).undone_by(format!("{} deleted", before.name), undo)).await?;
    Ok(())
}

/// Chooses how far and to what pour points snap that are placed or moved from now on. It can be undone.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn set_snapping(store: &Store, study: i64, snap_m: f64, snap_to: SnapTo) -> Result<()> {
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        (settings.snap_m, settings.snap_to) = (snap_m, snap_to);
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let text = format!("Pour points placed from now on snap to {} within {snap_m} m", snaps_to_told(snap_to));
    let line = LogLine::new(Stage::Catchments.title(), text);
    change.commit(Record::log(line).undone_by("how pour points snap", changed.undo)).await?;
    Ok(())
}

/// Where a point snaps to, in words.
pub(crate) fn snaps_to_told(to: SnapTo) -> String {
    match to {
        SnapTo::Largest => "the largest contributing area".into(),
        SnapTo::NearestStream => "the nearest stream".into(),
        SnapTo::KnownArea(m2) => {
            format!("the cell whose contributing area comes nearest to {} km²", m2 as f64 / 1e6)
        }
    }
}

/// Delineates the catchments of pour points, and of those that a change finds in other places. A point that has no
/// catchment any more is kept, and says why. Points that were renamed, moved, added or deleted meanwhile stay so.
pub(crate) async fn delineate_again(
    change: &Change,
    with: &Delineating,
    done: Vec<(PourPoint, Delineated)>,
) -> Result<()> {
    for point in change.pour_points().await? {
        let same = |p: &PourPoint| (p.id, p.x, p.y, p.snap_m) == (point.id, point.x, point.y, point.snap_m);
        let known = done.iter().find(|(p, _)| same(p) && p.snap_to == point.snap_to).map(|(_, f)| f.clone());
        let found = match known {
            Some(found) => found,
            None => {
                let (with, point) = (with.clone(), point.clone());
                blocking(move || with.of_point(&point)).await?
            }
        };
        change.keep_delineated(point.id, found).await?;
    }
    Ok(())
}

/// Delineates the catchments of pour points as they are now, away from the study.
pub(crate) async fn delineate_all(
    with: &Delineating,
    points: Vec<PourPoint>,
) -> Result<Vec<(PourPoint, Delineated)>> {
    let with = with.clone();
    blocking(move || {
        if points.len() <= 8 {
            return points
                .into_iter()
                .map(|point| with.of_point(&point).map(|found| (point, found)))
                .collect();
        }
        let wanted: Vec<_> = points
            .iter()
            .map(|p| ((p.x, p.y), Snapping { snap_m: p.snap_m, snap_to: p.snap_to.clone() }))
            .collect();
        let found = with.many(&wanted)?.into_iter().map(|found| match found {
            Ok((of, outline)) => Ok::<_, Error>(Delineated {
                catchment: Some(Kept::of(&of)?),
                outline: Some(outline),
                problem: None,
            }),
            Err(why) => Ok(Delineated { problem: Some(why), ..Delineated::default() }),
        });
        points.into_iter().zip(found).map(|(point, found)| Ok((point, found?))).collect()
    })
    .await
}
