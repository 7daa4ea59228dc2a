//! How far cells lie from the nearest of some marked cells, as the crow flies.

use multiversion::multiversion;

use crate::monitor::check;
use crate::{Cell, Grid, Monitor, Result};

/// Distances from marked cells that are worked out where they are asked for, a band of rows at a time, so that all
/// a band needs stays in the processor's own memory.
///
/// Exact: along columns by the marked rows above and below, along rows by looking aside or, where that is far, by
/// the lower envelope of parabolas.
///
/// # Source
/// Felzenszwalb and Huttenlocher 2012, Theory of Computing 8, 415-428 (distances along columns, then the lower
/// envelope along rows).
pub(crate) struct Away {
    rows: usize,
    cols: usize,
    /// where the marked cells of each row begin among all, and where they end
    first: Vec<usize>,
    marked: Vec<Mark>,
    /// the last marked row above each band, by columns
    above: Grid<u32>,
    /// the first marked row of each band or below it, by columns
    below: Grid<u32>,
}

/// A marked cell of a row.
#[derive(Clone, Copy)]
struct Mark {
    col: u32,
    /// the next marked row of its column; [`SAME`] where the cell is marked again
    next: u32,
}

/// No row: half of all numbers away from any.
const NONE: u32 = 1 << 31;
/// The same cell is marked elsewhere.
const SAME: u32 = u32::MAX;
/// Cells of a row processed together.
const BLOCK: usize = 32;
/// Squares of distances on grids of no more rows and columns add up within 32 bits.
const WIDEST: usize = 32_767;
/// More than the square of any distance on such a grid.
const NOWHERE: u32 = 1 << 31;

impl Away {
    /// Rows of a band.
    pub(crate) const BAND: usize = 64;

    /// From lists of cells on a grid of this many rows and columns; a cell may occur in several lists.
    pub(crate) fn from(lists: &[Vec<Cell>], rows: usize, cols: usize, monitor: &dyn Monitor) -> Result<Self> {
        let mut first = vec![0usize; rows + 1];
        for list in lists {
            check(monitor)?;
            list.iter().for_each(|cell| first[cell.row + 1] += 1);
        }
        for row in 0..rows {
            first[row + 1] += first[row];
        }
        let mut marked = vec![Mark { col: 0, next: NONE }; first[rows]];
        let mut free = first.clone();
        for list in lists {
            check(monitor)?;
            for cell in list {
                marked[free[cell.row]].col = cell.col as u32;
                free[cell.row] += 1;
            }
        }
        let bands = rows.div_ceil(Self::BAND);
        let (mut above, mut below) = (Grid::filled(bands, cols, 0), Grid::filled(bands, cols, 0));
        let mut nearest = vec![NONE; cols];
        for row in (0..rows).rev() {
            check(monitor)?;
            for mark in &mut marked[first[row]..first[row + 1]] {
                let next = &mut nearest[mark.col as usize];
                mark.next = if *next == row as u32 { SAME } else { std::mem::replace(next, row as u32) };
            }
            if row % Self::BAND == 0 {
                below.values_mut()[row / Self::BAND * cols..][..cols].copy_from_slice(&nearest);
            }
        }
        nearest.fill(NONE);
        for row in 0..rows {
            check(monitor)?;
            if row % Self::BAND == 0 {
                above.values_mut()[row / Self::BAND * cols..][..cols].copy_from_slice(&nearest);
            }
            for mark in &marked[first[row]..first[row + 1]] {
                nearest[mark.col as usize] = row as u32;
            }
        }
        Ok(Self { rows, cols, first, marked, above, below })
    }

    /// Makes ready to go down the rows of a band.
    pub(crate) fn enter(&self, band: usize, work: &mut Work) {
        let of_band = |grid: &Grid<u32>| grid.values()[band * self.cols..][..self.cols].to_vec();
        work.above = of_band(&self.above);
        work.below = of_band(&self.below);
        work.squares.clear();
        work.squares.resize(self.cols + 3 * BLOCK, NOWHERE);
    }

