//! How far each cell lies from the nearest of some cells, as the crow flies.

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
    let (rows, cols) = (marked.rows(), marked.cols());
    let mut out = vec![f32::INFINITY; marked.len()];
    // Along columns, a row at a time: down, then up.
    let (mut above, mut last) = (vec![f32::INFINITY; cols], 0);
    for (row, out) in out.chunks_mut(cols.max(1)).enumerate() {
        if row - last > 256 {
            check(monitor)?;
            last = row;
        }
        let marks = &marked.values()[row * cols..];
        for ((out, above), &marked) in out.iter_mut().zip(&mut above).zip(marks) {
            *above = if marked { 0.0 } else { *above + 1.0 };
            *out = *above;
        }
    }
    let mut below = vec![f32::INFINITY; cols];
    for out in out.chunks_mut(cols.max(1)).rev() {
        for (out, below) in out.iter_mut().zip(&mut below) {
            *below = out.min(*below + 1.0);
            *out = *below;
        }
    }
    check(monitor)?;
    out.par_chunks_mut(cols.max(1)).try_for_each_init(Envelope::default, |envelope, row| {
        check(monitor)?;
        envelope.lower(row);
        Ok::<(), crate::Error>(())
    })?;
    Ok(Grid::from_vec(rows, cols, out))
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
        }
    }
}
