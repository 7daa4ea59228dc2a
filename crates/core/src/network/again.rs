//! The network as a receiver finds it that derives it again from a surface and a threshold.

use rayon::prelude::*;

use super::Network;
use crate::conditioning::fill;
use crate::routing::{flow_accumulation, flow_directions};
use crate::{Frame, Grid, Monitor, Part, Result, Threshold};

/// Cells that one thread counts by itself.
const PIECE: usize = 1 << 16;

/// How far the stream cells of a network that was derived again are those of the network that was handed out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Agreement {
    /// stream cells that were handed out
    pub delivered: u64,
    /// those of them that were found again
    pub found: u64,
    /// stream cells that were found and not handed out
    pub extra: u64,
}

impl Agreement {
    /// The share of the stream cells of either that are those of both; 1 where there are none.
    pub fn share(&self) -> f64 {
        match self.delivered + self.extra {
            0 => 1.0,
            either => self.found as f64 / either as f64,
        }
    }
}

/// Derives the network again as plainly as can be, and compares its stream cells with those of `network`: `surface`
/// (metres) is filled, routed by D8 and cut at `threshold`.
///
/// Burned streams, barriers and edits are known to `surface` alone or not at all, so that this tells a
/// receiver that does the same what to expect.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled), and those of [`fill`].
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, conditioning, network, routing};
/// let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };
/// let ground = Grid::from_fn(9, 9, |c| 20.0 - c.row as f32 + (c.col as f32 - 4.0).abs());
/// let directions = routing::flow_directions(&ground, &Silent)?;
/// let accumulation = routing::flow_accumulation(&directions, &Silent)?;
/// let threshold = Threshold::cells(9);
/// let streams = network::extract(&directions, &accumulation, &ground, &frame, threshold, &Silent)?;
/// let again = network::derived_again(&ground, &streams, &frame, threshold, &Silent)?;
/// assert_eq!((again.found, again.extra), (again.delivered, 0));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn derived_again(
    surface: &Grid<f32>,
    network: &Network,
    frame: &Frame,
    threshold: Threshold,
    monitor: &dyn Monitor,
) -> Result<Agreement> {
    // Where each cell falls already, filling changes nothing.
    let filled = match falls_everywhere(surface) {
        true => None,
        false => Some(fill(surface, &Part::new(monitor, 0.0, 0.4))?),
    };
    let directions = flow_directions(filled.as_ref().unwrap_or(surface), &Part::new(monitor, 0.4, 0.8))?;
    drop(filled);
    let accumulation = flow_accumulation(&directions, &Part::new(monitor, 0.8, 1.0))?;
    drop(directions);
    let delivered = network.cells(frame);
    accumulation.same_shape(&delivered)?;
    let none = Agreement { delivered: 0, found: 0, extra: 0 };
    let counted = delivered.values().par_chunks(PIECE).zip(accumulation.values().par_chunks(PIECE)).map(
        |(delivered, upstream)| {
            let mut here = none;
            for (&was, &upstream) in delivered.iter().zip(upstream) {
                let again = threshold.is_stream(upstream);
                here.delivered += u64::from(was);
                here.found += u64::from(was && again);
                here.extra += u64::from(again && !was);
            }
            here
        },
    );
    Ok(counted.reduce(
        || none,
        |a, b| Agreement {
            delivered: a.delivered + b.delivered,
            found: a.found + b.found,
            extra: a.extra + b.extra,
        },
    ))
}

/// Whether each cell that does not lie at the edge of the footprint has a lower neighbour, so that from everywhere water finds a
/// way to the edge.
fn falls_everywhere(surface: &Grid<f32>) -> bool {
    let cols = surface.cols();
    if cols < 3 || surface.rows() < 3 {
        return true;
    }
    let line = |row: usize| &surface.values()[row * cols..(row + 1) * cols];
    (1..surface.rows() - 1).into_par_iter().all(|row| {
        let lines = [line(row - 1), line(row), line(row + 1)];
        // Comparisons with nodata fail: a cell beside it lies at the edge, and does not count.
        let stays = |col: usize, z: f32| {
            let beside = lines[1][col - 1] >= z && lines[1][col + 1] >= z;
            let around = |line: &[f32]| line[col - 1] >= z && line[col] >= z && line[col + 1] >= z;
            beside && around(lines[0]) && around(lines[2])
        };
        !(1..cols - 1).any(|col| stays(col, lines[1][col]))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::network::extract;
    use crate::routing::with_least_fall;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn frame_of(dem: &Grid<f32>) -> Frame {
        Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 }
    }

    proptest! {
        #[test]
        fn what_falls_everywhere_gives_its_own_network_back(dem in any_terrain(20), cells in 1u32..30) {
            let frame = frame_of(&dem);
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let falling = with_least_fall(&filled, &directions, 0.0, &frame, &Silent).unwrap();
            let directions = flow_directions(&falling, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let threshold = Threshold::cells(cells);
            let network = extract(&directions, &accumulation, &falling, &frame, threshold, &Silent).unwrap();
            let again = derived_again(&falling, &network, &frame, threshold, &Silent).unwrap();
            prop_assert_eq!((again.found, again.extra), (again.delivered, 0));
            prop_assert_eq!(again.share(), 1.0);
        }

        #[test]
        fn what_falls_everywhere_is_not_changed_by_filling(dem in any_terrain(20), fills in any::<bool>()) {
            let mut surface = dem;
            if fills {
                let frame = frame_of(&surface);
                let filled = fill(&surface, &Silent).unwrap();
                let directions = flow_directions(&filled, &Silent).unwrap();
                surface = with_least_fall(&filled, &directions, 0.0, &frame, &Silent).unwrap();
                prop_assert!(falls_everywhere(&surface));
            }
            if falls_everywhere(&surface) {
                let bits = |of: &Grid<f32>| of.values().iter().map(|z| z.to_bits()).collect::<Vec<_>>();
                prop_assert_eq!(bits(&fill(&surface, &Silent).unwrap()), bits(&surface));
            }
        }

        #[test]
        fn another_threshold_only_takes_away_or_adds(dem in any_terrain(20), cells in 2u32..30) {
            let frame = frame_of(&dem);
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let threshold = Threshold::cells(cells);
            let network = extract(&directions, &accumulation, &filled, &frame, threshold, &Silent).unwrap();
            let higher = derived_again(&filled, &network, &frame, Threshold::cells(cells + 5), &Silent).unwrap();
            prop_assert_eq!(higher.extra, 0);
            let lower = derived_again(&filled, &network, &frame, Threshold::cells(cells - 1), &Silent).unwrap();
            prop_assert_eq!(lower.found, lower.delivered);
            prop_assert!(lower.share() <= 1.0 && higher.share() <= 1.0);
        }
    }
}
