//! Figures of the cells within a distance of each cell.
//!
//! A cell lies within a distance where its centre does. Blocks of cells are worked on with the rows around them: sums come from
//! sums along rows, extremes from those of stretches of one, two, four … cells.

use rayon::prelude::*;

use super::check::Over;
use crate::{Error, Monitor, Result};

/// The largest radius, cells.
pub(super) const WIDEST: f64 = 200.0;

/// Rows of a block.
const DOWN: usize = 64;
/// Columns of a block.
const ACROSS: usize = 1024;

/// For each distance in rows, how far the circle reaches along the row, cells.
fn halves(radius: f64) -> Vec<usize> {
    // What is a whole number of cells in metres is not always one after a division.
    let radius = radius + 1e-9;
    let half = |row: usize| (radius * radius - (row * row) as f64).max(0.0).sqrt() as usize;
    (0..=radius as usize).map(half).collect()
}

/// A block with what lies around it: rows of the block and `reach` more on each side as far as the grid goes; columns of
/// the block and `reach` more on each side, none where the grid ends.
struct Around<'a> {
    half: &'a [usize],
    /// first row and first column of the block
    at: (usize, usize),
    /// rows and columns of the block
    size: (usize, usize),
    /// first row of what lies around it
    first: usize,
    rows: usize,
    /// columns with those around
    wide: usize,
    values: Vec<f32>,
}

impl<'a> Around<'a> {
    fn of(
        values: &[f32],
        (rows, cols): (usize, usize),
        half: &'a [usize],
        at: (usize, usize),
        size: (usize, usize),
    ) -> Self {
        let reach = half.len() - 1;
        let first = at.0.saturating_sub(reach);
        let last = (at.0 + size.0 + reach).min(rows);
        let wide = size.1 + 2 * reach;
        let mut all = vec![f32::NAN; (last - first) * wide];
        let from = at.1.saturating_sub(reach);
        let to = (at.1 + size.1 + reach).min(cols);
        for (row, line) in (first..last).zip(all.chunks_exact_mut(wide)) {
            let into = from + reach - at.1;
            line[into..into + to - from].copy_from_slice(&values[row * cols + from..row * cols + to]);
        }
        Self { half, at, size, first, rows: last - first, wide, values: all }
    }

    fn reach(&self) -> usize {
        self.half.len() - 1
    }

