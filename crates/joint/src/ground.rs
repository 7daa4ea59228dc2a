//! What is worked on, and what comes of it.

use std::ops::Range;

use bothros_core::conditioning::{
    BreachLimits, BreachReport, Conditioned, Conditioning, TreatSinks, Unfilled, bottoms, reach_of_breaching,
};
use bothros_core::routing::Division;
use bothros_core::{Frame, Grid, Monitor, Part};
use serde::{Deserialize, Serialize};

/// Bands at least that sinks are breached by; where searches reach further, one process breaches them.
const LEAST_TO_BREACH: usize = 4;

/// The surface to be filled and routed, and how.
#[derive(Debug, Clone)]
pub struct Ground {
    /// elevations, metres, `NaN` for nodata
    pub surface: Grid<f32>,
    /// how they are worked on
    pub ways: Ways,
    /// the sinks that are breached first, where some are
    pub breaching: Option<Breaching>,
    /// what whoever finishes the work needs beside: grids of the same shape
    pub beside: Vec<Grid<f32>>,
    /// what else whoever finishes the work must know
    pub told: serde_json::Value,
}

/// How a surface is filled and routed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ways {
    /// whether its sinks are to be filled; if not, it must have none but the open ones
    pub fills: bool,
    /// cells where water stays, by number in row order, ascending
    pub open: Vec<u32>,
    /// how flow is divided, beside D8
    pub division: Option<Division>,
}

/// Sinks that are breached by bands.
#[derive(Debug, Clone)]
pub struct Breaching {
    /// where the surface lies
    pub frame: Frame,
    /// how far breaching may go; its length must be limited
    pub limits: BreachLimits,
    /// the bottoms, by number in row order, ascending
    pub sinks: Vec<u32>,
}

impl Breaching {
    /// What bands can do of breaching the sinks of a surface: nothing where it is not asked for, where paths may be of any length or reach over a good
    /// part of the rows, where there are two surfaces, or where depth decides which sinks are filled after.
    fn of(
        unfilled: &Unfilled<'_>,
        how: &Conditioning,
        frame: &Frame,
        monitor: &dyn Monitor,
    ) -> bothros_core::Result<Option<Self>> {
        let limits = how.breach_limits;
        let asked = matches!(how.sinks, TreatSinks::Breach | TreatSinks::BreachThenFill);
        let reach =
            reach_of_breaching(limits, frame).filter(|reach| reach * 4 * LEAST_TO_BREACH <= frame.rows);
        let one_by_one = unfilled.routing.is_some() || how.max_fill_depth_m.is_some();
        if !asked || one_by_one || reach.is_none() {
            return Ok(None);
        }
        let mut sinks = bottoms(&unfilled.ground, monitor)?;
        sinks.retain(|sink| unfilled.open.binary_search(sink).is_err());
        Ok(Some(Self { frame: *frame, limits, sinks }))
    }

    pub(crate) fn reach(&self) -> Option<usize> {
        reach_of_breaching(self.limits, &self.frame)
    }

    pub(crate) fn sinks_of(&self, rows: Range<usize>, cols: usize) -> &[u32] {
        let before = |row: usize| self.sinks.partition_point(|&sink| (sink as usize) < row * cols);
        &self.sinks[before(rows.start)..before(rows.end)]
    }
}

/// Breaches the sinks of a DEM, unless bands can, and tells what is left to them. Then [`Ground::surface`] is that of `unfilled`.
///
/// # Errors
/// Those of [`Unfilled::breach`].
pub fn left_to_bands(
    unfilled: &mut Unfilled<'_>,
    how: &Conditioning,
    frame: &Frame,
    division: Option<Division>,
    monitor: &dyn Monitor,
) -> bothros_core::Result<(Ways, Option<Breaching>)> {
    let breaching = Breaching::of(unfilled, how, frame, &Part::new(monitor, 0.0, 0.2))?;
    if breaching.is_none() {
        unfilled.breach(frame, how, &Part::new(monitor, 0.2, 1.0))?;
    }
    Ok((Ways { fills: unfilled.fills_surface(), open: unfilled.open.clone(), division }, breaching))
}

/// What was computed by all.
#[derive(Debug, Clone)]
pub struct Computed {
    /// the surface as it was laid out, metres
    pub surface: Grid<f32>,
    /// how it was worked on
    pub ways: Ways,
    /// what lay beside it
    pub beside: Vec<Grid<f32>>,
    /// what was told with it
    pub told: serde_json::Value,
    /// the surface after its sinks were breached, metres, where they were, and what that did
    pub breached: Option<(Grid<f32>, BreachReport)>,
    /// the filled surface, metres, where sinks were filled
    pub filled: Option<Grid<f32>>,
    /// D8 codes
    pub directions: Grid<u8>,
    /// cells upstream by D8
    pub accumulation: Grid<u32>,
    /// cells upstream where flow is divided
    pub divided: Option<Grid<f64>>,
    /// angles of steepest fall, where it is divided by them
    pub angles: Option<Grid<f32>>,
}

/// The conditioned DEM, from what bands made of it ([`Computed::breached`] and [`Computed::filled`]). That took some seconds in all, which each of
/// both steps tells.
///
/// # Errors
/// Those of [`Unfilled::filled`].
pub fn conditioned_by_bands(
    mut unfilled: Unfilled<'_>,
    breached: Option<(Grid<f32>, BreachReport)>,
    filled: Option<Grid<f32>>,
    seconds: f64,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> bothros_core::Result<Conditioned> {
    if let Some((ground, report)) = breached {
        unfilled.breached(ground, report, seconds, frame)?;
    }
    match filled {
        Some(filled) => unfilled.filled(filled, seconds, frame, monitor),
        None => unfilled.fill(frame, monitor),
    }
}
