//! Seams: where a DEM was put together from several.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{Cell, Grid, Result};

/// The line along which two of the pieces of a DEM meet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Seam {
    /// numbers of the two pieces, the smaller first
    pub pieces: (u16, u16),
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
    /// the largest mean step along lines beside the seam within the pieces, where nothing is shifted, metres: so much
    /// the shape of the ground alone makes
    #[serde(default)]
    pub beside_m: f64,
    /// the largest at the seam, metres
    pub largest_m: f64,
    /// where
    pub at: Cell,
}

impl Seam {
    /// Whether the second piece lies higher or lower as a whole: on the mean by at least 0.1 m, four standard errors, and
    /// twice what lines beside the seam show, for steps that follow each other are alike. (Common practice, no source.)
    pub fn is_shifted(&self) -> bool {
        let error = self.rough_m / (self.length.max(1) as f64).sqrt();
        self.step_m.abs() >= 0.1 && self.step_m.abs() > (4.0 * error).max(2.0 * self.beside_m)
    }

    /// Whether the ground steps more than it does beside the seam: it is shifted, or steps are half as large again.
    /// (Common practice, no source.)
    pub fn is_marked(&self) -> bool {
        self.is_shifted() || (self.rough_m >= 0.1 && self.rough_m > 1.5 * self.usual_m)
    }
}

/// No piece.
pub const NO_PIECE: u16 = u16::MAX;

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
/// let origin = Grid::from_fn(3, 8, |c| u16::from(c.col >= 4));
/// let found = seams(&dem, &origin)?;
/// assert_eq!((found.len(), found[0].length, found[0].step_m), (1, 3, 0.5));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn seams(dem: &Grid<f32>, origin: &Grid<u16>) -> Result<Vec<Seam>> {
    dem.same_shape(origin)?;
    let (rows, cols) = (dem.rows(), dem.cols());
    let mut found: BTreeMap<(u16, u16), Tally> = BTreeMap::new();
    let mut look = |line: Line<'_>, at: usize| {
        let (from, to) = (line.piece(at), line.piece(at + 1));
        if from == to || from == NO_PIECE || to == NO_PIECE {
            return;
        }
        let Some(step) = line.step_across(at) else { return };
        let pieces = (from.min(to), from.max(to));
        let tally = found.entry(pieces).or_insert_with(|| Tally::new(pieces, dem.cell(line.index(at))));
        let sign = if from > to { -1.0 } else { 1.0 };
        tally.add(sign * step, dem.cell(line.index(at)));
        for bend in [line.bend(at, -1), line.bend(at + 1, 1)].into_iter().flatten() {
            tally.usual.add(bend.abs());
        }
        for (beside, away) in tally.beside.iter_mut().zip(BESIDE) {
            if let Some(step) = line.step_within(at as isize + away, if away < 0 { from } else { to }) {
                beside.add(sign * step);
            }
        }
    };
    for row in 0..rows {
        for col in 0..cols {
            if col + 1 < cols {
                look(Line { dem, origin, first: row * cols, stride: 1, cells: cols }, col);
            }
            if row + 1 < rows {
                look(Line { dem, origin, first: col, stride: cols, cells: rows }, row);
            }
        }
    }
    Ok(found.into_values().map(Tally::seam).collect())
}

/// Distances from the seam, in cells, of the lines examined within the pieces.
const BESIDE: [isize; 6] = [-12, -8, -4, 4, 8, 12];

/// A row or a column of a DEM.
#[derive(Clone, Copy)]
struct Line<'a> {
    dem: &'a Grid<f32>,
    origin: &'a Grid<u16>,
    /// index of its first cell
    first: usize,
    stride: usize,
    cells: usize,
}

impl Line<'_> {
    fn index(&self, at: usize) -> usize {
        self.first + at * self.stride
    }

    fn piece(&self, at: usize) -> u16 {
        self.origin.values()[self.index(at)]
    }

    /// The elevation of a cell of a piece; nothing where the line ends, or another piece lies.
    fn z(&self, at: isize, of: u16) -> Option<f64> {
        let at = usize::try_from(at).ok().filter(|&at| at < self.cells && self.piece(at) == of)?;
        Some(f64::from(self.dem.values()[self.index(at)])).filter(|z| z.is_finite())
    }

    /// The step from a cell to the next, which is of another piece, less what the slopes on both sides let expect.
    fn step_across(&self, at: usize) -> Option<f64> {
        let (from, to) = (self.piece(at), self.piece(at + 1));
        let at = at as isize;
        let (a, b) = (self.z(at, from)?, self.z(at + 1, to)?);
        let slopes = [self.z(at - 1, from).map(|z| a - z), self.z(at + 2, to).map(|z| z - b)];
        let known: Vec<f64> = slopes.into_iter().flatten().collect();
        Some(b - a - known.iter().sum::<f64>() / known.len().max(1) as f64)
    }

    /// The same step within one piece.
    fn step_within(&self, at: isize, of: u16) -> Option<f64> {
        let [before, a, b, after] = [at - 1, at, at + 1, at + 2].map(|i| self.z(i, of));
        let (before, a, b, after) = (before?, a?, b?, after?);
        Some(b - a - ((a - before) + (after - b)) / 2.0)
    }

    /// The bend of the ground from a cell on, over three cells of its piece.
    fn bend(&self, at: usize, way: isize) -> Option<f64> {
        let of = self.piece(at);
        let at = at as isize;
        Some(self.z(at, of)? - 2.0 * self.z(at + way, of)? + self.z(at + 2 * way, of)?)
    }
}

