//! Who drains to a cell, for many cells at once.

use multiversion::multiversion;

use crate::Grid;

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
            }
        }
    }
}
