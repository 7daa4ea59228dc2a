//! Sub-basins of a study: divided as the analyst chose, merged, split and named by hand; computed when they are first asked
//! for, and remembered.

use std::sync::Arc;

use bothros_core::catchments::{
    COLOURS, Coverage, Divided, Division, DivisionEdits, Measured, Measures, OutlineKind, SnapTo, SubBasins,
    colours, concentration, divide, measure_part, snap_to_cells,
};
use bothros_core::network::Network;
use bothros_core::{Cell, Frame, Silent, Threshold};
use bothros_products::{Row, measures_row};
use bothros_store::{LogLine, PourPoint, Record, Store, kept};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::catchments::CatchmentFacts;
use crate::catchments::pour_points::Delineating;
use crate::study::grids::Index;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Grids, Result, Settings, Stage, Streams, boxed};

/// A place, `[x, y]` in the study's CRS.
type Place = [f64; 2];

/// How the land is divided into sub-basins.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SubbasinChoice {
    /// where they end
    pub division: Division,
    /// how outlines are drawn in what is handed out, and on the map
    pub outline: OutlineKind,
    /// outlets that were added
    pub split: Vec<Place>,
    /// outlets that were taken away
    pub merged: Vec<Place>,
    /// names, by outlet
    pub names: Vec<(Place, String)>,
}

impl SubbasinChoice {
    /// What was changed by hand, on a grid.
    fn edits(&self, frame: &Frame) -> DivisionEdits {
        let cells = |places: &[Place]| places.iter().filter_map(|p| frame.cell_at(p[0], p[1])).collect();
        DivisionEdits { split: cells(&self.split), merged: cells(&self.merged) }
    }

    /// Number of changes by hand.
    pub fn changes(&self) -> usize {
        self.split.len() + self.merged.len()
    }
}

/// Sub-basins with what is drawn of them.
pub struct Subbasins {
    /// cells, outlets, what drains where
    pub basins: SubBasins,
    /// their lines along the edges of cells
    pub coverage: Coverage,
    /// for each a number from 0 to 5, so that no two neighbours share one
    pub colours: Vec<u8>,
    /// for each the number of the innermost catchment that holds its outlet
    pub catchment: Vec<Option<u32>>,
}

impl Subbasins {
    /// Divides the land of `points`, cells of pour points in the order of their numbers.
    pub(crate) fn of(
        grids: &Grids,
        network: &Network,
        points: &[Cell],
        choice: &SubbasinChoice,
    ) -> Result<Self> {
        let of = Divided {
            directions: &grids.directions,
            accumulation: &grids.accumulation,
            frame: &grids.frame,
            network: Some(network),
            points,
        };
        let basins = divide(&of, choice.division, &choice.edits(&grids.frame), &Silent)?;
        let coverage = Coverage::of(&basins.found.ids, &grids.frame);
        let colours = colours(basins.outlets.len(), &coverage.neighbours());
        debug_assert!(colours.iter().all(|&c| c < COLOURS));
        // Numbers rise downstream: what lies below is known before what lies above.
        let mut catchment: Vec<Option<u32>> = vec![None; basins.outlets.len()];
        for at in (0..basins.outlets.len()).rev() {
            let below = basins.found.within[at].and_then(|next| catchment[next as usize - 1]);
            catchment[at] = basins.point[at].or(below);
        }
        Ok(Self { basins, coverage, colours, catchment })
    }

    /// The names of all: given by hand, or those of the pour points they end at.
    pub fn names(&self, choice: &SubbasinChoice, points: &[PourPoint], frame: &Frame) -> Vec<Option<String>> {
        let given: Vec<(Cell, &String)> =
            choice.names.iter().filter_map(|(p, name)| Some((frame.cell_at(p[0], p[1])?, name))).collect();
        let name = |(outlet, point): (&Cell, &Option<u32>)| {
            let own = given.iter().find(|(cell, _)| cell == outlet).map(|(_, name)| (*name).clone());
            own.or_else(|| Some(points.get((*point)? as usize - 1)?.name.clone()))
        };
        self.basins.outlets.iter().zip(&self.basins.point).map(name).collect()
    }

    /// The place of the sub-basin with this outlet.
    pub fn at_outlet(&self, outlet: Cell) -> Option<usize> {
        self.basins.outlets.iter().position(|&o| o == outlet)
    }

