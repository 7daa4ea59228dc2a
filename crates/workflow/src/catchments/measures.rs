//! What is measured of catchments: computed when it is first asked for, and remembered.

use std::sync::Arc;

use bothros_core::catchments::{
    Beyond, Estimate, Formula, Holds, Measured, Measures, beyond, concentration, delineate, edge_sides,
    flow_paths, hypsometry, measure_with,
};
use bothros_products::{CURVE_NUMBERS, Row, measures_row};
use bothros_store::{LogLine, PourPoint, Record, Store, kept};
use serde::{Deserialize, Serialize};

use crate::catchments::CatchmentFacts;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, blocking, boxed};

/// Points of a hypsometric curve.
const CURVE: usize = 101;

/// What is measured of a catchment, and its hypsometric curve.
#[derive(Debug, Clone, PartialEq)]
pub struct CatchmentMeasures {
    /// its measures
    pub measures: Measures,
    /// shares of the area from 0 to 1, and the elevation above which each lies, metres
    pub curve: Vec<(f64, f64)>,
    /// distances to the outlet along the flow, metres, and the share of the area that lies no farther
    pub area_distance: Vec<(f64, f64)>,
    /// length along which the DEM ends beside it, to the north, east, south and west, metres
    pub edge_m: [f64; 4],
    /// the land beyond the edge that it would need, as far as the DEM can tell
    pub beyond: Option<Beyond>,
}

/// How the time of concentration is found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Concentration {
    /// curve number of the land, 30 to 100; none where it is not known
    pub curve_number: Option<f64>,
    /// name of the raster whose mean over each area is its curve number, in place of the one above
    pub curve_number_raster: Option<String>,
    /// name of the formula that was chosen
    pub formula: Option<String>,
    /// why it was chosen
    pub reason: String,
}

impl Concentration {
    /// The formula that was chosen.
    pub fn chosen(&self) -> Option<Formula> {
        self.formula.as_deref().and_then(Formula::from_key)
    }
}

impl CatchmentMeasures {
    /// The time of concentration by every formula, with the curve number of the catchment.
    pub fn estimates(&self, curve_number: Option<f64>) -> Vec<Estimate> {
        concentration(&self.measures.flow(curve_number))
    }

    /// Its row in the table of measures.
    pub fn row(&self, number: u32, name: &str, curve_number: Option<f64>) -> Row {
        let name = Some(name.to_owned()).filter(|n| !n.is_empty());
        measures_row((Some(number), None), name, &self.measures, &self.estimates(curve_number), curve_number)
    }
}

/// Measures the catchment of a pour point.
///
/// # Errors
/// [`Error::Refused`] where it is not delineated.
#[boxed]
pub async fn measures_of(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    point: &PourPoint,
) -> Result<Arc<CatchmentMeasures>> {
    let found: Option<CatchmentFacts> = kept::read_some(&point.catchment)?;
    let none =
        || Error::Refused("the pour point has no catchment yet: condition and route flow first".into());
    let cell = found.filter(|_| facts.routing.is_some()).ok_or_else(none)?.cell;
    cache.measured(store, facts, cell).await
}

/// Measures the catchment of a cell on what is in memory.
pub(crate) async fn measure_cell(
    grids: Arc<crate::Grids>,
    streams: crate::Streams,
    threshold: bothros_core::Threshold,
    cell: bothros_core::Cell,
) -> Result<CatchmentMeasures> {
    blocking(move || measure_on(&grids, &streams, threshold, cell)).await
}

