//! The network as a receiver finds it that derives it again from a surface and a threshold.

use super::Network;
use crate::conditioning::fill;
use crate::routing::{flow_accumulation, flow_directions};
use crate::{Frame, Grid, Monitor, Part, Result, Threshold};

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
    let filled = fill(surface, &Part::new(monitor, 0.0, 0.4))?;
    let directions = flow_directions(&filled, &Part::new(monitor, 0.4, 0.8))?;
    drop(filled);
    let accumulation = flow_accumulation(&directions, &Part::new(monitor, 0.8, 1.0))?;
    drop(directions);
    let delivered = network.cells(frame);
    accumulation.same_shape(&delivered)?;
    let mut agreement = Agreement { delivered: 0, found: 0, extra: 0 };
    for (&was, &upstream) in delivered.values().iter().zip(accumulation.values()) {
        let again = threshold.is_stream(upstream);
        agreement.delivered += u64::from(was);
        agreement.found += u64::from(was && again);
        agreement.extra += u64::from(again && !was);
    }
    Ok(agreement)
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
