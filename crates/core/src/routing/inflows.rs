//! Who drains to a cell, for many cells at once.

use multiversion::multiversion;

use crate::{Grid, NEIGHBOURS, Threshold};

/// For the cells of a row from `left` on, as many as `out` is long: a bit for each neighbour that
/// drains to the cell, in the order of [`NEIGHBOURS`](crate::NEIGHBOURS).
pub(crate) fn inflows_of_row(directions: &Grid<u8>, row: usize, left: usize, out: &mut [u8]) {
    let (rows, cols, codes) = (directions.rows(), directions.cols(), directions.values());
    let line = |r: usize| &codes[r * cols..(r + 1) * cols];
    let here = line(row);
    out.fill(0);
    // (a row, how far its cells lie to the east, the code that leads from there to here, the bit)
    let mut look = |line: &[u8], east: isize, code: u8, bit: u8| {
        let skip = (-(left as isize + east)).max(0) as usize;
        let from = (left + skip).wrapping_add_signed(east);
        let count = out.len().saturating_sub(skip).min(cols.saturating_sub(from));
        mark(&mut out[skip..skip + count], &line[from..from + count], code, bit);
    };
    look(here, 1, 16, 1);
    look(here, -1, 1, 16);
    if row + 1 < rows {
        let below = line(row + 1);
        look(below, 1, 32, 2);
        look(below, 0, 64, 4);
        look(below, -1, 128, 8);
    }
    if row > 0 {
        let above = line(row - 1);
        look(above, -1, 2, 32);
        look(above, 0, 4, 64);
        look(above, 1, 8, 128);
    }
}

/// The largest threshold that the cells reach which drain straight into each cell of a whole row; 0 where none does.
pub(crate) fn largest_inflow_of_row(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    row: usize,
    out: &mut [u32],
) {
    let (rows, cols) = (directions.rows(), directions.cols());
    out.fill(0);
    for (k, n) in NEIGHBOURS.iter().enumerate() {
        let Some(at) = row.checked_add_signed(n.rows).filter(|&at| at < rows) else { continue };
        // Where the row's cells begin that have such a neighbour, and where these neighbours begin.
        let (skip, from) = (usize::from(n.cols < 0), usize::from(n.cols > 0));
        let count = cols.saturating_sub(n.cols.unsigned_abs());
        let line = at * cols + from..at * cols + from + count;
        let leads_here = NEIGHBOURS[(k + 4) % 8].code;
        let (codes, cells) = (&directions.values()[line.clone()], &accumulation.values()[line]);
        raise(&mut out[skip..skip + count], codes, cells, leads_here);
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
