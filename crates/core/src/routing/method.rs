//! The three routing methods, and the accumulation from which each draws streams.

use serde::{Deserialize, Serialize};

use super::{
    DIRECTION_NODATA, MFD_EXPONENT, dinf_accumulation, dinf_directions, downstream, flow_accumulation,
    mfd_accumulation,
};
use crate::monitor::Pace;
use crate::routing::ACCUMULATION_NODATA;
use crate::{Grid, Monitor, Part, Result};

/// How flow is routed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// all of it to one of eight neighbours
    #[default]
    D8,
    /// between the two neighbours on either side of the steepest fall
    DInfinity,
    /// among all lower neighbours, by slope
    Mfd,
}

impl Method {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::D8, Self::DInfinity, Self::Mfd];

    /// Its name in files and forms.
    pub fn name(self) -> &'static str {
        match self {
            Self::D8 => "d8",
            Self::DInfinity => "dinf",
            Self::Mfd => "mfd",
        }
    }
    /// Its name on screen.
    pub fn title(self) -> &'static str {
        match self {
            Self::D8 => "D8",
            Self::DInfinity => "D-infinity",
            Self::Mfd => "MFD",
        }
    }
    /// Whether it divides flow, so that streams are to be brought to one thread.
    pub fn divides(self) -> bool {
        self != Self::D8
    }
    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|m| m.name() == name)
    }
}

/// What gathers at each cell by a method, in whole cells, itself not counted, as the drawing of streams needs
/// it: nowhere less than at the cells that drain there by D8, so that no stream ends on land.
///
/// `surface` is the routing surface (metres), `directions` its D8 codes. For D8 this is
/// [`flow_accumulation`](super::flow_accumulation). For the others it is their accumulation, rounded down, and
/// carried down along D8 where it grows less: a cell reaches a threshold where it, or any cell above it along D8,
/// reaches it by the method. Outside the footprint it is [`ACCUMULATION_NODATA`].
///
/// # Errors
/// Those of the methods.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::{Method, accumulate_by, flow_directions}};
/// // A plane to the south: without anything to divide, D-infinity brings what D8 brings.
/// let plane = Grid::from_fn(4, 3, |c| 9.0 - c.row as f32);
/// let directions = flow_directions(&plane, &Silent)?;
/// for method in [Method::D8, Method::DInfinity] {
///     let sums = accumulate_by(method, &plane, &directions, &Silent)?;
///     assert_eq!(sums.values()[..6], [0, 0, 0, 1, 1, 1], "{method:?}");
/// }
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn accumulate_by(
    method: Method,
    surface: &Grid<f32>,
    directions: &Grid<u8>,
    monitor: &dyn Monitor,
) -> Result<Grid<u32>> {
    let part = |from, to| Part::new(monitor, from, to);
    let real = match method {
        Method::D8 => return flow_accumulation(directions, monitor),
        Method::DInfinity => {
            let angles = dinf_directions(surface, directions, &part(0.0, 0.3))?;
            dinf_accumulation(directions, &angles, None, &part(0.3, 0.8))?
        }
        Method::Mfd => mfd_accumulation(surface, directions, MFD_EXPONENT, None, &part(0.0, 0.8))?,
    };
    carried_down(directions, &real, &part(0.8, 1.0))
}

/// The largest of the values along D8 above each cell, its own included, rounded down: of the accumulation of a method that divides flow what
/// [`accumulate_by`] gives.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
pub fn carried_down(directions: &Grid<u8>, real: &Grid<f64>, monitor: &dyn Monitor) -> Result<Grid<u32>> {
    let own = |at: usize| match directions.values()[at] {
        DIRECTION_NODATA => ACCUMULATION_NODATA,
        // What dividing loses to rounding must not cost a whole cell.
        _ => (real.values()[at] + 1e-6).clamp(0.0, (u32::MAX - 1) as f64) as u32,
    };
    carry_down(directions, (0..directions.len()).map(own).collect(), monitor)
}

/// The largest of the values along D8 above each cell, its own included; outside is [`ACCUMULATION_NODATA`].
pub(crate) fn carry_down(
    directions: &Grid<u8>,
    mut out: Vec<u32>,
    monitor: &dyn Monitor,
) -> Result<Grid<u32>> {
    let mut waiting = vec![0u8; directions.len()];
    for at in 0..directions.len() {
        if let Some(next) = downstream(directions, at) {
            waiting[next] += 1;
        }
    }
    let mut pace = Pace::new(monitor, directions.len());
    const DONE: u8 = u8::MAX;
    for start in 0..directions.len() {
        pace.advance(1)?;
        let mut at = start;
        while waiting[at] == 0 {
            waiting[at] = DONE;
            let Some(next) = downstream(directions, at) else { break };
            out[next] = out[next].max(out[at]);
            waiting[next] -= 1;
            at = next;
        }
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(directions.rows(), directions.cols(), out))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill;
    use crate::network::{extract, extract_cells};
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use crate::{Frame, Silent, Threshold};
    use proptest::prelude::*;

    proptest! {
        /// A threshold on what is carried down gives the streams of the method, joined along D8.
        #[test]
        fn streams_are_those_of_the_method(dem in any_terrain(14), cells in 1u32..20, by in 0usize..3) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
            let surface = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&surface, &Silent).unwrap();
            let d8 = flow_accumulation(&directions, &Silent).unwrap();
            let method = Method::ALL[by];
            let carried = accumulate_by(method, &surface, &directions, &Silent).unwrap();
            let threshold = Threshold::cells(cells);
            let drawn = extract(&directions, &carried, &surface, &frame, threshold, &Silent).unwrap();
            let real = match method {
                Method::D8 => Grid::from_vec(d8.rows(), d8.cols(), d8.values().iter().map(|&a| if a == ACCUMULATION_NODATA { -1.0 } else { a as f64 }).collect()),
                Method::DInfinity => dinf_accumulation(&directions, &dinf_directions(&surface, &directions, &Silent).unwrap(), None, &Silent).unwrap(),
                Method::Mfd => mfd_accumulation(&surface, &directions, MFD_EXPONENT, None, &Silent).unwrap(),
            };
            let mask = Grid::from_vec(d8.rows(), d8.cols(), real.values().iter().map(|&a| a >= 0.0 && a + 1.0 + 1e-6 >= cells as f64).collect());
            let masked = extract_cells(&directions, &d8, Some(&real), &surface, &frame, &mask, &Silent).unwrap();
            let cells_of = |n: &crate::network::Network| n.reaches.iter().map(|r| r.cells.clone()).collect::<Vec<_>>();
            prop_assert_eq!(cells_of(&drawn), cells_of(&masked));
            prop_assert_eq!(drawn.reaches.iter().map(|r| r.strahler).collect::<Vec<_>>(), masked.reaches.iter().map(|r| r.strahler).collect::<Vec<_>>());
        }
    }
}
