//! The deepest cuts into the ground, each with its place.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::{Cell, Frame, Grid, Result};

/// Cells that were lowered and hang together, over edges or corners.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Cut {
    /// the cell that was lowered most
    pub deepest: Cell,
    /// by how much, metres
    pub depth_m: f64,
    /// number of cells
    pub cells: u64,
    /// volume taken away, cubic metres
    pub volume_m3: f64,
}

/// The `count` deepest cuts from `before` to `after`, both elevations in metres on the grid of `frame`; of equal ones the first in row order.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::deepest_cuts};
/// let frame = Frame { rows: 1, cols: 5, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// let before = Grid::from_vec(1, 5, vec![5.0, 6.0, 4.0, 9.0, 3.0]);
/// let after = Grid::from_vec(1, 5, vec![4.5, 4.0, 4.0, 4.0, 3.0]);
/// let found = deepest_cuts(&before, &after, &frame, 10)?;
/// assert_eq!(found.iter().map(|c| (c.deepest.col, c.depth_m, c.cells)).collect::<Vec<_>>(), [(3, 5.0, 1), (1, 2.0, 2)]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn deepest_cuts(before: &Grid<f32>, after: &Grid<f32>, frame: &Frame, count: usize) -> Result<Vec<Cut>> {
    before.same_shape(after)?;
    let by = |i: usize| f64::from(before.values()[i]) - f64::from(after.values()[i]);
    let mut open: Vec<bool> = before.values().par_iter().zip(after.values()).map(|(b, a)| a < b).collect();
    let mut found: Vec<Cut> = Vec::new();
    let mut stack = Vec::new();
    for start in 0..open.len() {
        if !open[start] {
            continue;
        }
        open[start] = false;
        stack.push(start);
        let (mut deepest, mut cells, mut sum) = (start, 0u64, 0.0);
        while let Some(at) = stack.pop() {
            cells += 1;
            sum += by(at);
            if (by(at), deepest) > (by(deepest), at) {
                deepest = at;
            }
            for (_, n) in before.neighbours(at) {
                if std::mem::replace(&mut open[n], false) {
                    stack.push(n);
                }
            }
        }
        let volume_m3 = sum * frame.cell_area().as_m2();
        found.push(Cut { deepest: before.cell(deepest), depth_m: by(deepest), cells, volume_m3 });
        // So many are kept at once at most.
        if found.len() > 64 * count.max(1) {
            keep(&mut found, count);
        }
    }
    keep(&mut found, count);
    Ok(found)
}

fn keep(found: &mut Vec<Cut>, count: usize) {
    let place = |c: &Cut| (c.deepest.row, c.deepest.col);
    found.sort_by(|a, b| b.depth_m.total_cmp(&a.depth_m).then(place(a).cmp(&place(b))));
    found.truncate(count);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::cut_and_fill;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn all_cuts_add_up_to_what_was_cut(dem in any_terrain(16), cut in prop::collection::vec(0u8..4, 256)) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 3.0, unit_m: 1.0 };
            let lowered = dem.values().iter().zip(&cut).map(|(z, &by)| z - f32::from(by)).collect();
            let after = Grid::from_vec(dem.rows(), dem.cols(), lowered);
            let all = deepest_cuts(&dem, &after, &frame, usize::MAX / 64).unwrap();
            let moved = cut_and_fill(&dem, &after, &frame).unwrap();
            prop_assert_eq!(all.iter().map(|c| c.cells).sum::<u64>(), moved.cells_cut);
            prop_assert!((all.iter().map(|c| c.volume_m3).sum::<f64>() - moved.cut_m3).abs() < 1e-3 * (1.0 + moved.cut_m3));
            prop_assert!(all.windows(2).all(|w| w[0].depth_m >= w[1].depth_m));
            prop_assert!(all.first().is_none_or(|c| c.depth_m == moved.deepest_cut_m));
            let few = deepest_cuts(&dem, &after, &frame, 2).unwrap();
            prop_assert_eq!(&few[..], &all[..all.len().min(2)]);
        }
    }
}
