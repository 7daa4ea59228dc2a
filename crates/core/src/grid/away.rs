//! How far each cell lies from the nearest of some cells, as the crow flies.

use multiversion::multiversion;
use rayon::prelude::*;

use crate::monitor::check;
use crate::{Grid, Monitor, Result};

/// Distance between the centre of each cell and that of the nearest marked one, in cells; infinite where none
/// is marked. Exact, at a constant cost per cell.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Felzenszwalb and Huttenlocher 2012, Theory of Computing 8, 415-428: distances along columns, then the lower
/// envelope of parabolas along rows.
///
/// ```
/// use bothros_core::{Grid, Silent, distance_to_marked};
/// let marked = Grid::from_fn(4, 5, |c| c.row == 0 && c.col == 0);
/// assert_eq!(distance_to_marked(&marked, &Silent)?.values()[3 * 5 + 4], 5.0);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn distance_to_marked(marked: &Grid<bool>, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    let Away { mut along } = Away::from(marked, monitor)?;
    let cols = marked.cols().max(1);
    along.values_mut().par_chunks_mut(cols).try_for_each_init(Envelope::default, |envelope, row| {
        check(monitor)?;
        envelope.lower(row);
        Ok::<(), crate::Error>(())
    })?;
    Ok(along)
}

/// Columns that are worked as one.
const STRIP: usize = 512;

/// Distances from marked cells that are worked out where they are asked for.
pub(crate) struct Away {
    /// distance to the nearest marked cell of the same column, in cells; infinite where there is none
    along: Grid<f32>,
}

impl Away {
    /// Looks along the columns.
    pub(crate) fn from(marked: &Grid<bool>, monitor: &dyn Monitor) -> Result<Self> {
        let (rows, cols) = (marked.rows(), marked.cols());
        // Zeros, since fresh pages are zeros: all are written below, by all cores.
        let mut along = Grid::filled(rows, cols, 0f32);
        // Each row cut into strips, handed out by strip: a thread has its columns to itself.
        let mut strips: Vec<Vec<&mut [f32]>> = (0..cols.div_ceil(STRIP)).map(|_| Vec::new()).collect();
        for row in along.values_mut().chunks_mut(cols.max(1)) {
            row.chunks_mut(STRIP).zip(&mut strips).for_each(|(piece, strip)| strip.push(piece));
        }
        strips.par_iter_mut().enumerate().try_for_each(|(at, strip)| {
            let mut nearest = [f32::INFINITY; STRIP];
            for (row, out) in strip.iter_mut().enumerate() {
                if row % 1024 == 0 {
                    check(monitor)?;
                }
                let marks = &marked.values()[row * cols + at * STRIP..];
                for ((out, nearest), &marked) in out.iter_mut().zip(&mut nearest).zip(marks) {
                    *nearest = if marked { 0.0 } else { *nearest + 1.0 };
                    *out = *nearest;
                }
            }
            nearest.fill(f32::INFINITY);
            for out in strip.iter_mut().rev() {
                for (out, nearest) in out.iter_mut().zip(&mut nearest) {
                    *nearest = out.min(*nearest + 1.0);
                    *out = *nearest;
                }
            }
            Ok::<(), crate::Error>(())
        })?;
        Ok(Self { along })
    }

    /// The distances of some cells of a row, in cells; `work` is used again from row to row.
    pub(crate) fn of_row(&self, row: usize, wanted: &[u32], work: &mut Work, out: &mut Vec<f32>) {
        let (rows, cols) = (self.along.rows(), self.along.cols());
        let along = &self.along.values()[row * cols..][..cols];
        out.clear();
        // Looking to both sides takes as long as the way along the column is; the envelope takes the whole row.
        let looks: f32 = wanted.iter().map(|&col| along[col as usize].min(cols as f32)).sum();
        if looks > 64.0 * cols as f32 || rows.max(cols) > WIDEST {
            work.row.clear();
            work.row.extend_from_slice(along);
            work.envelope.lower(&mut work.row);
            out.extend(wanted.iter().map(|&col| work.row[col as usize]));
            return;
        }
        let whole = cols + 2 * ASIDE;
        let square = |d: &f32| if d.is_finite() { (*d as u32).pow(2) } else { NOWHERE };
        work.east.clear();
        work.east.resize(ASIDE, NOWHERE);
        work.east.extend(along.iter().map(square));
        work.east.resize(whole, NOWHERE);
        work.west.clear();
        work.west.extend(work.east.iter().rev());
        if work.own.len() < whole {
            work.own = (0..whole as u32).map(|k| k * k).collect();
        }
        work.nearest.clear();
        work.nearest.resize(wanted.len(), 0);
        look_aside(&work.east, &work.west, &work.own, wanted, &mut work.nearest);
        let root =
            |&square: &u32| if square >= NOWHERE { f32::INFINITY } else { (square as f64).sqrt() as f32 };
        out.extend(work.nearest.iter().map(root));
    }
}

