//! What is known of mapped streams at each cell, a band of rows at a time.

use multiversion::multiversion;
use rayon::prelude::*;

use super::around::whole_from;
use crate::grid::{self, Away};
use crate::monitor::check;
use crate::{Connection, Error, Frame, Grid, Monitor, Result, cells_along};

/// Which cells lie near mapped streams, and how far others lie from them.
pub(super) struct Mapped {
    pieces: Pieces,
    away: Away,
}

impl Mapped {
    /// Rows of a band.
    pub(super) const BAND: usize = Away::BAND;

    /// `lines` are `mapped` in cells; near is what lies within `tolerance` (cells).
    pub(super) fn of(
        mapped: &[Vec<[f64; 2]>],
        lines: &[Vec<[f64; 2]>],
        frame: &Frame,
        tolerance: f64,
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        let passed: Vec<_> = mapped
            .par_iter()
            .map(|line| {
                check(monitor)?;
                Ok::<_, Error>(cells_along(line, frame, Connection::Eight))
            })
            .collect::<Result<_>>()?;
        let away = Away::from(&passed, frame.rows, frame.cols, monitor)?;
        Ok(Self { pieces: Pieces::of(lines, frame, tolerance, monitor)?, away })
    }

    /// Makes ready to go down the rows of a band.
    pub(super) fn enter(&self, band: usize, work: &mut Work) {
        let from = (band * Self::BAND).saturating_sub(1);
        let past = ((band + 1) * Self::BAND + 1).min(self.pieces.rows);
        work.near.clear();
        work.near.resize((past - from) * self.pieces.cols, false);
        work.first = from * self.pieces.cols;
        self.pieces.mark(band, from, &mut work.near);
        self.away.enter(band, &mut work.away);
    }

    /// Distances of some cells of a row from the nearest cell that a mapped line passes, in cells; `columns` rise.
    /// To be asked for each row of a band, in turn.
    pub(super) fn away_of_row(&self, row: usize, columns: &[u32], work: &mut Work, out: &mut Vec<f32>) {
        self.away.of_row(row, columns, &mut work.away, out);
    }
}

/// What is used again from band to band.
#[derive(Default)]
pub(super) struct Work {
    /// of the rows of a band, and of one above and one below
    near: Vec<bool>,
    /// number of the first of these cells
    first: usize,
    away: grid::Work,
}

impl Work {
    /// Whether the centre of a cell, by its number, of the band's rows or a neighbour of theirs, lies near mapped streams.
    #[inline]
    pub(super) fn is_near(&self, cell: usize) -> bool {
        self.near[cell - self.first]
    }
}

/// Cells whose centre lies within `tolerance` (cells) of a line (column and row from the north-west corner).
pub(super) fn near(
    lines: &[Vec<[f64; 2]>],
    frame: &Frame,
    tolerance: f64,
    monitor: &dyn Monitor,
) -> Result<Grid<bool>> {
    let pieces = Pieces::of(lines, frame, tolerance, monitor)?;
    let mut near = Grid::filled(frame.rows, frame.cols, false);
    near.values_mut().par_chunks_mut(Mapped::BAND * frame.cols).enumerate().try_for_each(
        |(band, cells)| {
            check(monitor)?;
            pieces.mark(band, band * Mapped::BAND, cells);
            Ok::<(), Error>(())
        },
    )?;
    Ok(near)
}

/// Lines in cells from the north-west corner: column, then row.
pub(super) fn in_cells(lines: &[Vec<[f64; 2]>], frame: &Frame) -> Vec<Vec<[f64; 2]>> {
    let place = |p: &[f64; 2]| [(p[0] - frame.left) / frame.cell_size, (frame.top - p[1]) / frame.cell_size];
    lines.iter().map(|line| line.iter().map(place).collect()).collect()
}

/// The pieces of lines that matter to each band of rows and the rows beside it.
struct Pieces {
    rows: usize,
    cols: usize,
    tolerance: f64,
    of_band: Vec<Vec<Piece>>,
    /// where the centres of cells lie in a row
    centres: Vec<f64>,
}

type Piece = [[f64; 2]; 2];

