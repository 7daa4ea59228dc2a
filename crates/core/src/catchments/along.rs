//! Places along a network where pour points may be wanted.

use std::collections::{HashMap, HashSet};

use crate::network::Network;
use crate::profile::distances_along;
use crate::{Cell, Frame, Grid};

/// Where pour points are placed along a network.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Along {
    /// where streams meet
    Junctions,
    /// where streams leave the footprint, or end
    Outlets,
    /// at the upper ends of reaches of this Strahler order
    Heads(u8),
}

/// The cells of a network where pour points are placed, in row order.
///
/// ```
/// use bothros_core::catchments::{Along, places};
/// use bothros_core::{Cell, Frame, Grid, Silent, Threshold, network::extract};
/// // Two rows that meet in the last column.
/// let directions = Grid::from_vec(2, 3, vec![1, 1, 4, 1, 1, 0]);
/// let accumulation = Grid::from_vec(2, 3, vec![0, 1, 2, 0, 1, 5]);
/// let frame = Frame { rows: 2, cols: 3, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
/// let ground = Grid::filled(2, 3, 1.0);
/// let network = extract(&directions, &accumulation, &ground, &frame, Threshold::cells(2), &Silent)?;
/// assert_eq!(places(&network, Along::Junctions, &frame), [Cell { row: 1, col: 2 }]);
/// assert_eq!(places(&network, Along::Heads(1), &frame).len(), 2);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn places(network: &Network, along: Along, frame: &Frame) -> Vec<Cell> {
    let reaches = &network.reaches;
    let mut cells: Vec<u32> = match along {
        Along::Junctions => {
            let mut meeting: HashMap<u32, usize> = HashMap::new();
            for joins in reaches.iter().filter_map(|r| r.joins) {
                *meeting.entry(joins).or_insert(0) += 1;
            }
            meeting.into_iter().filter(|&(_, reaches)| reaches > 1).map(|(cell, _)| cell).collect()
        }
        Along::Outlets => {
            let last = reaches.iter().filter(|r| r.downstream.is_none());
            last.filter_map(|r| r.cells.last().copied()).collect()
        }
        Along::Heads(order) => {
            let of = reaches.iter().filter(|r| r.strahler == order);
            of.filter_map(|r| r.cells.first().copied()).collect::<HashSet<_>>().into_iter().collect()
        }
    };
    cells.sort_unstable();
    let cols = frame.cols.max(1);
    cells.into_iter().map(|c| Cell { row: c as usize / cols, col: c as usize % cols }).collect()
}

/// How far apart places along a stem lie.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Interval {
    /// along the centres of cells, metres
    Length(f64),
    /// of contributing area, in cells
    Cells(f64),
}

/// Places along a stem, whose cells run from its headwater to its outlet: every so many metres from the outlet upstream, or where
/// the contributing area has fallen by so many cells since the last one. The outlet itself is none.
///
/// ```
/// use bothros_core::catchments::{Interval, at_intervals};
/// use bothros_core::{Frame, Grid};
/// let accumulation = Grid::from_vec(1, 7, vec![0, 1, 2, 3, 40, 41, 42]);
/// let frame = Frame { rows: 1, cols: 7, left: 0.0, top: 1.0, cell_size: 10.0, unit_m: 1.0 };
/// let stem = [0, 1, 2, 3, 4, 5, 6];
/// let cols = |interval| -> Vec<usize> { at_intervals(&stem, &accumulation, &frame, interval).iter().map(|c| c.col).collect() };
/// assert_eq!(cols(Interval::Length(20.0)), [4, 2, 0]);
/// assert_eq!(cols(Interval::Cells(10.0)), [3]);
/// ```
pub fn at_intervals(stem: &[u32], accumulation: &Grid<u32>, frame: &Frame, interval: Interval) -> Vec<Cell> {
    let path: Vec<Cell> = stem.iter().map(|&c| accumulation.cell(c as usize)).collect();
    let along = distances_along(&path, frame);
    let length = along.last().copied().unwrap_or(0.0);
    // How far each cell is from the outlet, in what the interval is measured in.
    let area = |at: usize| f64::from(accumulation.values()[stem[at] as usize]);
    let far = |at: usize| match interval {
        Interval::Length(_) => length - along[at],
        Interval::Cells(_) => area(stem.len() - 1) - area(at),
    };
    let (Interval::Length(step) | Interval::Cells(step)) = interval;
    let mut found = Vec::new();
    let mut last = 0.0;
    for at in (0..stem.len()).rev() {
        if far(at) >= last + step - 1e-9 && step > 0.0 {
            found.push(path[at]);
            // Lengths go by the whole interval, so that they do not drift by parts of cells.
            last = match interval {
                Interval::Length(_) => last + step,
                Interval::Cells(_) => far(at),
            };
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_interval_of_nothing_gives_no_place() {
        let accumulation = Grid::from_vec(1, 3, vec![0, 1, 2]);
        let frame = Frame { rows: 1, cols: 3, left: 0.0, top: 1.0, cell_size: 10.0, unit_m: 1.0 };
        for step in [0.0, -1.0, f64::NAN] {
            assert!(at_intervals(&[0, 1, 2], &accumulation, &frame, Interval::Length(step)).is_empty());
        }
        assert!(at_intervals(&[], &accumulation, &frame, Interval::Length(5.0)).is_empty());
    }
}
