//! What lies within a distance of places on the map.

use multiversion::multiversion;

use crate::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA};
use crate::{Cell, Grid, Threshold};

/// What lies around places, which are told as column and row from the north-west corner.
pub(super) struct Around<'a, T> {
    pub directions: &'a Grid<u8>,
    pub cells: &'a Grid<T>,
    /// in cells
    pub tolerance: f64,
}

impl<T> Around<'_, T> {
    /// Whether a cell belongs to the footprint.
    pub(super) fn is_inside(&self, row: isize, col: isize) -> bool {
        let (Ok(row), Ok(col)) = (usize::try_from(row), usize::try_from(col)) else { return false };
        self.directions.get(Cell { row, col }).is_some_and(|&code| code != DIRECTION_NODATA)
    }

    /// Whether a point lies within the footprint.
    #[inline]
    pub(super) fn holds(&self, x: f64, y: f64) -> bool {
        // Casts cut off, and are faster than rounding.
        x >= 0.0 && y >= 0.0 && self.is_inside(y as isize, x as isize)
    }
}

impl Around<'_, bool> {
    /// Whether a cell that is marked has its centre within the tolerance of a place.
    pub(super) fn any(&self, place: [f64; 2]) -> bool {
        let cols = self.cells.cols();
        let disc = Disc { rows: self.cells.rows(), cols, tolerance: self.tolerance };
        let (first, past) = disc.rows(place);
        let (from, to) = disc.columns(place);
        (first..past).any(|row| {
            let left = disc.left(place, row);
            let within = |col: &usize| (*col as f64 + 0.5 - place[0]).powi(2) <= left;
            (from..to).filter(within).any(|col| self.cells.values()[row * cols + col])
        })
    }
}

impl Around<'_, u32> {
    /// The largest contributing area, in cells, of a flow accumulation, among the cells whose centres lie within
    /// the tolerance of each of some places; 0 where there is none.
    pub(super) fn areas(&self, places: &[[f64; 2]], out: &mut Vec<u32>) {
        out.clear();
        out.resize(places.len(), 0);
        let disc = Disc { rows: self.cells.rows(), cols: self.cells.cols(), tolerance: self.tolerance };
        largest(self.cells.values(), disc, places, out);
    }
}

/// Returns the cells whose centres lie within a distance of a place, on a grid of `rows` by `cols`.
#[derive(Clone, Copy)]
struct Disc {
    rows: usize,
    cols: usize,
    tolerance: f64,
}

impl Disc {
    /// The first row, and the one after the last.
    #[inline(always)]
    fn rows(&self, [_, y]: [f64; 2]) -> (usize, usize) {
        let first = whole_from(y - self.tolerance - 0.5);
        let past = ((y + self.tolerance + 0.5) as usize).min(self.rows);
        (first, past.max(first))
    }

    /// The first column, and the one after the last.
    #[inline(always)]
    fn columns(&self, [x, _]: [f64; 2]) -> (usize, usize) {
        let from = whole_from(x - self.tolerance - 0.5).min(self.cols);
        let to = ((x + self.tolerance + 0.5) as usize).min(self.cols);
        (from, to.max(from))
    }

    /// What a row leaves to its columns of the square of the distance.
    #[inline(always)]
    fn left(&self, [_, y]: [f64; 2], row: usize) -> f64 {
        let off = row as f64 + 0.5 - y;
        self.tolerance * self.tolerance - off * off
    }
}

/// Cells of a row processed together.
const LANES: usize = 8;

#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
fn largest(cells: &[u32], disc: Disc, places: &[[f64; 2]], out: &mut [u32]) {
    let cols = disc.cols;
    // Loops are written out: what is handed to an iterator is not compiled for the wider registers.
    for at in 0..places.len() {
        let place = places[at];
        let mut most = [0u32; LANES];
        let (first, past) = disc.rows(place);
        let (mut from, to) = disc.columns(place);
        while from < to {
            // Eight cells of each row, some of them twice where the grid ends.
            let begin = from.min(cols.saturating_sub(LANES));
            let mut aside = [0f64; LANES];
            for (k, aside) in aside.iter_mut().enumerate() {
                let off = begin as f64 + (k as f64 + 0.5) - place[0];
                *aside = off * off;
            }
            for row in first..past {
                let left = disc.left(place, row);
                let cells = &cells[row * cols + begin..(row + 1) * cols];
                // A grid may be narrower: what is not there has no area.
                let mut few = [ACCUMULATION_NODATA; LANES];
                let cells = cells.first_chunk::<LANES>().unwrap_or_else(|| {
                    few[..cells.len()].copy_from_slice(cells);
                    &few
                });
                for k in 0..LANES {
                    let own = if aside[k] <= left { u32::MAX } else { 0 };
                    most[k] = most[k].max(own & Threshold::most(cells[k]));
                }
            }
            from += LANES;
        }
        let mut all = 0;
        for &one in &most {
            all = all.max(one);
        }
        out[at] = all;
    }
}

/// The smallest whole number, from 0, that is not below a value; casts cut off, and are faster than rounding.
#[inline(always)]
pub(super) fn whole_from(value: f64) -> usize {
    let cut = value as usize;
    cut + usize::from((cut as f64) < value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_largest_and_any_are_as_defined(
            rows in 1usize..12, cols in 1usize..30, tolerance in 0.0f64..12.0, seed in prop::collection::vec(0u32..50, 360),
            places in prop::collection::vec((-2.0f64..30.0, -2.0f64..14.0), 1..9),
        ) {
            let cells = Grid::from_fn(rows, cols, |c| seed[c.row * 30 + c.col].wrapping_sub(1));
            let directions = Grid::filled(rows, cols, 1u8);
            let around = Around { directions: &directions, cells: &cells, tolerance };
            let places: Vec<[f64; 2]> = places.iter().map(|&(x, y)| [x, y]).collect();
            let mut found = Vec::new();
            around.areas(&places, &mut found);
            let marked = Grid::from_fn(rows, cols, |c| seed[c.row * 30 + c.col] > 45);
            let streams = Around { directions: &directions, cells: &marked, tolerance };
            for (place, found) in places.iter().zip(found) {
                let within = |i: &usize| {
                    let c = cells.cell(*i);
                    (c.col as f64 + 0.5 - place[0]).hypot(c.row as f64 + 0.5 - place[1]) <= tolerance
                };
                let all: Vec<usize> = (0..cells.len()).filter(within).collect();
                prop_assert_eq!(found, all.iter().map(|&i| Threshold::most(cells.values()[i])).max().unwrap_or(0));
                prop_assert_eq!(streams.any(*place), all.iter().any(|&i| marked.values()[i]));
            }
        }
    }
}
