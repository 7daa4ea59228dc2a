//! What is asked of every cell of a tile, row by row, in loops without branches.

use multiversion::multiversion;

use super::tile::NONE;

/// Labels the inner cells of a row that have no elevation or are beside one that has none.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
pub(super) fn label_beside_nodata(
    above: &[f32],
    here: &[f32],
    below: &[f32],
    labels: &mut [u16],
    label: u16,
) {
    let n = here.len();
    if n < 3 {
        return;
    }
    let (above, here, below, labels) = (&above[..n], &here[..n], &below[..n], &mut labels[..n]);
    for col in 1..n - 1 {
        let mut any = false;
        for line in [above, here, below] {
            any |= line[col - 1].is_nan() | line[col].is_nan() | line[col + 1].is_nan();
        }
        labels[col] = if any { label } else { labels[col] };
    }
}

/// For a row whose first cell has the number `first`, the number of each inner cell's lowest
/// neighbour, or its own where none is lower.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
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

/// The lowest passes from the cells of a row to cells of another label.
#[derive(Default)]
pub(super) struct Passes {
    /// the level of each, in an order that plain numbers have
    level: Vec<u32>,
    /// the number of its higher cell
    high: Vec<u32>,
}

impl Passes {
    /// The key of a cell that has no pass; those of passes are lower.
    pub(super) const NO_PASS: u64 = (in_plain_order(f32::INFINITY) as u64) << 32;

    /// Finds the passes of the inner cells of a row. Rows are `width` long.
    pub(super) fn of_row(&mut self, z: &[f32], label: &[u16], width: usize, row: usize) {
        self.level.resize(width, in_plain_order(f32::INFINITY));
        self.high.resize(width, 0);
        let [above, here, below] = [row - 1, row, row + 1].map(|r| r * width..(r + 1) * width);
        passes_of_row(
            [&z[above.clone()], &z[here.clone()], &z[below.clone()]],
            [&label[above], &label[here.clone()], &label[below]],
            here.start as u32,
            &mut self.level,
            &mut self.high,
        );
    }

    /// One number for each pass, lower where the pass is lower, and of equally low ones where its
    /// higher cell comes first; its last 32 bits are that cell.
    #[inline]
    pub(super) fn keys(&self, cols: std::ops::Range<usize>) -> impl Iterator<Item = u64> {
        let high = &self.high[cols.clone()];
        self.level[cols].iter().zip(high).map(|(&level, &high)| (level as u64) << 32 | high as u64)
    }

    fn is_pass(&self, col: usize) -> bool {
        self.level[col] < in_plain_order(f32::INFINITY)
    }
}

/// The bits of an elevation, so changed that they are in the order of elevations.
#[inline]
const fn in_plain_order(z: f32) -> u32 {
    let bits = z.to_bits();
    bits ^ (((bits as i32 >> 31) as u32) | 0x8000_0000)
}

/// For a row of cells whose first has the number `first`, with the rows above and below: the level of
/// the lowest pass from each inner cell to a neighbour of another label, infinite where there is none,
/// and the pass's higher cell.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
fn passes_of_row(z: [&[f32]; 3], label: [&[u16]; 3], first: u32, level: &mut [u32], high: &mut [u32]) {
    let n = level.len();
    if n < 3 {
        return;
    }
    let [za, zh, zb] = z.map(|z| &z[..n]);
    let [la, lh, lb] = label.map(|label| &label[..n]);
    let (level, high) = (&mut level[..n], &mut high[..n]);
    let width = n as u32;
    for col in 1..n - 1 {
        let (own, number) = (lh[col], first + col as u32);
        let (mut lowest, mut at) = (f32::INFINITY, 0u32);
        macro_rules! consider {
            ($z:ident, $l:ident, $at:expr, $number:expr) => {
                // Loaded first, so that the loop has no branch.
                let (z, label) = ($z[$at], $l[$at]);
                let other = if label == own { f32::INFINITY } else { z };
                let lower = other < lowest;
                lowest = if lower { other } else { lowest };
                at = if lower { $number } else { at };
            };
        }
        // In row order, so that of equals the first stays.
        consider!(za, la, col - 1, number - width - 1);
        consider!(za, la, col, number - width);
        consider!(za, la, col + 1, number - width + 1);
        consider!(zh, lh, col - 1, number - 1);
        consider!(zh, lh, col + 1, number + 1);
        consider!(zb, lb, col - 1, number + width - 1);
        consider!(zb, lb, col, number + width);
        consider!(zb, lb, col + 1, number + width + 1);
        let here = zh[col];
        // Of equally high cells the later is higher.
        let beyond_is_higher = (lowest > here) | ((lowest == here) & (at > number));
        high[col] = if beyond_is_higher { at } else { number };
        // No negative zero, which equals zero but has other bits.
        let pass = (if lowest > here { lowest } else { here }) + 0.0;
        level[col] = in_plain_order(if lowest == f32::INFINITY { lowest } else { pass });
    }
}

/// Two cells as the higher and the lower; of equally high ones the later is higher.
#[inline]
fn in_order(z: &[f32], a: usize, b: usize) -> (u32, u32) {
    if (z[a], a) > (z[b], b) { (a as u32, b as u32) } else { (b as u32, a as u32) }
}

/// The lowest of those neighbours of a cell that are wanted, the first in row order of equals; the cell
/// itself where none is. Rows are `width` long.
pub(super) fn lowest_beside(z: &[f32], width: usize, cell: usize, wanted: impl Fn(usize) -> bool) -> u32 {
    let w = width as isize;
    let mut lowest: Option<usize> = None;
    for offset in [-w - 1, -w, 1 - w, -1, 1, w - 1, w, w + 1] {
        let n = cell.wrapping_add_signed(offset);
        if wanted(n) && lowest.is_none_or(|l| z[n] < z[l]) {
            lowest = Some(n);
        }
    }
    lowest.unwrap_or(cell) as u32
}

/// Calls `found` for each two neighbouring cells of different labels, with the higher of the two
/// elevations and the two cells. Rows are `width` long.
#[inline]
pub(super) fn each_pass(
    z: &[f32],
    label: &[u16],
    width: usize,
    passes: &mut Passes,
    mut found: impl FnMut(u16, u16, f32, (u32, u32)),
) {
    for row in 1..z.len() / width - 1 {
        passes.of_row(z, label, width, row);
        for col in 1..width - 1 {
            // Most cells lie amid their own kind.
            if !passes.is_pass(col) {
                continue;
            }
            let at = row * width + col;
            for n in [at + 1, at + width - 1, at + width, at + width + 1] {
                // Around the tile there is nothing.
                if label[n] != label[at] && label[n] != NONE {
                    found(label[at], label[n], z[at].max(z[n]), in_order(z, at, n));
                }
            }
        }
    }
}
