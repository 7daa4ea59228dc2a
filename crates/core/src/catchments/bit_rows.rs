//! Rows of a tile as bits, so that one step of the processor looks at 64 cells.
//!
//! Bit `i` of a row stands for its `i`th cell.

use multiversion::multiversion;

use crate::routing::DIRECTION_NODATA;

/// Words of a row.
const WORDS: usize = 4;
/// Cells of a word.
const WORD: usize = u64::BITS as usize;
/// The most cells that a row holds.
pub(super) const CELLS: usize = WORDS * WORD;

/// Some cells of a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct BitRow([u64; WORDS]);

impl BitRow {
    pub(super) fn set(&mut self, cell: usize) {
        self.0[cell / WORD] |= 1 << (cell % WORD);
    }
    pub(super) fn clear(&mut self, cell: usize) {
        self.0[cell / WORD] &= !(1 << (cell % WORD));
    }
    pub(super) fn has(&self, cell: usize) -> bool {
        self.0[cell / WORD] >> (cell % WORD) & 1 != 0
    }
    pub(super) fn count(&self) -> u32 {
        self.0.iter().map(|word| word.count_ones()).sum()
    }
    pub(super) fn and(self, other: Self) -> Self {
        Self(std::array::from_fn(|w| self.0[w] & other.0[w]))
    }
    pub(super) fn or(self, other: Self) -> Self {
        Self(std::array::from_fn(|w| self.0[w] | other.0[w]))
    }
    pub(super) fn without(self, other: Self) -> Self {
        Self(std::array::from_fn(|w| self.0[w] & !other.0[w]))
    }

    /// The cells whose neighbour before them, to the west, is in this row.
    pub(super) fn eastward(self) -> Self {
        let before = |w: usize| if w == 0 { 0 } else { self.0[w - 1] >> (WORD - 1) };
        Self(std::array::from_fn(|w| self.0[w] << 1 | before(w)))
    }
    /// The cells whose neighbour after them, to the east, is in this row.
    pub(super) fn westward(self) -> Self {
        let after = |w: usize| self.0.get(w + 1).map_or(0, |next| next << (WORD - 1));
        Self(std::array::from_fn(|w| self.0[w] >> 1 | after(w)))
    }

    /// These cells, and the runs of `way` that begin beside them and go on eastward.
    pub(super) fn along_eastward(self, way: Self) -> Self {
        let (mut all, mut before) = (self, 0);
        for (word, way) in all.0.iter_mut().zip(way.0) {
            let first = (*word << 1 | before) & way;
            *word |= runs(first, way);
            before = *word >> (WORD - 1);
        }
        all
    }
    /// These cells, and the runs of `way` that begin beside them and go on westward.
    pub(super) fn along_westward(self, way: Self) -> Self {
        let (mut all, mut after) = (self, 0);
        for (word, way) in all.0.iter_mut().zip(way.0).rev() {
            let first = (*word >> 1 | after) & way;
            if first & !*word != 0 {
                *word |= runs(first.reverse_bits(), way.reverse_bits()).reverse_bits();
            }
            after = *word << (WORD - 1);
        }
        all
    }

    /// First and last cell; nothing where there is none.
    pub(super) fn ends(&self) -> Option<(usize, usize)> {
        self.first_from(0).zip(self.last_before(CELLS))
    }
    /// The first cell that is not before `cell`.
    pub(super) fn first_from(&self, cell: usize) -> Option<usize> {
        (cell / WORD..WORDS).find_map(|w| {
            let word = if w == cell / WORD { self.0[w] >> (cell % WORD) << (cell % WORD) } else { self.0[w] };
            (word != 0).then(|| w * WORD + word.trailing_zeros() as usize)
        })
    }
    /// The last cell before `cell`.
    pub(super) fn last_before(&self, cell: usize) -> Option<usize> {
        (0..cell.div_ceil(WORD)).rev().find_map(|w| {
            let kept = if w == cell / WORD { (1 << (cell % WORD)) - 1 } else { u64::MAX };
            (self.0[w] & kept).checked_ilog2().map(|bit| w * WORD + bit as usize)
        })
    }

    pub(super) fn cells(self) -> impl Iterator<Item = usize> {
        self.0.into_iter().enumerate().flat_map(|(w, mut word)| {
            std::iter::from_fn(move || {
                let bit = (word != 0).then(|| word.trailing_zeros() as usize)?;
                word &= word - 1;
                Some(w * WORD + bit)
            })
        })
    }

    /// Writes whether each cell from `first` on is in this row.
    pub(super) fn write(&self, first: usize, to: &mut [bool]) {
        let mut at = first;
        let mut rest = to;
        while !rest.is_empty() {
            let (some, more) = rest.split_at_mut((WORD - at % WORD).min(rest.len()));
            // Most words are all inside or all outside.
            match self.0[at / WORD] {
                0 => some.fill(false),
                u64::MAX => some.fill(true),
                word => {
                    for (bit, cell) in some.iter_mut().enumerate() {
                        *cell = word >> (at % WORD + bit) & 1 != 0;
                    }
                }
            }
            at += some.len();
            rest = more;
        }
    }
}

/// The runs of `way` from each cell of `first`, which is in it, to their ends: adding carries each to the end of its run, and what
/// changes is the run.
fn runs(first: u64, way: u64) -> u64 {
    first | (way & !way.wrapping_add(first))
}