    /// For each row of the block: the rows around it, each with how far the circle reaches along it.
    fn lines(&self, row: usize) -> impl Iterator<Item = (usize, usize)> + '_ {
        let own = self.at.0 + row - self.first;
        let (from, to) = (own.saturating_sub(self.reach()), (own + self.reach() + 1).min(self.rows));
        (from..to).map(move |line| (line, self.half[line.abs_diff(own)]))
    }

    /// Sum and number of the values within the distance, for each cell of the block.
    fn sums(&self) -> (Vec<f64>, Vec<u32>) {
        let stride = self.wide + 1;
        let mut sums = vec![0.0f64; self.rows * stride];
        let mut counts = vec![0u32; self.rows * stride];
        for (row, line) in self.values.chunks_exact(self.wide).enumerate() {
            let (mut sum, mut count) = (0.0, 0);
            for (col, &v) in line.iter().enumerate() {
                if !v.is_nan() {
                    sum += f64::from(v);
                    count += 1;
                }
                sums[row * stride + col + 1] = sum;
                counts[row * stride + col + 1] = count;
            }
        }
        let (down, across) = self.size;
        let mut out = (vec![0.0; down * across], vec![0; down * across]);
        for row in 0..down {
            let (sum, count) = (&mut out.0[row * across..][..across], &mut out.1[row * across..][..across]);
            for (line, half) in self.lines(row) {
                let from = line * stride + self.reach() - half;
                let to = line * stride + self.reach() + half + 1;
                let (low, high) = (&sums[from..from + across], &sums[to..to + across]);
                let (few, many) = (&counts[from..from + across], &counts[to..to + across]);
                for col in 0..across {
                    sum[col] += high[col] - low[col];
                    count[col] += many[col] - few[col];
                }
            }
        }
        out
    }

    /// The greatest of `sign` times the values within the distance; minus infinity where there is none.
    fn greatest(&self, sign: f32) -> Vec<f32> {
        let longest = 2 * self.half[0] + 1;
        let levels = (usize::BITS - longest.leading_zeros()) as usize;
        let signed = |&v: &f32| if v.is_nan() { f32::NEG_INFINITY } else { sign * v };
        // Of each level: the greatest of 1, 2, 4 … cells that begin there.
        let mut stretches: Vec<Vec<f32>> = vec![self.values.iter().map(signed).collect()];
        for level in 1..levels {
            let (last, step) = (&stretches[level - 1], 1 << (level - 1));
            let mut next = last.clone();
            for (next, last) in next.chunks_exact_mut(self.wide).zip(last.chunks_exact(self.wide)) {
                let both = self.wide - step;
                for col in 0..both {
                    next[col] = next[col].max(last[col + step]);
                }
            }
            stretches.push(next);
        }
        let (down, across) = self.size;
        let mut out = vec![f32::NEG_INFINITY; down * across];
        for row in 0..down {
            let out = &mut out[row * across..][..across];
            for (line, half) in self.lines(row) {
                let long = 2 * half + 1;
                let level = (usize::BITS - 1 - long.leading_zeros()) as usize;
                let from = line * self.wide + self.reach() - half;
                // Two stretches cover it; they may share cells.
                let to = from + long - (1 << level);
                let of = &stretches[level];
                let (a, b) = (&of[from..from + across], &of[to..to + across]);
                for col in 0..across {
                    out[col] = out[col].max(a[col].max(b[col]));
                }
            }
        }
        out
    }

    fn figures(&self, over: Over) -> Vec<f32> {
        let told = |v: f32| if v.is_infinite() { f32::NAN } else { v };
        match over {
            Over::Max => self.greatest(1.0).into_iter().map(told).collect(),
            Over::Min => self.greatest(-1.0).into_iter().map(|v| told(-v)).collect(),
            Over::Range => {
                let (high, low) = (self.greatest(1.0), self.greatest(-1.0));
                high.into_iter().zip(low).map(|(high, low)| told(high + low)).collect()
            }
            Over::Sum | Over::Mean => {
                let (sums, counts) = self.sums();
                let figure = |(sum, count): (f64, u32)| match (count, over) {
                    (0, _) => f32::NAN,
                    (_, Over::Sum) => sum as f32,
                    _ => (sum / f64::from(count)) as f32,
                };
                sums.into_iter().zip(counts).map(figure).collect()
            }
        }
    }
}

/// A figure of all cells with a value whose centres lie within `radius` cells, for each cell of a grid; none where there
/// are none.
///
/// # Errors
/// [`Error::Cancelled`].
pub(super) fn near(
    values: &[f32],
    (rows, cols): (usize, usize),
    radius: f64,
    over: Over,
    monitor: &dyn Monitor,
) -> Result<Vec<f32>> {
    let half = halves(radius);
    let mut out = vec![f32::NAN; rows * cols];
    out.par_chunks_mut((DOWN * cols).max(1)).enumerate().for_each(|(band, out)| {
        let down = out.len() / cols;
        for left in (0..cols).step_by(ACROSS) {
            if monitor.is_cancelled() {
                return;
            }
            let size = (down, ACROSS.min(cols - left));
            let figures = Around::of(values, (rows, cols), &half, (band * DOWN, left), size).figures(over);
            for (out, figures) in out.chunks_exact_mut(cols).zip(figures.chunks_exact(size.1)) {
                out[left..left + size.1].copy_from_slice(figures);
            }
        }
    });
    if monitor.is_cancelled() {
        return Err(Error::Cancelled);
    }
    Ok(out)
}