    /// The distances of some cells of a row, in cells, infinite where nothing is marked. `wanted` are their
    /// columns, rising. To be asked for each row of a band, from its first one, after [`Away::enter`].
    pub(crate) fn of_row(&self, row: usize, wanted: &[u32], work: &mut Work, out: &mut Vec<f32>) {
        let marked = &self.marked[self.first[row]..self.first[row + 1]];
        for mark in marked {
            work.above[mark.col as usize] = row as u32;
        }
        out.clear();
        let done = self.rows.max(self.cols) <= WIDEST && {
            squares_of_row(&work.above, &work.below, row as u32, &mut work.squares[BLOCK..]);
            work.nearest.clear();
            work.nearest.resize(wanted.len(), 0);
            look_aside(&work.squares, wanted, &mut work.nearest)
        };
        if done {
            let root =
                |&square: &u32| if square >= NOWHERE { f32::INFINITY } else { (square as f64).sqrt() as f32 };
            out.extend(work.nearest.iter().map(root));
        } else {
            let along = |col: usize| {
                let near =
                    (row as u32).wrapping_sub(work.above[col]).min(work.below[col].wrapping_sub(row as u32));
                (near < NONE / 2).then_some(near)
            };
            work.envelope.lower((0..self.cols).map(along), wanted, out);
        }
        for mark in marked.iter().filter(|mark| mark.next != SAME) {
            work.below[mark.col as usize] = mark.next;
        }
    }
}

/// Squares of the distances along columns: from the marked rows above and below.
#[multiversion(targets("x86_64+avx2"))]
fn squares_of_row(above: &[u32], below: &[u32], row: u32, out: &mut [u32]) {
    let cols = above.len();
    let (below, out) = (&below[..cols], &mut out[..cols]);
    // Loops are written out: what is handed to an iterator is not compiled for the wider registers.
    for col in 0..cols {
        let near = row.wrapping_sub(above[col]).min(below[col].wrapping_sub(row));
        let within = near.min(WIDEST as u32);
        out[col] = if near <= WIDEST as u32 { within * within } else { NOWHERE };
    }
}

/// Squares of the distances of the cells at `wanted`, from the squares of those along columns, with [`BLOCK`] that
/// are nowhere before and at least as many after them. Gives up, and says so, where looking aside takes longer
/// than the envelope would.
#[multiversion(targets("x86_64+avx2"))]
fn look_aside(squares: &[u32], wanted: &[u32], out: &mut [u32]) -> bool {
    let last = squares.len() - BLOCK;
    let mut left = ENVELOPE * squares.len();
    let mut from = 0;
    while from < wanted.len() {
        let begin = wanted[from] as usize / BLOCK * BLOCK;
        let mut past = from;
        let mut nearest = [0u32; BLOCK];
        let mut most = 0;
        while past < wanted.len() && (wanted[past] as usize) < begin + BLOCK {
            let square = squares[BLOCK + wanted[past] as usize];
            nearest[wanted[past] as usize - begin] = square;
            most = most.max(square);
            past += 1;
        }
        let at = begin + BLOCK;
        let mut aside = 1;
        // Farther aside nothing can be nearer.
        while ((aside * aside) as u32) < most && aside < squares.len() {
            for aside in aside..aside + STEPS {
                let (east, west) = (&squares[(at + aside).min(last)..], &squares[at.saturating_sub(aside)..]);
                let (east, west) = (&east[..BLOCK], &west[..BLOCK]);
                let own = (aside * aside) as u32;
                for k in 0..BLOCK {
                    nearest[k] = nearest[k].min(east[k].min(west[k]).wrapping_add(own));
                }
            }
            aside += STEPS;
            most = 0;
            for &one in &nearest {
                most = most.max(one);
            }
            if left < STEPS * BLOCK {
                return false;
            }
            left -= STEPS * BLOCK;
        }
        while from < past {
            out[from] = nearest[wanted[from] as usize - begin];
            from += 1;
        }
    }
    true
}

/// Steps aside that are taken before it is asked whether they are enough.
const STEPS: usize = 4;
/// Cost of the envelope for one cell, in cells examined.
const ENVELOPE: usize = 96;