/// Notes which cells of a row drain to each of their neighbours, in the order of [`NEIGHBOURS`](crate::NEIGHBOURS): codes have one bit
/// for each, so that the bits of eight cells are a square that is turned about its diagonal (Warren 2012, Hacker's Delight,
/// section 7-3).
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
pub(super) fn ways_of_row(codes: &[u8], ways: &mut [BitRow; 8]) {
    for (w, codes) in codes.chunks(WORD).enumerate() {
        let mut whole = [DIRECTION_NODATA; WORD];
        let whole = word_of(codes, &mut whole);
        let mut eights = [0u64; 8];
        for (eight, codes) in eights.iter_mut().zip(whole.chunks_exact(8)) {
            let codes: [u8; 8] = std::array::from_fn(|i| codes[i]);
            let x = u64::from_le_bytes(codes);
            let mut x = x & !(outside(x) * 0xFF);
            let t = (x ^ (x >> 7)) & 0x00AA_00AA_00AA_00AA;
            x ^= t ^ (t << 7);
            let t = (x ^ (x >> 14)) & 0x0000_CCCC_0000_CCCC;
            x ^= t ^ (t << 14);
            let t = (x ^ (x >> 28)) & 0x0000_0000_F0F0_F0F0;
            x ^= t ^ (t << 28);
            *eight = x;
        }
        let eights = eights.map(u64::to_le_bytes);
        for (k, way) in ways.iter_mut().enumerate() {
            way.0[w] = u64::from_le_bytes(std::array::from_fn(|eight| eights[eight][k]));
        }
    }
}

/// As many codes as a word has bits; what is missing at the end of a row is as in `whole`.
#[inline]
fn word_of<'a>(codes: &'a [u8], whole: &'a mut [u8; WORD]) -> &'a [u8; WORD] {
    match codes.try_into() {
        Ok(codes) => codes,
        Err(_) => {
            whole[..codes.len()].copy_from_slice(codes);
            whole
        }
    }
}

/// The cells of a row outside the footprint.
#[multiversion(targets("x86_64+avx512f+avx512bw+avx512vl+avx512dq", "x86_64+avx2"))]
pub(super) fn outside_of_row(codes: &[u8]) -> BitRow {
    let mut row = BitRow::default();
    for (w, codes) in codes.chunks(WORD).enumerate() {
        let mut whole = [0; WORD];
        let whole = word_of(codes, &mut whole);
        for (eight, codes) in whole.chunks_exact(8).enumerate() {
            let codes: [u8; 8] = std::array::from_fn(|i| codes[i]);
            let bits = outside(u64::from_le_bytes(codes)).wrapping_mul(0x0102_0408_1020_4080) >> 56;
            row.0[w] |= bits << (8 * eight);
        }
    }
    row
}

/// Of eight codes those that stand for no land, as the lowest bit of each: no other code has two bits.
fn outside(codes: u64) -> u64 {
    const { assert!(DIRECTION_NODATA == u8::MAX) };
    codes & codes >> 1 & 0x0101_0101_0101_0101
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn row(cells: &[bool]) -> BitRow {
        let mut row = BitRow::default();
        cells.iter().enumerate().filter(|(_, is)| **is).for_each(|(at, _)| row.set(at));
        row
    }

    proptest! {
        #[test]
        fn codes_become_bits(codes in prop::collection::vec(prop::sample::select(vec![0u8, 1, 2, 4, 8, 16, 32, 64, 128, DIRECTION_NODATA]), 1..=CELLS)) {
            let mut ways = [BitRow::default(); 8];
            ways_of_row(&codes, &mut ways);
            let outside = outside_of_row(&codes);
            for at in 0..CELLS {
                let code = codes.get(at).copied().unwrap_or(0);
                prop_assert_eq!(outside.has(at), code == DIRECTION_NODATA);
                for (k, way) in ways.iter().enumerate() {
                    prop_assert_eq!(way.has(at), code == 1 << k, "cell {} of code {}, neighbour {}", at, code, k);
                }
            }
        }

        #[test]
        fn runs_are_followed_to_their_ends(cells in prop::collection::vec(any::<bool>(), CELLS), way in prop::collection::vec(prop::bool::weighted(0.8), CELLS)) {
            let (mut east, mut west) = (cells.clone(), cells.clone());
            for at in 1..CELLS {
                east[at] |= way[at] && east[at - 1];
            }
            for at in (1..CELLS).rev() {
                west[at - 1] |= way[at - 1] && west[at];
            }
            prop_assert_eq!(row(&cells).along_eastward(row(&way)), row(&east));
            prop_assert_eq!(row(&cells).along_westward(row(&way)), row(&west));
        }

        #[test]
        fn a_row_tells_its_cells(cells in prop::collection::vec(prop::bool::weighted(0.1), CELLS), first in 0usize..CELLS) {
            let bits = row(&cells);
            let inside: Vec<usize> = (0..CELLS).filter(|&at| cells[at]).collect();
            prop_assert_eq!(bits.cells().collect::<Vec<_>>(), inside.clone());
            prop_assert_eq!(bits.count() as usize, inside.len());
            prop_assert_eq!(bits.ends(), inside.first().copied().zip(inside.last().copied()));
            prop_assert_eq!(bits.first_from(first), inside.iter().copied().find(|&at| at >= first));
            prop_assert_eq!(bits.last_before(first), inside.iter().copied().rfind(|&at| at < first));
            let mut written = vec![false; CELLS - first];
            bits.write(first, &mut written);
            prop_assert_eq!(&written[..], &cells[first..]);
            let shifted: Vec<bool> = std::iter::once(false).chain(cells[..CELLS - 1].iter().copied()).collect();
            prop_assert_eq!(bits.eastward(), row(&shifted));
            prop_assert_eq!(bits.eastward().westward(), row(&cells).without({ let mut last = BitRow::default(); last.set(CELLS - 1); last }));
        }
    }
}
