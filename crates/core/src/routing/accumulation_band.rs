//! Flow accumulation by bands of rows: what each band tells, how it is settled, and a band accumulated.

use serde::{Deserialize, Serialize};

use super::accumulation::{ACCUMULATION_NODATA, BAND, accumulate};
use super::{DIRECTION_NODATA, OUTLET};
use crate::monitor::check;
use crate::{Error, Grid, Monitor, NEIGHBOURS, Result, Rim};

/// Water that enters a band and never leaves it.
const STAYS: u32 = u32::MAX;

/// What a band tells of how water gets through it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandFlow {
    /// directions of its first and last row
    codes: Rim<u8>,
    /// cells of the band upstream of each cell there
    gathered: Rim<u32>,
    /// the cell of these rows over which water leaves that enters at each cell there: numbered from the west, those of the first
    /// row, then those of the last
    leaves_at: Rim<u32>,
}

/// A band of rows whose flow is being accumulated.
pub struct AccumulatingBand {
    directions: Grid<u8>,
    /// cells of the band upstream of each
    gathered: Grid<u32>,
}

impl AccumulatingBand {
    /// Begins with a band: `directions` are D8 codes of its rows, which may lead to the rows beside it.
    ///
    /// # Errors
    /// [`Error::NoData`] where the band has no cell, [`Error::TooManyCells`], [`Error::Cancelled`].
    ///
    /// # Source
    /// Barnes 2017, Computers & Geosciences 106, 62-69.
    pub fn begin(directions: Grid<u8>, monitor: &dyn Monitor) -> Result<Self> {
        if directions.is_empty() {
            return Err(Error::NoData);
        }
        let gathered = accumulate(&directions, &|_| 1, ACCUMULATION_NODATA, BAND, monitor)?;
        Ok(Self { directions, gathered })
    }

    /// The directions.
    pub fn directions(&self) -> &Grid<u8> {
        &self.directions
    }

    /// The step from a cell to the next in the band; none where water stays or leaves the band.
    fn next(&self, index: usize) -> Option<usize> {
        let (rows, cols) = (self.directions.rows(), self.directions.cols());
        match beyond(self.directions.values()[index], index / cols, rows) {
            Step::To(step) => Some(index.wrapping_add_signed(step.rows * cols as isize + step.cols)),
            _ => None,
        }
    }

    /// What it tells the others.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub fn flow(&self, monitor: &dyn Monitor) -> Result<BandFlow> {
        let (rows, cols, codes) = (self.directions.rows(), self.directions.cols(), self.directions.values());
        // Where water goes on from a cell, plus 1; 0 for cells that nobody came by yet.
        let mut known = vec![0u32; codes.len()];
        let mut ways = 0usize;
        let mut end_of = |start: usize| -> Result<u32> {
            let mut at = start;
            let end = loop {
                ways += 1;
                if ways.is_multiple_of(1 << 17) {
                    check(monitor)?;
                }
                match known[at] {
                    0 => {}
                    STAYS => break STAYS,
                    end => break end - 1,
                }
                let (row, col) = (at / cols, at % cols);
                match (beyond(codes[at], row, rows), self.next(at)) {
                    (_, Some(next)) => at = next,
                    (Step::Leaves, _) if row == 0 => break col as u32,
                    (Step::Leaves, _) => break (cols + col) as u32,
                    _ => break STAYS,
                }
            };
            let told = end.saturating_add(1);
            let mut way = Some(start);
            while let Some(at) = way.filter(|&at| known[at] == 0) {
                known[at] = told;
                way = self.next(at);
            }
            Ok(end)
        };
        let first = (0..cols).map(&mut end_of).collect::<Result<_>>()?;
        let last = ((rows - 1) * cols..rows * cols).map(&mut end_of).collect::<Result<_>>()?;
        Ok(BandFlow {
            codes: Rim::of(&self.directions)?,
            gathered: Rim::of(&self.gathered)?,
            leaves_at: Rim { first, last },
        })
    }

    /// The accumulation, once what enters the band is settled: the rows of
    /// [`flow_accumulation`](super::flow_accumulation) of the whole grid. What enters at a cell lies upstream of it, and of all
    /// cells on its way through the band.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`], [`Error::Cancelled`].
    pub fn accumulate(mut self, inflow: &Rim<u32>, monitor: &dyn Monitor) -> Result<Grid<u32>> {
        let (rows, cols) = (self.directions.rows(), self.directions.cols());
        let mut ways = 0usize;
        let last = if rows > 1 { (rows - 1) * cols } else { 0 };
        for (start, entered) in [(0, &inflow.first), (last, &inflow.last)] {
            if entered.len() != cols {
                return Err(crate::band::not_as_long(cols, entered.len()));
            }
            // A band of one row is the whole grid: nothing enters it.
            for (col, &cells) in entered.iter().enumerate().filter(|(_, cells)| **cells > 0) {
                let mut way = Some(start + col);
                while let Some(at) = way {
                    self.gathered.values_mut()[at] += cells;
                    way = self.next(at);
                    ways += 1;
                    if ways.is_multiple_of(1 << 17) {
                        check(monitor)?;
                    }
                }
            }
        }
        Ok(self.gathered)
    }
}