impl Pieces {
    fn of(lines: &[Vec<[f64; 2]>], frame: &Frame, tolerance: f64, monitor: &dyn Monitor) -> Result<Self> {
        let bands = frame.rows.div_ceil(Mapped::BAND);
        let mut of_band: Vec<Vec<Piece>> = vec![Vec::new(); bands];
        for line in lines {
            check(monitor)?;
            for pair in line.windows(2) {
                let (a, b) = (pair[0], pair[1]);
                let (low, high) = (a[1].min(b[1]) - tolerance - 1.0, a[1].max(b[1]) + tolerance + 1.0);
                if !(high > 0.0 && low < frame.rows as f64) {
                    continue;
                }
                let last = (high.max(0.0) as usize / Mapped::BAND).min(bands - 1);
                for band in &mut of_band[low.max(0.0) as usize / Mapped::BAND..=last] {
                    band.push([a, b]);
                }
            }
        }
        let centres = (0..frame.cols).map(|col| col as f64 + 0.5).collect();
        Ok(Self { rows: frame.rows, cols: frame.cols, tolerance, of_band, centres })
    }

    /// Marks what is near among the cells of whole rows from `top` on, of a band and one row beside it at most.
    fn mark(&self, band: usize, top: usize, out: &mut [bool]) {
        for &piece in &self.of_band[band] {
            mark(piece, self.tolerance, top, &self.centres, out);
        }
    }
}

/// Marks the cells of rows from `top` on whose centres lie within a distance of a piece of a line.
#[multiversion(targets("x86_64+avx2"))]
fn mark([a, b]: Piece, tolerance: f64, top: usize, centres: &[f64], out: &mut [bool]) {
    let cols = centres.len();
    let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
    let length2 = dx * dx + dy * dy;
    let inverse = if length2 > 0.0 { 1.0 / length2 } else { 0.0 };
    let reach = tolerance + 0.5;
    let (low, high) = (a[0].min(b[0]) - reach, a[0].max(b[0]) + reach);
    let (from, to) = (whole_from(low).min(cols), (high as usize).min(cols));
    let centres = &centres[from..to.max(from)];
    let (low, high) = (a[1].min(b[1]) - reach, a[1].max(b[1]) + reach);
    let (first, past) = (whole_from(low).max(top), (high as usize).min(top + out.len() / cols));
    for row in first..past.max(first) {
        let out = &mut out[(row - top) * cols + from..][..centres.len()];
        let y = row as f64 + 0.5 - a[1];
        // Loops are written out: what is handed to an iterator is not compiled for the wider registers.
        for k in 0..centres.len() {
            let x = centres[k] - a[0];
            let t = (x * dx + y * dy) * inverse;
            let t = if t > 0.0 { t } else { 0.0 };
            let t = if t < 1.0 { t } else { 1.0 };
            let (p, q) = (x - t * dx, y - t * dy);
            out[k] |= p * p + q * q <= tolerance * tolerance;
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
        fn bands_and_the_whole_are_near_as_defined(
            rows in 1usize..200, cols in 1usize..20, tolerance in 0.1f64..5.0,
            line in prop::collection::vec((-3.0f64..23.0, -9.0f64..209.0), 2..6),
        ) {
            let frame = Frame { rows, cols, left: 0.0, top: rows as f64, cell_size: 1.0, unit_m: 1.0 };
            let lines = vec![line.iter().map(|&(x, y)| [x, y]).collect::<Vec<_>>()];
            let mapped = vec![line.iter().map(|&(x, y)| [x, rows as f64 - y]).collect::<Vec<_>>()];
            let whole = near(&lines, &frame, tolerance, &Silent).unwrap();
            let bands = Mapped::of(&mapped, &lines, &frame, tolerance, &Silent).unwrap();
            let mut work = Work::default();
            for cell in 0..rows * cols {
                let (x, y) = ((cell % cols) as f64 + 0.5, (cell / cols) as f64 + 0.5);
                let far = lines[0].windows(2).map(|p| {
                    let (dx, dy) = (p[1][0] - p[0][0], p[1][1] - p[0][1]);
                    let t = (((x - p[0][0]) * dx + (y - p[0][1]) * dy) / (dx * dx + dy * dy)).clamp(0.0, 1.0);
                    (x - p[0][0] - t * dx).hypot(y - p[0][1] - t * dy)
                }).fold(f64::INFINITY, f64::min);
                if (far - tolerance).abs() > 1e-9 {
                    prop_assert_eq!(whole.values()[cell], far < tolerance);
                }
                if cell % (cols * Mapped::BAND) == 0 {
                    bands.enter(cell / cols / Mapped::BAND, &mut work);
                }
                // A row of the band, and the rows beside it.
                prop_assert_eq!(work.is_near(cell), whole.values()[cell]);
                let below = Some(cell + cols).filter(|&c| c < rows * cols);
                for beside in [cell.checked_sub(cols), below].into_iter().flatten() {
                    prop_assert_eq!(work.is_near(beside), whole.values()[beside]);
                }
            }
        }
    }
}
