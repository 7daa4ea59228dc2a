//! What is asked of every cell of a tile, row by row, in loops without branches.

use multiversion::multiversion;

use super::tile::NONE;

/// For a row whose first cell has the number `first`, the number of each inner cell's lowest
/// neighbour, or its own where none is lower.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn lowest_neighbours(above: &[f32], here: &[f32], below: &[f32], first: u32, lower: &mut [u32]) {
    let n = here.len();
    if n < 3 {
        return;
    }
    let (above, here, below, lower) = (&above[..n], &here[..n], &below[..n], &mut lower[..n]);
    let width = n as u32;
    for col in 1..n - 1 {
        let own = first + col as u32;
        let (mut best, mut to) = (here[col], own);
        macro_rules! consider {
            ($z:expr, $better:tt, $number:expr) => {
                let better = $z $better best;
                best = if better { $z } else { best };
                to = if better { $number } else { to };
            };
        }
        // Cells that come later must be lower; earlier ones win where they are equal.
        consider!(here[col + 1], <, own + 1);
        consider!(below[col + 1], <, own + width + 1);
        consider!(below[col], <, own + width);
        consider!(below[col - 1], <, own + width - 1);
        consider!(here[col - 1], <=, own - 1);
        consider!(above[col + 1], <=, own - width + 1);
        consider!(above[col], <=, own - width);
        consider!(above[col - 1], <=, own - width - 1);
        lower[col] = to;
        let _ = best;
    }
}

/// For a row, the lowest pass from each inner cell to a neighbour of another label; infinite where
/// there is none.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn passes_of_row(
    za: &[f32],
    zh: &[f32],
    zb: &[f32],
    la: &[u16],
    lh: &[u16],
    lb: &[u16],
    over: &mut [f32],
) {
    let n = over.len();
    if n < 3 {
        return;
    }
    let (za, zh, zb) = (&za[..n], &zh[..n], &zb[..n]);
    let (la, lh, lb) = (&la[..n], &lh[..n], &lb[..n]);
    for col in 1..n - 1 {
        let own = lh[col];
        let mut lowest = f32::INFINITY;
        macro_rules! consider {
            ($z:ident, $l:ident, $at:expr) => {
                // Loaded first, so that the loop has no branch.
                let (z, label) = ($z[$at], $l[$at]);
                let other = if label == own { f32::INFINITY } else { z };
                lowest = if other < lowest { other } else { lowest };
            };
        }
        consider!(za, la, col - 1);
        consider!(za, la, col);
        consider!(za, la, col + 1);
        consider!(zh, lh, col - 1);
        consider!(zh, lh, col + 1);
        consider!(zb, lb, col - 1);
        consider!(zb, lb, col);
        consider!(zb, lb, col + 1);
        over[col] = if lowest > zh[col] { lowest } else { zh[col] };
    }
}

/// Two cells as the higher and the lower; of equally high ones the later is higher.
#[inline]
fn in_order(z: &[f32], a: usize, b: usize) -> (u32, u32) {
    if (z[a], a) > (z[b], b) { (a as u32, b as u32) } else { (b as u32, a as u32) }
}

/// The lowest pass from a cell to a cell of another label: its higher and its lower cell. Rows are
/// `width` long.
pub(super) fn lowest_pass(z: &[f32], label: &[u16], width: usize, cell: usize) -> (u32, u32) {
    let w = width as isize;
    let mut lowest: Option<usize> = None;
    for offset in [-w - 1, -w, 1 - w, -1, 1, w - 1, w, w + 1] {
        let n = cell.wrapping_add_signed(offset);
        // In row order, so that of equals the first stays.
        if label[n] != label[cell] && lowest.is_none_or(|l| z[n] < z[l]) {
            lowest = Some(n);
        }
    }
    in_order(z, cell, lowest.unwrap_or(cell))
}

/// Calls `found` for each two neighbouring cells of different labels, with the higher of the two
/// elevations and the two cells. `over` is a row of scratch memory, as wide as the rows of `z`.
#[inline]
pub(super) fn each_pass(
    z: &[f32],
    label: &[u16],
    rows: usize,
    over: &mut [f32],
    mut found: impl FnMut(u16, u16, f32, (u32, u32)),
) {
    let width = over.len();
    for row in 1..=rows {
        let [above, here, below] = [row - 1, row, row + 1].map(|r| r * width..(r + 1) * width);
        passes_of_row(
            &z[above.clone()],
            &z[here.clone()],
            &z[below.clone()],
            &label[above],
            &label[here.clone()],
            &label[below],
            over,
        );
        for (col, &over) in over.iter().enumerate().take(width - 1).skip(1) {
            // Most cells lie amid their own kind.
            if over == f32::INFINITY {
                continue;
            }
            let at = here.start + col;
            for n in [at + 1, at + width - 1, at + width, at + width + 1] {
                // Around the tile there is nothing.
                if label[n] != label[at] && label[n] != NONE {
                    found(label[at], label[n], z[at].max(z[n]), in_order(z, at, n));
                }
            }
        }
    }
}
