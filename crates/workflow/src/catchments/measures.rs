//! What is measured of catchments: computed when it is first asked for, and remembered.

use std::sync::Arc;

use bothros_core::catchments::{
    Estimate, Formula, Measured, Measures, area_distance, concentration, delineate, edge_sides, hypsometry,
    measure, sorted_elevations,
};
use bothros_products::{Row, measures_row};
use bothros_store::{LogLine, PourPoint, Record, Store, kept};
use serde::{Deserialize, Serialize};

use crate::catchments::CatchmentFacts;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, blocking};

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
}

/// How the time of concentration is found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Concentration {
    /// curve number of the land, 30 to 100; none where it is not known
    pub curve_number: Option<f64>,
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
    /// The time of concentration by every formula.
    pub fn estimates(&self, how: &Concentration) -> Vec<Estimate> {
        concentration(&self.measures.flow(how.curve_number))
    }

    /// Its row in the table of measures.
    pub fn row(&self, number: u32, name: &str, how: &Concentration) -> Row {
        let name = Some(name.to_owned()).filter(|n| !n.is_empty());
        measures_row((Some(number), None), name, &self.measures, &self.estimates(how), how.curve_number)
    }
}

/// The median of what formulas give that have an answer, and the least and the most, hours; nothing where none has.
pub fn spread(estimates: &[Estimate]) -> Option<(f64, f64, f64)> {
    let mut hours: Vec<f64> = estimates.iter().filter_map(|e| e.hours.ok()).collect();
    hours.sort_by(f64::total_cmp);
    let last = hours.len().checked_sub(1)?;
    Some(((hours[last / 2] + hours[last.div_ceil(2)]) / 2.0, hours[0], hours[last]))
}

/// Measures the catchment of a pour point.
///
/// # Errors
/// [`Error::Refused`] where it is not delineated.
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
    blocking(move || {
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
        let measures = measure(&of, &catchment)?;
        let curve = hypsometry(&sorted_elevations(&grids.filled, &catchment), CURVE);
        let edge_m =
            edge_sides(&grids.directions, &catchment).map(|cells| cells as f64 * grids.frame.cell_m());
        let area_distance = area_distance(&grids.directions, &grids.frame, cell, CURVE)?;
        Ok(CatchmentMeasures { measures, curve, area_distance, edge_m })
    })
    .await
}

/// Least and largest curve number (NRCS National Engineering Handbook 630, ch. 9: practical range).
pub const CURVE_NUMBERS: (f64, f64) = (30.0, 100.0);

/// Chooses how the time of concentration is found. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a formula that is not known, or a choice without a reason.
pub async fn set_concentration(store: &Store, study: i64, how: Concentration) -> Result<()> {
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
    let change = store.change(study).await?;
    let told = match (how.chosen(), how.curve_number) {
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
    use rstest::rstest;

    fn of(hours: &[Option<f64>]) -> Vec<Estimate> {
        let estimate = |(h, formula): (&Option<f64>, Formula)| Estimate {
            formula,
            hours: h.ok_or("it is level"),
            within_range: None,
        };
        hours.iter().zip(Formula::ALL).map(estimate).collect()
    }

    #[rstest]
    #[case(&[Some(2.0), Some(1.0), Some(5.0)], Some((2.0, 1.0, 5.0)))]
    #[case(&[Some(2.0), None, Some(5.0)], Some((3.5, 2.0, 5.0)))]
    #[case(&[None, Some(4.0)], Some((4.0, 4.0, 4.0)))]
    #[case(&[None], None)]
    #[case(&[], None)]
    fn the_spread_is_of_those_that_have_an_answer(
        #[case] hours: &[Option<f64>],
        #[case] expected: Option<(f64, f64, f64)>,
    ) {
        assert_eq!(spread(&of(hours)), expected);
    }

    #[test]
    fn a_choice_that_is_not_known_any_more_is_none() {
        let how = Concentration { formula: Some("rainbow".into()), ..Default::default() };
        assert_eq!(how.chosen(), None);
        let how = Concentration { formula: Some("temez".into()), ..Default::default() };
        assert_eq!(how.chosen(), Some(Formula::Temez));
    }
}
