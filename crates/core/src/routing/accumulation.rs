//! How many cells lie upstream.

use super::{DIRECTION_NODATA, downstream};
use crate::monitor::Pace;
use crate::{Grid, Monitor, Result};

/// Marks cells outside the footprint in a flow accumulation.
pub const ACCUMULATION_NODATA: u32 = u32::MAX;

/// Number of cells upstream of each cell, itself not counted: 0 at a headwater.
///
/// `directions` holds D8 codes without cycles, as [`flow_directions`](super::flow_directions)
/// gives them; the result is [`ACCUMULATION_NODATA`] outside the footprint. Over all outlets,
/// accumulation + 1 adds up to the number of cells in the footprint.
///
/// Each cell is passed on downstream as soon as all that flows into it is known, so that the cost
/// is a constant per cell.
///
/// # Errors
/// [`Error::TooManyCells`](crate::Error::TooManyCells), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// O'Callaghan and Mark 1984; Jenson and Domingue 1988, Photogrammetric Engineering and Remote
/// Sensing 54, 1593-1600.
///
/// ```
/// use bothros_core::{Grid, Silent, routing::flow_accumulation};
/// let to_the_east = Grid::from_vec(1, 4, vec![1, 1, 1, 0]);
/// assert_eq!(flow_accumulation(&to_the_east, &Silent)?.values(), [0, 1, 2, 3]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn flow_accumulation(directions: &Grid<u8>, monitor: &dyn Monitor) -> Result<Grid<u32>> {
    directions.numbered()?;
    let mut waiting = vec![0u8; directions.len()];
    let mut pace = Pace::new(monitor, 2 * directions.len());
    for index in 0..directions.len() {
        pace.advance(1)?;
        if let Some(next) = downstream(directions, index) {
            waiting[next] += 1;
        }
    }
    const STARTED: u8 = u8::MAX;
    let mut upstream = vec![0u32; directions.len()];
    for start in 0..directions.len() {
        pace.advance(1)?;
        if directions.values()[start] == DIRECTION_NODATA {
            upstream[start] = ACCUMULATION_NODATA;
            continue;
        }
        if waiting[start] != 0 {
            continue;
        }
        let mut at = start;
        waiting[at] = STARTED;
        while let Some(next) = downstream(directions, at) {
            upstream[next] += upstream[at] + 1;
            waiting[next] -= 1;
            if waiting[next] != 0 {
                break;
            }
            // It is done here, and must not begin again when the scan comes by.
            waiting[next] = STARTED;
            at = next;
        }
    }
    monitor.progress(1.0);
    Ok(Grid::from_vec(directions.rows(), directions.cols(), upstream))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{OUTLET, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    #[test]
    fn streams_meet() {
        // Two rows flow into the middle one, which flows east.
        let directions = Grid::from_vec(3, 3, vec![4, 4, 4, 1, 1, 0, 64, 64, 64]);
        let got = flow_accumulation(&directions, &Silent).unwrap();
        assert_eq!(got.values(), [0, 0, 0, 2, 5, 8, 0, 0, 0]);
    }

    proptest! {
        #[test]
        fn outlets_add_up_to_the_footprint(dem in any_terrain(16)) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let out: u64 = (0..dem.len())
                .filter(|&i| directions.values()[i] == OUTLET)
                .map(|i| accumulation.values()[i] as u64 + 1)
                .sum();
            let footprint = dem.values().iter().filter(|z| !z.is_nan()).count() as u64;
            prop_assert_eq!(out, footprint);
        }

        #[test]
        fn equals_counting_paths(dem in any_terrain(12)) {
            let directions = flow_directions(&dem, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let mut counted = vec![0u32; dem.len()];
            for start in 0..dem.len() {
                let mut at = start;
                while let Some(next) = downstream(&directions, at) {
                    counted[next] += 1;
                    at = next;
                }
            }
            for ((z, got), expected) in dem.values().iter().zip(accumulation.values()).zip(&counted) {
                if !z.is_nan() {
                    prop_assert_eq!(got, expected);
                }
            }
        }
    }
}
