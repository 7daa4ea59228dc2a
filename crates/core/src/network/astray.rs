//! Where streams leave the low ground.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::Network;
use crate::{Area, Cell, Frame, Grid};

/// A stretch of stream over high ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Astray {
    /// its highest place, as seen from the ground around
    pub at: Cell,
    /// how far that stands out along its stream, metres
    pub above_m: f32,
    /// length of the stretch along the cell centres, metres
    pub length_m: f64,
    /// what drains to its lower end
    pub contributing: Area,
}

/// Finds where a network runs over ground that stands out along the streams themselves. `position` is the
/// topographic position (metres) of the DEM as it was before it was filled, `accumulation` the cells
/// upstream, both on the grid at `frame`.
///
/// A stream cell stands high by its position less the median of positions within `around` cells along its
/// reach. Cells that stand high by more than the upper quartile of all stream cells and three ranges
/// between the quartiles (far out, in Tukey's words), and by 0.5 m at least, make stretches. The stretch
/// with the largest contributing area comes first.
///
/// Water follows low ground; a modelled stream over a bank, an embankment or a spur is evidence that the
/// DEM holds water up before it, or that filling has led it astray.
///
/// # Source
/// Topographic position: Weiss 2001; outliers: Tukey 1977, Exploratory Data Analysis; the use of both on
/// streams is ours.
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
/// let found = leaves_low_ground(&network, &position, &accumulation, &frame, 10);
/// assert_eq!((found.len(), found[0].at.row, found[0].at.col), (1, 20, 10));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn leaves_low_ground(
    network: &Network,
    position: &Grid<f32>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    around: usize,
) -> Vec<Astray> {
    let at = |cell: u32| position.values()[cell as usize];
    let excess: Vec<Vec<f32>> =
        network.reaches.par_iter().map(|reach| stands_out(&reach.cells, &at, around)).collect();
    let mut all: Vec<f32> = excess.iter().flatten().copied().filter(|z| !z.is_nan()).collect();
    all.sort_unstable_by(f32::total_cmp);
    let quarter = |n: usize| all.get(all.len() * n / 4).copied().unwrap_or(0.0);
    let least = (quarter(3) + 3.0 * (quarter(3) - quarter(1))).max(LEAST_M);
    let mut found = Vec::new();
    for (reach, excess) in network.reaches.iter().zip(&excess) {
        let cells: Vec<(u32, f32)> = reach.cells.iter().copied().zip(excess.iter().copied()).collect();
        for stretch in cells.chunk_by(|a, b| (a.1 > least) == (b.1 > least)).filter(|s| s[0].1 > least) {
            let top = stretch.iter().max_by(|a, b| a.1.total_cmp(&b.1));
            let (Some(&(top, above_m)), Some(&(last, _))) = (top, stretch.last()) else { continue };
            let step = |pair: &[(u32, f32)]| {
                let (a, b) = (position.cell(pair[0].0 as usize), position.cell(pair[1].0 as usize));
                (a.row as f64 - b.row as f64).hypot(a.col as f64 - b.col as f64)
            };
            let cells = 1.0 + stretch.windows(2).map(step).sum::<f64>();
            found.push(Astray {
                at: position.cell(top as usize),
                above_m,
                length_m: cells * frame.cell_m(),
                contributing: frame.area_of(accumulation.values()[last as usize] as u64 + 1),
            });
        }
    }
    found.sort_by(|a, b| b.contributing.as_m2().total_cmp(&a.contributing.as_m2()).then(a.at.cmp(&b.at)));
    found
}

/// Less is noise, metres.
const LEAST_M: f32 = 0.5;

/// How far each cell of a path stands above the median of those within `around` cells along it.
fn stands_out(cells: &[u32], at: &impl Fn(u32) -> f32, around: usize) -> Vec<f32> {
    let z: Vec<f32> = cells.iter().map(|&cell| at(cell)).collect();
    let mut window = Vec::with_capacity(2 * around + 1);
    (0..z.len())
        .map(|i| {
            window.clear();
            window.extend(
                z[i.saturating_sub(around)..(i + around + 1).min(z.len())].iter().filter(|z| !z.is_nan()),
            );
            if window.is_empty() {
                return f32::NAN;
            }
            let middle = window.len() / 2;
            let (_, median, _) = window.select_nth_unstable_by(middle, f32::total_cmp);
            z[i] - *median
        })
        .collect()
}