/// As [`measure_cell`], where it is called.
pub(crate) fn measure_on(
    grids: &crate::Grids,
    streams: &crate::Streams,
    threshold: bothros_core::Threshold,
    cell: bothros_core::Cell,
) -> Result<CatchmentMeasures> {
    let catchment = delineate(&grids.directions, cell)?;
    let is_stream = |index: usize| streams.is_stream(threshold, index);
    let of = Measured {
        ground: &grids.filled,
        directions: &grids.directions,
        accumulation: &grids.accumulation,
        frame: &grids.frame,
        is_stream: &is_stream,
        // A whole catchment: all its streams begin in it.
        order: &|_| 1,
    };
    let (directions, ground, frame) = (&grids.directions, &grids.filled, &grids.frame);
    let (measured, (curve, beyond)) = rayon::join(
        || {
            let (path, curve) = flow_paths(directions, frame, cell, CURVE)?;
            Ok::<_, bothros_core::Error>((measure_with(&of, &catchment, path)?, curve))
        },
        || {
            rayon::join(
                || hypsometry(ground, &catchment, CURVE),
                || match catchment.touches_edge() {
                    true => beyond(directions, ground, frame, &is_stream, &catchment),
                    false => Ok(None),
                },
            )
        },
    );
    let edge_m = edge_sides(&grids.directions, &catchment).map(|cells| cells as f64 * grids.frame.cell_m());
    let (measures, area_distance) = measured?;
    Ok(CatchmentMeasures { measures, curve, area_distance, edge_m, beyond: beyond? })
}

/// Checks that a raster holds curve numbers.
async fn check_curve_numbers(store: &Store, cache: &GridCache, facts: &Facts, name: &str) -> Result<()> {
    let raster = facts.settings.rasters.iter().find(|r| r.name == name);
    let raster =
        raster.ok_or_else(|| Error::Refused(format!("there is no raster called “{name}” any more")))?;
    if raster.holds == Holds::Classes {
        return match raster.lookup.iter().any(|c| c.curve_number.is_some()) {
            true => Ok(()),
            false => Err(Error::Refused(format!(
                "“{name}” holds classes: give the curve numbers that they stand for first, in Rasters"
            ))),
        };
    }
    let values = cache.value_raster(store, facts, raster).await?;
    let odd = values.values().iter().find(|v| !v.is_nan() && !(0.0..=CURVE_NUMBERS.1 as f32).contains(*v));
    match odd {
        Some(odd) => {
            Err(Error::Refused(format!("“{name}” holds {odd}: curve numbers lie between 0 and 100")))
        }
        None => Ok(()),
    }
}

/// Chooses how the time of concentration is found. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a formula that is not known, or a choice without a reason.
#[boxed]
pub async fn set_concentration(
    store: &Store,
    cache: &GridCache,
    study: i64,
    how: Concentration,
) -> Result<()> {
    let before = Facts::of(&store.study(study).await?)?.settings.concentration;
    if let Some(key) = &how.formula {
        if Formula::from_key(key).is_none() {
            return Err(Error::Refused(format!("there is no formula called “{key}”")));
        }
        if how.reason.trim().is_empty() {
            return Err(Error::Refused(
                "say why this formula is chosen: the reason goes into the package".into(),
            ));
        }
    }
    if let Some(name) = &how.curve_number_raster {
        let facts = Facts::of(&store.study(study).await?)?;
        check_curve_numbers(store, cache, &facts, name).await?;
    }
    let change = store.change(study).await?;
    let told = match (how.chosen(), how.curve_number) {
        _ if how.curve_number_raster != before.curve_number_raster => match &how.curve_number_raster {
            Some(name) => format!("Curve numbers from the raster {name}"),
            None => "Curve numbers are not taken from a raster any more".into(),
        },
        (Some(formula), _) => format!("Time of concentration by {}: {}", formula.title(), how.reason.trim()),
        (None, Some(number)) => format!("Curve number {number}"),
        (None, None) => "No formula for the time of concentration is chosen".into(),
    };
    let set = |settings: &mut Settings| {
        settings.concentration = Concentration { reason: how.reason.trim().to_owned(), ..how };
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let line = LogLine::new(Stage::Catchments.title(), told);
    change
        .commit(Record::log(line).undone_by("how the time of concentration is found", changed.undo))
        .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_choice_that_is_not_known_any_more_is_none() {
        let how = Concentration { formula: Some("rainbow".into()), ..Default::default() };
        assert_eq!(how.chosen(), None);
        let how = Concentration { formula: Some("temez".into()), ..Default::default() };
        assert_eq!(how.chosen(), Some(Formula::Temez));
    }
}
