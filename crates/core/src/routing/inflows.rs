//! Who drains to a cell, for many cells at once.

use std::ops::Range;

use multiversion::multiversion;

use crate::{Grid, NEIGHBOURS, Threshold};

/// For each neighbour of the cells of a row from `left` on, `count` of them: its place in [`NEIGHBOURS`], which of the
/// cells have it, and where these neighbours stand in the grid.
fn sides(
    (rows, cols): (usize, usize),
    row: usize,
    left: usize,
    count: usize,
) -> impl Iterator<Item = (usize, Range<usize>, Range<usize>)> {
    NEIGHBOURS.iter().enumerate().filter_map(move |(k, n)| {
        let at = row.checked_add_signed(n.rows).filter(|&at| at < rows)?;
        let skip = (-(left as isize + n.cols)).max(0) as usize;
        let from = (left + skip).wrapping_add_signed(n.cols);
        let count = count.saturating_sub(skip).min(cols.saturating_sub(from));
        let begin = at * cols + from;
        Some((k, skip..skip + count, begin..begin + count))
    })
}

/// The code that leads here from the neighbour at a place in [`NEIGHBOURS`].
fn leads_here(k: usize) -> u8 {
    NEIGHBOURS[(k + 4) % 8].code
}

/// For the cells of a row from `left` on, as many as `out` is long: a bit for each neighbour that
/// drains to the cell, in the order of [`NEIGHBOURS`].
pub(crate) fn inflows_of_row(directions: &Grid<u8>, row: usize, left: usize, out: &mut [u8]) {
    out.fill(0);
    for (k, cells, neighbours) in sides((directions.rows(), directions.cols()), row, left, out.len()) {
        mark(&mut out[cells], &directions.values()[neighbours], leads_here(k), 1 << k);
    }
}

/// The largest threshold that the cells reach which drain straight into each cell of a whole row; 0 where none does.
pub(crate) fn largest_inflow_of_row(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    row: usize,
    out: &mut [u32],
) {
    out.fill(0);
    for (k, cells, neighbours) in sides((directions.rows(), directions.cols()), row, 0, out.len()) {
        let (codes, areas) = (&directions.values()[neighbours.clone()], &accumulation.values()[neighbours]);
        raise(&mut out[cells], codes, areas, leads_here(k));
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn raise(out: &mut [u32], codes: &[u8], cells: &[u32], code: u8) {
    let (codes, cells) = (&codes[..out.len()], &cells[..out.len()]);
    // Loops are written out: what is handed to an iterator is not compiled for the wider registers.
    for k in 0..out.len() {
        let own = if codes[k] == code { Threshold::most(cells[k]) } else { 0 };
        out[k] = out[k].max(own);
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn mark(out: &mut [u8], codes: &[u8], code: u8, bit: u8) {
    for (out, &at) in out.iter_mut().zip(codes) {
        *out |= if at == code { bit } else { 0 };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::routing::upstream;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bits_are_the_neighbours_upstream(rows in 1usize..6, cols in 1usize..9, seed in prop::collection::vec(0usize..9, 48), left in 0usize..9) {
            let codes = [1u8, 2, 4, 8, 16, 32, 64, 128, 0];
            let directions = Grid::from_fn(rows, cols, |c| codes[seed[c.row * 8 + c.col.min(7)]]);
            let left = left % cols;
            for row in 0..rows {
                let mut out = vec![0; cols - left];
                inflows_of_row(&directions, row, left, &mut out);
                for (at, bits) in out.into_iter().enumerate() {
                    let index = row * cols + left + at;
                    let mut expected = 0u8;
                    for n in upstream(&directions, index) {
                        let (k, _) = directions.neighbours(index).find(|&(_, m)| m == n).unwrap();
                        expected |= 1 << k;
                    }
                    prop_assert_eq!(bits, expected);
                }
                let accumulation = Grid::from_fn(rows, cols, |c| ((seed[c.col.min(7)] * 9 + c.row) as u32).wrapping_sub(1));
                let mut out = vec![7; cols];
                largest_inflow_of_row(&directions, &accumulation, row, &mut out);
                for (col, largest) in out.into_iter().enumerate() {
                    let reached = |n: usize| Threshold::most(accumulation.values()[n]);
                    prop_assert_eq!(largest, upstream(&directions, row * cols + col).map(reached).max().unwrap_or(0));
                }
            }
        }
    }
}