    /// Measures all of them.
    pub(crate) fn measure(
        &self,
        grids: &Grids,
        streams: &Streams,
        threshold: Threshold,
        (network, index): (&Network, &Index),
    ) -> Result<Vec<Measures>> {
        let is_stream = |cell: usize| streams.is_stream(threshold, cell);
        let order = |cell: usize| index.reach_at(cell as u32).map_or(0, |at| network.reaches[at].strahler);
        let of = Measured {
            ground: &grids.filled,
            directions: &grids.directions,
            accumulation: &grids.accumulation,
            frame: &grids.frame,
            is_stream: &is_stream,
            order: &order,
        };
        let pieces = self.basins.pieces(&grids.directions);
        let ids = &self.basins.found.ids;
        let measure = |(at, piece)| measure_part(&of, piece, (ids, at as u32 + 1));
        Ok(pieces.par_iter().enumerate().map(measure).collect::<bothros_core::Result<_>>()?)
    }

    /// Their rows in the table of measures, by their numbers; all that is given is of all of them.
    pub fn rows(
        &self,
        measured: &[Measures],
        names: &[Option<String>],
        curve_numbers: &[Option<f64>],
    ) -> Vec<Row> {
        let row = |at: usize| {
            let curve_number = curve_numbers[at];
            let estimates = concentration(&measured[at].flow(curve_number));
            let ids = (self.catchment[at], Some(at as u32 + 1));
            measures_row(ids, names[at].clone(), &measured[at], &estimates, curve_number)
        };
        (0..measured.len()).map(row).collect()
    }
}

/// The pour points of a study that are delineated, with their cells: their numbers are their places from 1.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn delineated(store: &Store, study: i64) -> Result<Vec<(PourPoint, Cell)>> {
    let mut all = Vec::new();
    for point in store.pour_points(study).await? {
        if let Some(found) = kept::read_some::<CatchmentFacts>(&point.catchment)? {
            all.push((point, found.cell));
        }
    }
    Ok(all)
}

/// Key of a study's sub-basins, beside that of its network.
pub(crate) fn key(choice: &SubbasinChoice, points: &[Cell]) -> Result<String> {
    Ok(serde_json::to_string(&(choice.division, &choice.split, &choice.merged, points))?)
}

/// Divides, away from those who wait for other answers.
pub(crate) async fn divided(
    grids: Arc<Grids>,
    network: Arc<Network>,
    points: Vec<Cell>,
    choice: SubbasinChoice,
) -> Result<Arc<Subbasins>> {
    crate::blocking(move || Ok(Arc::new(Subbasins::of(&grids, &network, &points, &choice)?))).await
}

/// Changes how the land is divided, as one change that can be undone.
async fn change_choice(
    store: &Store,
    study: i64,
    told: String,
    how: impl FnOnce(&mut SubbasinChoice) -> Result<()>,
) -> Result<()> {
    let change = store.change(study).await?;
    let changed = change_settings(&change, |settings: &mut Settings| how(&mut settings.subbasins)).await?;
    let line = LogLine::new(Stage::Catchments.title(), told.clone());
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}

/// In words.
pub fn division_title(division: Division) -> String {
    match division {
        Division::PourPoints => "between pour points".into(),
        Division::Reaches => "one for every reach".into(),
        Division::Tributaries => "tributaries of the main stem and the land between".into(),
        Division::TargetKm2(km2) => format!("of about {km2} km²"),
        Division::Basins => "as basins of the whole footprint".into(),
    }
}

/// Chooses where sub-basins end and how outlines are drawn. Those that were merged by hand are apart again where the
/// division changes; those that were split stay so.
///
/// # Errors
/// [`Error::Refused`] for a target that is no area.
#[boxed]
pub async fn set_division(store: &Store, study: i64, division: Division, outline: OutlineKind) -> Result<()> {
    if let Division::TargetKm2(km2) = division
        && !(km2.is_finite() && km2 > 0.0)
    {
        return Err(Error::Refused("the target must be an area above 0".into()));
    }
    let kind = match outline {
        OutlineKind::Cells => "along the edges of cells",
        OutlineKind::Simplified => "simplified",
        OutlineKind::Smoothed => "smoothed",
    };
    let told = format!("Sub-basins {}, outlines {kind}", division_title(division));
    change_choice(store, study, told, |choice| {
        if choice.division != division {
            choice.merged.clear();
        }
        (choice.division, choice.outline) = (division, outline);
        Ok(())
    })
    .await
}

