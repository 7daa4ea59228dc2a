//! Where streams leave the low ground.

use serde::{Deserialize, Serialize};

use super::Network;
use crate::{Area, Cell, Frame, Grid};

/// A stretch of stream over high ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Astray {
    /// its highest place, as seen from the ground around
    pub at: Cell,
    /// how far that stands above the mean around, metres
    pub above_m: f32,
    /// length of the stretch along the cell centres, metres
    pub length_m: f64,
    /// what drains to its lower end
    pub contributing: Area,
}

/// Finds where a network runs over ground that stands more than `least_m` (metres) above what surrounds it. `position` is the
/// topographic position (metres) of the DEM as it was before it was filled, `accumulation` the cells upstream, both on the
/// grid at `frame`. The stretch with the largest contributing area comes first.
///
/// Water follows low ground; a modelled stream over a bank, an embankment or a spur is evidence that the DEM holds water up
/// before it, or that filling has led it astray.
///
/// # Source
/// Topographic position: Weiss 2001; its use on streams is ours.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, network::{extract, leaves_low_ground}};
/// # use bothros_core::{routing, terrain::{Radius, topographic_position}, conditioning::fill};
/// let frame = Frame { rows: 41, cols: 21, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// // A valley to the south, and a bank across it.
/// let dem = Grid::from_fn(41, 21, |c| {
///     let valley = 60.0 - c.row as f32 + (c.col as f32 - 10.0).abs();
///     if c.row == 20 { valley.max(46.0) } else { valley }
/// });
/// let filled = fill(&dem, &Silent)?;
/// let directions = routing::flow_directions(&filled, &Silent)?;
/// let accumulation = routing::flow_accumulation(&directions, &Silent)?;
/// let network = extract(&directions, &accumulation, &filled, &frame, Threshold::cells(60), &Silent)?;
/// let position = topographic_position(&dem, &frame, Radius::Cells(4.0), &Silent)?;
/// let found = leaves_low_ground(&network, &position, &accumulation, &frame, 2.0);
/// assert_eq!((found.len(), found[0].at.row, found[0].at.col), (1, 20, 10));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn leaves_low_ground(
    network: &Network,
    position: &Grid<f32>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    least_m: f32,
) -> Vec<Astray> {
    let high = |cell: u32| position.values()[cell as usize] > least_m;
    let mut found = Vec::new();
    for reach in &network.reaches {
        for stretch in reach.cells.chunk_by(|&a, &b| high(a) == high(b)).filter(|s| high(s[0])) {
            let top = stretch
                .iter()
                .max_by(|&&a, &&b| position.values()[a as usize].total_cmp(&position.values()[b as usize]));
            let (Some(&top), Some(&last)) = (top, stretch.last()) else { continue };
            let step = |pair: &[u32]| {
                let (a, b) = (position.cell(pair[0] as usize), position.cell(pair[1] as usize));
                (a.row as f64 - b.row as f64).hypot(a.col as f64 - b.col as f64)
            };
            let cells = 1.0 + stretch.windows(2).map(step).sum::<f64>();
            found.push(Astray {
                at: position.cell(top as usize),
                above_m: position.values()[top as usize],
                length_m: cells * frame.cell_m(),
                contributing: frame.area_of(accumulation.values()[last as usize] as u64 + 1),
            });
        }
    }
    found.sort_by(|a, b| b.contributing.as_m2().total_cmp(&a.contributing.as_m2()).then(a.at.cmp(&b.at)));
    found
}