/// Memory for [`Away::of_row`].
#[derive(Default)]
pub(crate) struct Work {
    above: Vec<u32>,
    below: Vec<u32>,
    squares: Vec<u32>,
    nearest: Vec<u32>,
    envelope: Envelope,
}

/// Parabolas of which none lies above another everywhere.
#[derive(Default)]
struct Envelope {
    /// columns of their lowest points
    at: Vec<usize>,
    /// squares of the distances along the column there
    base: Vec<f64>,
    /// from where on each is the lowest
    from: Vec<f64>,
}

impl Envelope {
    /// The distances of the cells at `wanted`, columns that rise, from those along columns.
    fn lower(&mut self, row: impl Iterator<Item = Option<u32>>, wanted: &[u32], out: &mut Vec<f32>) {
        self.at.clear();
        self.base.clear();
        self.from.clear();
        for (col, along) in row.enumerate().filter_map(|(col, along)| Some((col, along?))) {
            let base = (along as f64).powi(2);
            let mut from = f64::NEG_INFINITY;
            while let (Some(&at), Some(&other), Some(&begins)) =
                (self.at.last(), self.base.last(), self.from.last())
            {
                let (x, y) = (col as f64, at as f64);
                from = (base + x * x - other - y * y) / (2.0 * (x - y));
                if from > begins {
                    break;
                }
                self.at.pop();
                self.base.pop();
                self.from.pop();
                from = f64::NEG_INFINITY;
            }
            self.at.push(col);
            self.base.push(base);
            self.from.push(from);
        }
        let mut which = 0;
        out.extend(wanted.iter().map(|&col| {
            while self.from.get(which + 1).is_some_and(|&from| from < col as f64) {
                which += 1;
            }
            match (self.at.get(which), self.base.get(which)) {
                (Some(&at), Some(&base)) => (base + (col as f64 - at as f64).powi(2)).sqrt() as f32,
                _ => f32::INFINITY,
            }
        }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn equals_the_nearest_by_definition(
            rows in 1usize..150, cols in 1usize..90, places in prop::collection::vec((0usize..150, 0usize..90), 0..9),
            every in 1usize..40,
        ) {
            let inside = |&(row, col): &(usize, usize)| (row < rows && col < cols).then_some(Cell { row, col });
            let marked: Vec<Cell> = places.iter().filter_map(inside).collect();
            // A cell may stand in several lists.
            let away = Away::from(&[marked.clone(), marked.iter().rev().take(2).copied().collect()], rows, cols, &Silent).unwrap();
            let wanted: Vec<u32> = (0..cols as u32).step_by(every).collect();
            let (mut work, mut out) = (Work::default(), Vec::new());
            for row in 0..rows {
                if row % Away::BAND == 0 {
                    away.enter(row / Away::BAND, &mut work);
                }
                away.of_row(row, &wanted, &mut work, &mut out);
                let expected: Vec<f32> = wanted.iter().map(|&col| {
                    let far = |c: &Cell| (c.row as f64 - row as f64).hypot(c.col as f64 - col as f64) as f32;
                    marked.iter().map(far).fold(f32::INFINITY, f32::min)
                }).collect();
                prop_assert_eq!(&out, &expected);
            }
        }
    }

    #[test]
    fn far_from_all_the_envelope_is_as_exact() {
        // Rows too long to look aside, and a grid too wide for squares of 32 bits.
        for cols in [9000, 40_000] {
            let marked = [Cell { row: 0, col: 3 }, Cell { row: 2, col: cols - 5 }];
            let away = Away::from(&[marked.to_vec()], 3, cols, &Silent).unwrap();
            let wanted: Vec<u32> = (0..cols as u32).step_by(7).collect();
            let (mut work, mut out) = (Work::default(), Vec::new());
            away.enter(0, &mut work);
            for row in 0..3usize {
                away.of_row(row, &wanted, &mut work, &mut out);
                for (&col, &found) in wanted.iter().zip(&out) {
                    let far = |c: &Cell| (c.row as f64 - row as f64).hypot(c.col as f64 - col as f64);
                    let expected = marked.iter().map(far).fold(f64::INFINITY, f64::min);
                    assert_eq!(found, expected as f32, "row {row}, column {col} of {cols}");
                }
            }
        }
    }
}