/// A sum and of how many.
#[derive(Clone, Copy, Default)]
struct Mean {
    sum: f64,
    count: u64,
}

impl Mean {
    fn add(&mut self, value: f64) {
        self.sum += value;
        self.count += 1;
    }

    fn get(&self) -> f64 {
        self.sum / self.count.max(1) as f64
    }
}

/// What was found of a seam so far.
struct Tally {
    pieces: (u16, u16),
    step: Mean,
    rough: Mean,
    usual: Mean,
    beside: [Mean; BESIDE.len()],
    largest: (f64, Cell),
}

impl Tally {
    fn new(pieces: (u16, u16), at: Cell) -> Self {
        let none = Mean::default();
        Self {
            pieces,
            step: none,
            rough: none,
            usual: none,
            beside: [none; BESIDE.len()],
            largest: (0.0, at),
        }
    }

    fn add(&mut self, step: f64, at: Cell) {
        self.step.add(step);
        self.rough.add(step.abs());
        if step.abs() > self.largest.0.abs() {
            self.largest = (step, at);
        }
    }

    fn seam(self) -> Seam {
        let length = self.step.count;
        // A line that runs along half of the seam at least.
        let whole = self.beside.iter().filter(|m| 2 * m.count >= length);
        Seam {
            pieces: self.pieces,
            length,
            step_m: self.step.get(),
            rough_m: self.rough.get(),
            usual_m: self.usual.get(),
            beside_m: whole.map(|m| m.get().abs()).fold(0.0, f64::max),
            largest_m: self.largest.0,
            at: self.largest.1,
        }
    }
}

/// A straight piece of a seam, from corner to corner of cells: row and column of its ends, counted from the
/// north-west corner of the grid.
pub type SeamLine = [[u32; 2]; 2];

/// The seams as lines along the edges of cells, straight pieces as one: first those that run east, then those
/// that run south. At most `most` are given; more are of no use to look at.
///
/// ```
/// use bothros_core::{Grid, terrain::seam_lines};
/// let origin = Grid::from_fn(4, 6, |c| u16::from(c.col >= 3));
/// assert_eq!(seam_lines(&origin, 100), [[[0, 3], [4, 3]]]);
/// ```
pub fn seam_lines(origin: &Grid<u16>, most: usize) -> Vec<SeamLine> {
    let (rows, cols) = (origin.rows(), origin.cols());
    let at = |row: usize, col: usize| origin.values()[row * cols + col];
    let parted = |a: u16, b: u16| a != b && a != NO_PIECE && b != NO_PIECE;
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
        let origin = Grid::from_fn(20, 20, |c| u16::from(!inside(c)));
        let found = seams(&dem, &origin).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].length, 2 * (7 + 8));
        assert!((found[0].step_m - 2.0).abs() < 1e-6 && (found[0].rough_m - 2.0).abs() < 1e-6);
    }

    #[test]
    fn rough_ground_cut_in_two_has_no_marked_seam_and_a_shift_has() {
        // A landscape of bumps, as large at the seam as elsewhere.
        let bumps = |c: Cell| ((c.row * 7919 + c.col * 104_729) % 97) as f32 / 97.0;
        let origin = Grid::from_fn(60, 60, |c| u16::from(c.col >= 30));
        let whole = Grid::from_fn(60, 60, bumps);
        assert!(seams(&whole, &origin).unwrap().iter().all(|s| s.rough_m > 0.1 && !s.is_marked()));
        let shifted = Grid::from_fn(60, 60, |c| bumps(c) + if c.col >= 30 { 1.0 } else { 0.0 });
        assert!(seams(&shifted, &origin).unwrap()[0].is_marked());
    }

    #[test]
    fn a_fold_of_the_ground_beside_the_seam_is_no_shift() {
        // Waves across the seam whose steps all point the same way along it: the mean step is far beyond its standard error,
        // and yet nothing is shifted.
        let waves = |c: Cell| 8.0 * (0.9 * c.col as f32 + 0.3).sin() + 0.01 * c.row as f32;
        let origin = Grid::from_fn(80, 80, |c| u16::from(c.col >= 40));
        let seam = seams(&Grid::from_fn(80, 80, waves), &origin).unwrap().remove(0);
        assert!(seam.step_m.abs() > 0.5, "{seam:?}");
        assert!(!seam.is_shifted(), "{seam:?}");
        let shifted = Grid::from_fn(80, 80, |c| waves(c) + if c.col >= 40 { 30.0 } else { 0.0 });
        assert!(seams(&shifted, &origin).unwrap()[0].is_shifted());
    }

    #[test]
    fn lines_run_round_a_piece() {
        let origin = Grid::from_fn(9, 9, |c| u16::from((2..5).contains(&c.row) && (3..8).contains(&c.col)));
        let lines = seam_lines(&origin, 10);
        assert_eq!(lines, [[[2, 3], [2, 8]], [[5, 3], [5, 8]], [[2, 3], [5, 3]], [[2, 8], [5, 8]]]);
        assert_eq!(seam_lines(&origin, 2).len(), 2);
    }

    #[test]
    fn pieces_that_fit_have_no_step_and_voids_no_seam() {
        let dem = Grid::from_fn(6, 6, |c| if c.col == 3 { f32::NAN } else { c.row as f32 });
        let origin = Grid::from_fn(6, 6, |c| match c.col {
            0..=2 => u16::from(c.row > 2),
            3 => NO_PIECE,
            _ => 2,
        });
        let found = seams(&dem, &origin).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].pieces, found[0].step_m), ((0, 1), 0.0));
    }
}
