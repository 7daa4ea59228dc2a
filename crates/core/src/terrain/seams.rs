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
    /// mean size of the same difference within the pieces, beside the seam, metres: what is usual here
    #[serde(default)]
    pub usual_m: f64,
    /// the largest at the seam, metres
    pub largest_m: f64,
    /// where
    pub at: Cell,
}

impl Seam {
    /// Whether the ground steps more than it does beside the seam: on the mean by at least 0.1 m and four
    /// standard errors, or by sizes half as large again. (Common practice, no source.)
    pub fn is_marked(&self) -> bool {
        let error = self.rough_m / (self.length.max(1) as f64).sqrt();
        let shifted = self.step_m.abs() >= 0.1 && self.step_m.abs() > 4.0 * error;
        shifted || (self.rough_m >= 0.1 && self.rough_m > 1.5 * self.usual_m)
    }
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
    let mut usual: std::collections::BTreeMap<(u8, u8), (f64, u64)> = Default::default();
    let mut look = |a: usize, b: usize, before: [Option<usize>; 2], after: [Option<usize>; 2]| {
        let (from, to) = (origin.values()[a], origin.values()[b]);
        if from == to || from == NO_PIECE || to == NO_PIECE {
            return;
        }
        let z = |i: usize| dem.values()[i] as f64;
        let slope = |i: Option<usize>, j: usize, of: u8| {
            i.filter(|&i| origin.values()[i] == of).map(|i| if i < j { z(j) - z(i) } else { z(i) - z(j) })
        };
        let known: Vec<f64> =
            [slope(before[0], a, from), slope(after[0], b, to)].into_iter().flatten().collect();
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
            usual_m: 0.0,
            largest_m: 0.0,
            at: dem.cell(a),
        });
        // The bend of the ground on either side, from three cells of one piece.
        for ([one, two], at, of) in [(before, a, from), (after, b, to)] {
            if let (Some(one), Some(two)) = (one, two)
                && [one, two].iter().all(|&i| origin.values()[i] == of)
            {
                let bend = z(at) - 2.0 * z(one) + z(two);
                if bend.is_finite() {
                    let (sum, count) = usual.entry(pieces).or_insert((0.0, 0u64));
                    (*sum, *count) = (*sum + bend.abs(), *count + 1);
                }
            }
        }
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
                let before = [(col > 0).then(|| i - 1), (col > 1).then(|| i - 2)];
                look(
                    i,
                    i + 1,
                    before,
                    [(col + 2 < cols).then_some(i + 2), (col + 3 < cols).then_some(i + 3)],
                );
            }
            if row + 1 < rows {
                let before = [(row > 0).then(|| i - cols), (row > 1).then(|| i - 2 * cols)];
                let after =
                    [(row + 2 < rows).then_some(i + 2 * cols), (row + 3 < rows).then_some(i + 3 * cols)];
                look(i, i + cols, before, after);
            }
        }
    }
    let mean = |sum: f64, count: u64| sum / count.max(1) as f64;
    let done = |s: Seam| {
        let usual_m = usual.get(&s.pieces).map_or(0.0, |&(sum, count)| mean(sum, count));
        Seam { step_m: mean(s.step_m, s.length), rough_m: mean(s.rough_m, s.length), usual_m, ..s }
    };
    Ok(found.into_values().map(done).collect())
}

/// A straight piece of a seam, from corner to corner of cells: row and column of its ends, counted from the
/// north-west corner of the grid.
pub type SeamLine = [[u32; 2]; 2];

/// The seams as lines along the edges of cells, straight pieces as one: first those that run east, then those
/// that run south. At most `most` are given; more are of no use to look at.
///
/// ```
/// use bothros_core::{Grid, terrain::seam_lines};
/// let origin = Grid::from_fn(4, 6, |c| u8::from(c.col >= 3));
/// assert_eq!(seam_lines(&origin, 100), [[[0, 3], [4, 3]]]);
/// ```
pub fn seam_lines(origin: &Grid<u8>, most: usize) -> Vec<SeamLine> {
    let (rows, cols) = (origin.rows(), origin.cols());
    let at = |row: usize, col: usize| origin.values()[row * cols + col];
    let parted = |a: u8, b: u8| a != b && a != NO_PIECE && b != NO_PIECE;
    let mut lines: Vec<SeamLine> = Vec::new();
    // A run goes on while its edges follow each other.
    let mut add = |one: [u32; 2], two: [u32; 2]| {
        let room = lines.len() < most;
        match lines.last_mut() {
            Some(last) if last[1] == one && (last[0][0] == two[0] || last[0][1] == two[1]) => last[1] = two,
            _ if room => lines.push([one, two]),
            _ => {}
        }
    };
    for row in 1..rows {
        for col in 0..cols {
            if parted(at(row - 1, col), at(row, col)) {
                add([row as u32, col as u32], [row as u32, col as u32 + 1]);
            }
        }
    }
    for col in 1..cols {
        for row in 0..rows {
            if parted(at(row, col - 1), at(row, col)) {
                add([row as u32, col as u32], [row as u32 + 1, col as u32]);
            }
        }
    }
    lines
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
    fn rough_ground_cut_in_two_has_no_marked_seam_and_a_shift_has() {
        // A landscape of bumps, as large at the seam as elsewhere.
        let bumps = |c: Cell| ((c.row * 7919 + c.col * 104_729) % 97) as f32 / 97.0;
        let origin = Grid::from_fn(60, 60, |c| u8::from(c.col >= 30));
        let whole = Grid::from_fn(60, 60, bumps);
        assert!(seams(&whole, &origin).unwrap().iter().all(|s| s.rough_m > 0.1 && !s.is_marked()));
        let shifted = Grid::from_fn(60, 60, |c| bumps(c) + if c.col >= 30 { 1.0 } else { 0.0 });
        assert!(seams(&shifted, &origin).unwrap()[0].is_marked());
    }

    #[test]
    fn lines_run_round_a_piece() {
        let origin = Grid::from_fn(9, 9, |c| u8::from((2..5).contains(&c.row) && (3..8).contains(&c.col)));
        let lines = seam_lines(&origin, 10);
        assert_eq!(lines, [[[2, 3], [2, 8]], [[5, 3], [5, 8]], [[2, 3], [5, 3]], [[2, 8], [5, 8]]]);
        assert_eq!(seam_lines(&origin, 2).len(), 2);
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