/// Splits the sub-basin that a place lies in, at the cell that it snaps to.
///
/// # Errors
/// [`Error::Core`] where no stream is near; [`Error::Refused`] before flow is routed, and where a sub-basin ends there.
#[boxed]
pub async fn split_subbasin(store: &Store, cache: &GridCache, study: i64, at: (f64, f64)) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let with = Delineating::of(store, cache, &facts).await?;
    let all = cache.subbasins(store, &facts).await?;
    let (snap_m, snap_to): (f64, SnapTo) = (facts.settings.snap_m, facts.settings.snap_to);
    let place = crate::blocking(move || {
        let (areas, frame) = (&with.grids.accumulation, &with.grids.frame);
        let is_stream = |cell: Cell| with.streams.is_stream(with.threshold, areas.index(cell));
        let cell = snap_to_cells(areas, frame, &is_stream, at, snap_m, snap_to)?;
        if all.at_outlet(cell).is_some() {
            return Err(Error::Refused("a sub-basin ends there already".into()));
        }
        if all.basins.found.ids.get(cell).is_none_or(|&id| id == 0) {
            return Err(Error::Refused("no sub-basin lies there".into()));
        }
        let (x, y) = frame.centre(cell);
        Ok([x, y])
    })
    .await?;
    let told = format!("Sub-basin split at {:.1}, {:.1}", place[0], place[1]);
    change_choice(store, study, told, |choice| {
        let before = choice.merged.len();
        choice.merged.retain(|p| *p != place);
        // Where one had been merged, that is taken back.
        if choice.merged.len() == before {
            choice.split.push(place);
        }
        Ok(())
    })
    .await
}

/// The sub-basin that ends at a cell, its number and its outlet.
async fn ending_at(store: &Store, cache: &GridCache, facts: &Facts, outlet: Cell) -> Result<(usize, Place)> {
    let all = cache.subbasins(store, facts).await?;
    let frame = cache.get(store, facts).await?.frame;
    let at = all.at_outlet(outlet);
    let at = at.ok_or_else(|| Error::Refused("no sub-basin ends there any more: look again".into()))?;
    let (x, y) = frame.centre(outlet);
    Ok((at, [x, y]))
}

/// Merges the sub-basin that ends at a cell with the one it drains to.
///
/// # Errors
/// [`Error::Refused`] where it ends at a pour point, or drains to no other.
#[boxed]
pub async fn merge_subbasin(store: &Store, cache: &GridCache, study: i64, outlet: Cell) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (at, place) = ending_at(store, cache, &facts, outlet).await?;
    let all = cache.subbasins(store, &facts).await?;
    if all.basins.point[at].is_some() {
        return Err(Error::Refused("it ends at a pour point: delete the pour point to merge it".into()));
    }
    if all.basins.found.within[at].is_none() {
        return Err(Error::Refused("it drains to no other sub-basin".into()));
    }
    let told = format!("Sub-basin {} merged with the one it drains to", at + 1);
    change_choice(store, study, told, |choice| {
        let before = choice.split.len();
        choice.split.retain(|p| *p != place);
        if choice.split.len() == before {
            choice.merged.push(place);
        }
        Ok(())
    })
    .await
}

/// Names the sub-basin that ends at a cell; an empty name takes the name away.
///
/// # Errors
/// [`Error::Refused`] where none ends there.
#[boxed]
pub async fn name_subbasin(
    store: &Store,
    cache: &GridCache,
    study: i64,
    outlet: Cell,
    name: &str,
) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let (at, place) = ending_at(store, cache, &facts, outlet).await?;
    let told = match name {
        "" => format!("Sub-basin {} has no name of its own any more", at + 1),
        name => format!("Sub-basin {} named {name}", at + 1),
    };
    change_choice(store, study, told, |choice| {
        choice.names.retain(|(p, _)| *p != place);
        if !name.is_empty() {
            choice.names.push((place, name.to_owned()));
        }
        Ok(())
    })
    .await
}

/// Takes back all that was merged and split by hand.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn forget_subbasin_changes(store: &Store, study: i64) -> Result<()> {
    change_choice(store, study, "Sub-basins as divided, without changes by hand".into(), |choice| {
        choice.split.clear();
        choice.merged.clear();
        Ok(())
    })
    .await
}
