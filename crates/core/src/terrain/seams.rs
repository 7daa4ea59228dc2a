//! Seams: where a DEM was put together from several.

use serde::{Deserialize, Serialize};

use crate::{Cell, Grid, Result};

/// The line along which two of the pieces of a DEM meet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Seam {
    /// numbers of the two pieces, the smaller first
    pub pieces: (u8, u8),
    /// pairs of neighbouring cells across the seam
    pub length: u64,
    /// mean of elevation beyond less elevation here, less what the slopes of both sides let expect, metres:
    /// positive where the second piece lies too high
    pub step_m: f64,
    /// mean size of that difference, metres
    pub rough_m: f64,
    /// the largest, metres
    pub largest_m: f64,
    /// where
    pub at: Cell,
}

/// No piece.
pub const NO_PIECE: u8 = u8::MAX;

/// Finds the seams of a DEM (metres), of which `origin` tells the piece that each cell comes from
/// ([`NO_PIECE`] where it has no elevation), and how far the ground steps at each. Pairs of cells beside
/// each other in a row or a column are compared; the mean of the differences before and after the pair is
/// what the slope lets expect.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// ```
/// use bothros_core::{Grid, terrain::seams};
/// // A plane, whose eastern half was measured 0.5 m too high.
/// let dem = Grid::from_fn(3, 8, |c| c.col as f32 + if c.col < 4 { 0.0 } else { 0.5 });
/// let origin = Grid::from_fn(3, 8, |c| u8::from(c.col >= 4));
/// let found = seams(&dem, &origin)?;
/// assert_eq!((found.len(), found[0].length, found[0].step_m), (1, 3, 0.5));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn seams(dem: &Grid<f32>, origin: &Grid<u8>) -> Result<Vec<Seam>> {
    dem.same_shape(origin)?;
    let (rows, cols) = (dem.rows(), dem.cols());
    let mut found: std::collections::BTreeMap<(u8, u8), Seam> = Default::default();
    let mut look = |a: usize, b: usize, before: Option<usize>, after: Option<usize>| {
        let (from, to) = (origin.values()[a], origin.values()[b]);
        if from == to || from == NO_PIECE || to == NO_PIECE {
            return;
        }
        let z = |i: usize| dem.values()[i] as f64;
        let slope = |i: Option<usize>, j: usize, of: u8| {
            i.filter(|&i| origin.values()[i] == of).map(|i| if i < j { z(j) - z(i) } else { z(i) - z(j) })
        };
        let known: Vec<f64> = [slope(before, a, from), slope(after, b, to)].into_iter().flatten().collect();
        let expected = known.iter().sum::<f64>() / known.len().max(1) as f64;
        let mut step = z(b) - z(a) - expected;
        if from > to {
            step = -step;
        }
        if !step.is_finite() {
            return;
        }
        let pieces = (from.min(to), from.max(to));
        let seam = found.entry(pieces).or_insert(Seam {
            pieces,
            length: 0,
            step_m: 0.0,
            rough_m: 0.0,
            largest_m: 0.0,
            at: dem.cell(a),
        });
        seam.length += 1;
        seam.step_m += step;
        seam.rough_m += step.abs();
        if step.abs() > seam.largest_m.abs() {
            (seam.largest_m, seam.at) = (step, dem.cell(a));
        }
    };
    for row in 0..rows {
        for col in 0..cols {
            let i = row * cols + col;
            if col + 1 < cols {
                look(i, i + 1, (col > 0).then(|| i - 1), (col + 2 < cols).then_some(i + 2));
            }
            if row + 1 < rows {
                look(i, i + cols, (row > 0).then(|| i - cols), (row + 2 < rows).then_some(i + 2 * cols));
            }
        }
    }
    Ok(found
        .into_values()
        .map(|s| Seam { step_m: s.step_m / s.length as f64, rough_m: s.rough_m / s.length as f64, ..s })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_piece_in_the_middle_has_one_seam_round_it() {
        let inside = |c: Cell| (5..12).contains(&c.row) && (6..14).contains(&c.col);
        let plane = |c: Cell| 3.0 + 0.25 * c.row as f32 - 0.5 * c.col as f32;
        let dem = Grid::from_fn(20, 20, |c| plane(c) - if inside(c) { 2.0 } else { 0.0 });
        let origin = Grid::from_fn(20, 20, |c| u8::from(!inside(c)));
        let found = seams(&dem, &origin).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].length, 2 * (7 + 8));
        assert!((found[0].step_m - 2.0).abs() < 1e-6 && (found[0].rough_m - 2.0).abs() < 1e-6);
    }

    #[test]
    fn pieces_that_fit_have_no_step_and_voids_no_seam() {
        let dem = Grid::from_fn(6, 6, |c| if c.col == 3 { f32::NAN } else { c.row as f32 });
        let origin = Grid::from_fn(6, 6, |c| match c.col {
            0..=2 => u8::from(c.row > 2),
            3 => NO_PIECE,
            _ => 2,
        });
        let found = seams(&dem, &origin).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].pieces, found[0].step_m), ((0, 1), 0.0));
    }
}