/// Where water goes from a cell.
enum Step {
    Stays,
    /// to a row beside the band
    Leaves,
    To(crate::Neighbour),
}

fn beyond(code: u8, row: usize, rows: usize) -> Step {
    if code == OUTLET || code == DIRECTION_NODATA {
        return Step::Stays;
    }
    let step = NEIGHBOURS[code.trailing_zeros() as usize];
    match row.checked_add_signed(step.rows) {
        Some(row) if row < rows => Step::To(step),
        _ => Step::Leaves,
    }
}

/// Settles what all bands of a grid, from the north, told: how many cells of other bands lie upstream of each cell of their rims,
/// not counting what comes by cells of the same band.
///
/// # Errors
/// [`Error::Cancelled`], [`Error::ShapeMismatch`] where bands are not equally long.
///
/// # Source
/// Barnes 2017, Computers & Geosciences 106, 62-69.
pub fn settle_flow(bands: &[BandFlow], monitor: &dyn Monitor) -> Result<Vec<Rim<u32>>> {
    let cols = bands.first().map_or(0, |band| band.codes.first.len());
    if let Some(other) = bands.iter().find(|band| band.codes.first.len() != cols) {
        return Err(crate::band::not_as_long(cols, other.codes.first.len()));
    }
    let cells = 2 * cols;
    let of = |rim: &Rim<u32>, at: usize| if at < cols { rim.first[at] } else { rim.last[at - cols] };
    // The cell of another band that a cell of a rim drains to.
    let target = |band: usize, at: usize| -> Option<usize> {
        let (last, col) = (at >= cols, at % cols.max(1));
        let codes = &bands[band].codes;
        let code = if last { codes.last[col] } else { codes.first[col] };
        if code == OUTLET || code == DIRECTION_NODATA {
            return None;
        }
        let step = NEIGHBOURS[code.trailing_zeros() as usize];
        let col = col.checked_add_signed(step.cols).filter(|col| *col < cols)?;
        match (last, step.rows) {
            (true, 1) if band + 1 < bands.len() => Some((band + 1) * cells + col),
            (false, -1) if band > 0 => Some((band - 1) * cells + cols + col),
            _ => None,
        }
    };
    let all = bands.len() * cells;
    let mut inflow = vec![0u32; all];
    // What passes over a cell that water leaves by, from others where it entered.
    let mut through = vec![0u32; all];
    // How many cells that water leaves by lead to a cell, and from how many cells that it enters at it comes here.
    let (mut to_enter, mut to_leave) = (vec![0u8; all], vec![0u32; all]);
    let exit = |node: usize| -> Option<usize> {
        let (band, at) = (node / cells, node % cells);
        match of(&bands[band].leaves_at, at) {
            STAYS => None,
            exit => Some(band * cells + exit as usize),
        }
    };
    for node in 0..all {
        if let Some(to) = target(node / cells, node % cells) {
            to_enter[to] += 1;
        }
        if let Some(exit) = exit(node) {
            to_leave[exit] += 1;
        }
    }
    // Cells where all that enters is known.
    let mut entered: Vec<usize> = (0..all).filter(|&node| to_enter[node] == 0).collect();
    let mut done = 0usize;
    while let Some(node) = entered.pop() {
        done += 1;
        if done.is_multiple_of(1 << 16) {
            check(monitor)?;
        }
        let Some(exit) = exit(node) else { continue };
        through[exit] += inflow[node];
        to_leave[exit] -= 1;
        if to_leave[exit] > 0 {
            continue;
        }
        let (band, at) = (exit / cells, exit % cells);
        let Some(to) = target(band, at) else { continue };
        inflow[to] += of(&bands[band].gathered, at) + 1 + through[exit];
        to_enter[to] -= 1;
        if to_enter[to] == 0 {
            entered.push(to);
        }
    }
    Ok(inflow
        .chunks(cells.max(1))
        .map(|band| Rim { first: band[..cols].to_vec(), last: band[cols..].to_vec() })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::{any_terrain, in_bands};
    use crate::{Silent, cut_into_bands};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_are_accumulated_as_the_whole(dem in any_terrain(24), most in 2usize..7, filled in any::<bool>()) {
            let surface = if filled { fill(&dem, &Silent).unwrap() } else { dem };
            let directions = flow_directions(&surface, &Silent).unwrap();
            let bands: Vec<AccumulatingBand> = in_bands(&directions, &cut_into_bands(surface.rows(), most), 0)
                .iter()
                .map(|band| AccumulatingBand::begin(band.grid().clone(), &Silent).unwrap())
                .collect();
            let told: Vec<BandFlow> = bands.iter().map(|band| band.flow(&Silent).unwrap()).collect();
            let inflow = settle_flow(&told, &Silent).unwrap();
            let mut sums = Vec::new();
            for (band, inflow) in bands.into_iter().zip(&inflow) {
                sums.extend(band.accumulate(inflow, &Silent).unwrap().into_vec());
            }
            let whole = flow_accumulation(&directions, &Silent).unwrap();
            prop_assert_eq!(&sums[..], whole.values());
        }
    }
}