/// Cells looked at together, to each side.
const ASIDE: usize = 16;
/// Squares of distances on grids of no more rows and columns add up within 32 bits.
const WIDEST: usize = 32_767;
/// More than the square of any distance on such a grid.
const NOWHERE: u32 = 1 << 31;

/// Squares of the distances of the cells at `wanted`, from the squares of those along columns, with [`ASIDE`] that
/// are nowhere at each end: `east` from west to east, `west` the other way round. `own` holds the squares of whole
/// numbers.
#[multiversion(targets("x86_64+avx2"))]
fn look_aside(east: &[u32], west: &[u32], own: &[u32], wanted: &[u32], out: &mut [u32]) {
    // Loops are written out: what is handed to an iterator is not compiled for the wider registers.
    let last = east.len() - ASIDE;
    for (&col, out) in wanted.iter().zip(out) {
        let at = col as usize + ASIDE;
        let back = east.len() - 1 - at;
        let mut least = east[at];
        let mut aside = 1;
        // Farther aside nothing can be nearer.
        while aside <= last && own[aside] < least {
            let (right, left) = ((at + aside).min(last), (back + aside).min(last));
            let (right, left) = (&east[right..right + ASIDE], &west[left..left + ASIDE]);
            let own = &own[aside..aside + ASIDE];
            let mut best = [u32::MAX; ASIDE];
            for k in 0..ASIDE {
                best[k] = right[k].min(left[k]) + own[k];
            }
            for &one in &best {
                least = least.min(one);
            }
            aside += ASIDE;
        }
        *out = least;
    }
}

/// Memory for [`Away::of_row`].
#[derive(Default)]
pub(crate) struct Work {
    row: Vec<f32>,
    east: Vec<u32>,
    west: Vec<u32>,
    own: Vec<u32>,
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
    /// Turns distances along columns into distances.
    fn lower(&mut self, row: &mut [f32]) {
        self.at.clear();
        self.base.clear();
        self.from.clear();
        for (col, &along) in row.iter().enumerate().filter(|(_, along)| along.is_finite()) {
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
        for (col, out) in row.iter_mut().enumerate() {
            while self.from.get(which + 1).is_some_and(|&from| from < col as f64) {
                which += 1;
            }
            if let (Some(&at), Some(&base)) = (self.at.get(which), self.base.get(which)) {
                *out = (base + (col as f64 - at as f64).powi(2)).sqrt() as f32;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn equals_the_nearest_by_definition(rows in 1usize..14, cols in 1usize..14, marks in prop::collection::vec((0usize..14, 0usize..14), 0..6)) {
            let marked = Grid::from_fn(rows, cols, |c| marks.contains(&(c.row, c.col)));
            let found = distance_to_marked(&marked, &Silent).unwrap();
            for i in 0..marked.len() {
                let own = marked.cell(i);
                let nearest = (0..marked.len()).filter(|&j| marked.values()[j]).map(|j| {
                    let c = marked.cell(j);
                    (c.row as f64 - own.row as f64).hypot(c.col as f64 - own.col as f64) as f32
                }).fold(f32::INFINITY, f32::min);
                prop_assert_eq!(found.values()[i], nearest);
            }
            // Asked for some cells only, of few or many in a row.
            let away = Away::from(&marked, &Silent).unwrap();
            let (mut work, mut out) = (Work::default(), Vec::new());
            for row in 0..rows {
                for every in [1, 3, 20] {
                    let wanted: Vec<u32> = (0..cols as u32).step_by(every).collect();
                    away.of_row(row, &wanted, &mut work, &mut out);
                    let expected: Vec<f32> = wanted.iter().map(|&c| found.values()[row * cols + c as usize]).collect();
                    prop_assert_eq!(&out, &expected);
                }
            }
        }
    }
}
