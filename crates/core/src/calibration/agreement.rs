//! Agreement with mapped streams, over many thresholds at once.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::grid::Away;
use crate::monitor::check;
use crate::routing::{DIRECTION_NODATA, downstream, inflows_of_row};
use crate::{Cell, Connection, Error, Frame, Grid, Monitor, NEIGHBOURS, Result, Threshold, cells_along};

/// How the network at one threshold agrees with mapped streams.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Scores {
    /// the threshold
    pub threshold: Threshold,
    /// length of the modelled streams, metres
    pub modelled_m: f64,
    /// of that, within the tolerance of mapped streams
    pub matched_m: f64,
    /// length of the mapped streams on the footprint, metres
    pub mapped_m: f64,
    /// of that, within the tolerance of modelled streams
    pub found_m: f64,
    /// cells at which modelled streams begin
    pub headwaters: u64,
    /// mean distance of the modelled streams from the nearest mapped one, metres
    #[serde(default)]
    pub away_m: Option<f64>,
}

impl Scores {
    /// Share of the modelled length that is matched; 0 without modelled streams.
    pub fn matched(&self) -> f64 {
        share(self.matched_m, self.modelled_m)
    }
    /// Share of the mapped length that is found; 0 without mapped streams.
    pub fn found(&self) -> f64 {
        share(self.found_m, self.mapped_m)
    }
    /// Harmonic mean of both shares; 0 where one is.
    pub fn agreement(&self) -> f64 {
        let (a, b) = (self.matched(), self.found());
        if a + b > 0.0 { 2.0 * a * b / (a + b) } else { 0.0 }
    }
}

fn share(part: f64, whole: f64) -> f64 {
    if whole > 0.0 { part / whole } else { 0.0 }
}

/// Length of streams between cells, as whole numbers, so that sums do not depend on their order: halves of
/// straight and of diagonal steps.
#[derive(Debug, Clone, Copy, Default)]
struct Steps {
    straight: u64,
    diagonal: u64,
}

impl Steps {
    fn length_m(self, frame: &Frame) -> f64 {
        (self.straight as f64 + self.diagonal as f64 * std::f64::consts::SQRT_2) * frame.cell_m() / 2.0
    }
    fn plus(self, other: Self) -> Self {
        Self { straight: self.straight + other.straight, diagonal: self.diagonal + other.diagonal }
    }
}

/// What is counted of all streams that are there up to one threshold, and not at the next.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    modelled: Steps,
    matched: Steps,
    /// cells that are stream, and the sum of their distances from mapped ones, micrometres, whole for the same reason
    cells: u64,
    away: u64,
    /// micrometres
    found: u64,
    begun: i64,
}

const MICRO: f64 = 1e6;
/// Rows that are worked as one.
const BAND: usize = 64;

/// Scores the networks at `thresholds` against mapped streams, all in one pass; each score is that of its
/// threshold alone, to the last bit.
///
/// `directions` (D8 codes) and `accumulation` (cells upstream) lie at `frame`; `mapped` are lines in CRS units,
/// of which what lies off the footprint does not count.
///
/// Modelled streams run between cell centres. Half of each step counts as matched where the centre it begins or
/// ends at lies within `tolerance_m` of a mapped line. A mapped line is looked at every quarter of a cell; the
/// piece counts as found where a stream cell's centre lies within the tolerance. The mean distance is that of
/// the centres of stream cells from those of the cells that mapped lines pass. Against buffers of exact
/// lines both differ by a fraction of a cell at each place where a line enters or leaves the other's buffer.
///
/// # Errors
/// [`Error::ShapeMismatch`], [`Error::Cancelled`].
///
/// # Source
/// Goodchild and Hunter 1997, International Journal of Geographical Information Science 11, 299-306 (share of
/// a line within a buffer of the other).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, calibration::agreement, routing::*};
/// // Water runs east along each row; the map knows the middle one, but only its western half.
/// let frame = Frame { rows: 3, cols: 9, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let dem = Grid::from_fn(3, 9, |c| 20.0 - c.col as f32 + if c.row == 1 { 0.0 } else { 0.1 });
/// let directions = flow_directions(&dem, &Silent)?;
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let mapped = vec![vec![[0.5, 1.5], [4.5, 1.5]]];
/// let scores = agreement(&directions, &accumulation, &frame, &mapped, 0.4, &[Threshold::cells(1)], &Silent)?;
/// assert_eq!(scores[0].found(), 1.0);
/// assert!(scores[0].matched() < 0.5);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn agreement(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    mapped: &[Vec<[f64; 2]>],
    tolerance_m: f64,
    thresholds: &[Threshold],
    monitor: &dyn Monitor,
) -> Result<Vec<Scores>> {
    directions.same_shape(accumulation)?;
    let mut sorted: Vec<u32> = thresholds.iter().map(|t| t.as_cells()).collect();
    sorted.sort_unstable();
    sorted.dedup();
    let lowest = sorted.first().copied().unwrap_or(u32::MAX);
    let reached = Reached::new(&sorted);
    let tolerance = tolerance_m / frame.cell_m();
    let lines = in_cells(mapped, frame);
    // Without mapped streams there is nothing to look for at any cell.
    let known = match lines.is_empty() {
        true => None,
        false => {
            let near = near(&lines, frame, tolerance, monitor)?;
            monitor.progress(0.2);
            let away = away(mapped, frame, monitor)?;
            Some(Known { near, away, unit: frame.cell_m() * MICRO })
        }
    };
    monitor.progress(0.3);
    let mut tallies = modelled(directions, accumulation, known.as_ref(), lowest, &reached, monitor)?;
    monitor.progress(0.6);
    let (found, mapped_um) = found(&lines, directions, accumulation, frame, tolerance, &reached, monitor)?;
    for (tally, found) in tallies.iter_mut().zip(found) {
        tally.found = found;
    }
    // What reaches a high threshold reaches all lower ones.
    let mut at_least = vec![Tally::default(); sorted.len() + 1];
    for bin in (1..=sorted.len()).rev() {
        let above = at_least.get(bin + 1).copied().unwrap_or_default();
        let own = tallies[bin];
        at_least[bin] = Tally {
            modelled: own.modelled.plus(above.modelled),
            matched: own.matched.plus(above.matched),
            cells: own.cells + above.cells,
            away: own.away.saturating_add(above.away),
            found: own.found + above.found,
            begun: own.begun + above.begun,
        };
    }
    monitor.progress(1.0);
    Ok(thresholds
        .iter()
        .map(|&threshold| {
            let tally = at_least[reached.by(threshold.as_cells())];
            Scores {
                threshold,
                modelled_m: tally.modelled.length_m(frame),
                matched_m: tally.matched.length_m(frame),
                mapped_m: mapped_um as f64 / MICRO,
                found_m: tally.found as f64 / MICRO,
                headwaters: tally.begun as u64,
                away_m: (mapped_um > 0 && tally.cells > 0)
                    .then(|| tally.away as f64 / MICRO / tally.cells as f64),
            }
        })
        .collect())
}

/// How many of some thresholds a contributing area reaches.
struct Reached<'a> {
    sorted: &'a [u32],
    /// the answers for the smallest areas, which most cells have
    small: Vec<u16>,
}

impl<'a> Reached<'a> {
    fn new(sorted: &'a [u32]) -> Self {
        let by = |cells: u32| sorted.partition_point(|&t| t <= cells);
        Self { sorted, small: (0..4096).map(|cells| by(cells).min(u16::MAX as usize) as u16).collect() }
    }
    fn thresholds(&self) -> usize {
        self.sorted.len()
    }
    #[inline]
    fn by(&self, cells: u32) -> usize {
        match self.small.get(cells as usize) {
            Some(&known) if known < u16::MAX => known as usize,
            _ => self.sorted.partition_point(|&t| t <= cells),
        }
    }
}

/// Cells whose centre lies within `tolerance` (cells) of a line (column and row from the north-west corner).
pub(super) fn near(
    lines: &[Vec<[f64; 2]>],
    frame: &Frame,
    tolerance: f64,
    monitor: &dyn Monitor,
) -> Result<Grid<bool>> {
    let mut near = Grid::filled(frame.rows, frame.cols, false);
    // Each band of rows has the pieces of lines that may matter to it.
    let bands = frame.rows.div_ceil(BAND);
    let mut of_band: Vec<Vec<[[f64; 2]; 2]>> = vec![Vec::new(); bands];
    for pair in lines.iter().flat_map(|line| line.windows(2)) {
        let (a, b) = (pair[0], pair[1]);
        let (low, high) = (a[1].min(b[1]) - tolerance, a[1].max(b[1]) + tolerance);
        if !(high > 0.0 && low < frame.rows as f64) {
            continue;
        }
        let last = (high.max(0.0) as usize / BAND).min(bands - 1);
        for band in &mut of_band[low.max(0.0) as usize / BAND..=last] {
            band.push([a, b]);
        }
    }
    near.values_mut().par_chunks_mut(BAND * frame.cols).zip(&of_band).enumerate().try_for_each(
        |(band, (cells, pieces))| {
            check(monitor)?;
            let rows = cells.len() / frame.cols;
            let top = band * BAND;
            for [a, b] in pieces {
                let range = |low: f64, high: f64, most: usize| {
                    let from = whole_from(low - tolerance - 0.5);
                    let to = ((high + tolerance + 0.5) as usize).min(most);
                    from..to.max(from)
                };
                let (r0, r1) = (a[1].min(b[1]), a[1].max(b[1]));
                let rows = range(r0 - top as f64, r1 - top as f64, rows);
                for row in rows {
                    for col in range(a[0].min(b[0]), a[0].max(b[0]), frame.cols) {
                        let at = &mut cells[row * frame.cols + col];
                        let centre = [col as f64 + 0.5, (top + row) as f64 + 0.5];
                        *at = *at || distance_squared(centre, *a, *b) <= tolerance * tolerance;
                    }
                }
            }
            Ok::<(), Error>(())
        },
    )?;
    Ok(near)
}

/// Tells how far a cell lies from the nearest cell that a mapped line passes.
fn away(mapped: &[Vec<[f64; 2]>], frame: &Frame, monitor: &dyn Monitor) -> Result<Away> {
    let mut marked = Grid::filled(frame.rows, frame.cols, false);
    for line in mapped {
        check(monitor)?;
        for cell in cells_along(line, frame, Connection::Eight) {
            let index = marked.index(cell);
            marked.values_mut()[index] = true;
        }
    }
    Away::from(&marked, monitor)
}

/// What is known of the mapped streams at each cell.
struct Known {
    near: Grid<bool>,
    /// in cells
    away: Away,
    /// micrometres of a cell
    unit: f64,
}

/// The smallest whole number, from 0, that is not below a value; casts cut off, and are faster than rounding.
#[inline]
fn whole_from(value: f64) -> usize {
    let cut = value as usize;
    cut + usize::from((cut as f64) < value)
}

/// Square of the distance of a point from a piece of a line.
fn distance_squared([x, y]: [f64; 2], a: [f64; 2], b: [f64; 2]) -> f64 {
    let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
    let length2 = dx * dx + dy * dy;
    let t = if length2 > 0.0 { (((x - a[0]) * dx + (y - a[1]) * dy) / length2).clamp(0.0, 1.0) } else { 0.0 };
    (x - a[0] - t * dx).powi(2) + (y - a[1] - t * dy).powi(2)
}

/// The modelled streams by the number of thresholds that they reach.
fn modelled(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    known: Option<&Known>,
    lowest: u32,
    reached: &Reached<'_>,
    monitor: &dyn Monitor,
) -> Result<Vec<Tally>> {
    let cols = directions.cols();
    let none = || vec![Tally::default(); reached.thresholds() + 1];
    let add = |mut a: Vec<Tally>, b: Vec<Tally>| {
        for (a, b) in a.iter_mut().zip(b) {
            a.modelled = a.modelled.plus(b.modelled);
            a.matched = a.matched.plus(b.matched);
            a.cells += b.cells;
            a.away = a.away.saturating_add(b.away);
            a.begun += b.begun;
        }
        a
    };
    let level = |index: usize| Threshold::most(accumulation.values()[index]);
    (0..directions.rows().div_ceil(BAND))
        .into_par_iter()
        .map_init(Memory::default, |memory, band| {
            check(monitor)?;
            let Memory { streams, inflows, away, work } = memory;
            let mut tallies = none();
            for row in band * BAND..((band + 1) * BAND).min(directions.rows()) {
                let first = row * cols;
                streams.clear();
                streams.extend((0..cols as u32).filter(|&col| {
                    let cells = level(first + col as usize);
                    cells >= lowest && cells > 0
                }));
                inflows.resize(cols, 0);
                inflows_of_row(directions, row, 0, inflows);
                if let Some(known) = known {
                    known.away.of_row(row, streams, work, away);
                }
                for (at, &col) in streams.iter().enumerate() {
                    let index = first + col as usize;
                    let code = directions.values()[index];
                    let bin = reached.by(level(index));
                    if bin == 0 || code == DIRECTION_NODATA {
                        continue;
                    }
                    tallies[bin].begun += 1;
                    // Where a stream comes in, none begins.
                    let mut bits = inflows[col as usize];
                    let mut above = 0;
                    while bits != 0 {
                        let from = &NEIGHBOURS[bits.trailing_zeros() as usize];
                        let up = index.wrapping_add_signed(from.rows * cols as isize + from.cols);
                        above = above.max(level(up));
                        bits &= bits - 1;
                    }
                    let from = reached.by(above);
                    tallies[from].begun -= i64::from(from > 0);
                    let next = downstream(directions, index);
                    let tally = &mut tallies[bin];
                    tally.cells += 1;
                    // The codes of NE, SE, SW and NW.
                    let diagonal = code & 0b1010_1010 != 0;
                    let halves = |n: u64| match diagonal {
                        true => Steps { straight: 0, diagonal: n },
                        false => Steps { straight: n, diagonal: 0 },
                    };
                    if next.is_some() {
                        tally.modelled = tally.modelled.plus(halves(2));
                    }
                    if let Some(known) = known {
                        let micro = (away[at] as f64 * known.unit + 0.5) as u64;
                        tally.away = tally.away.saturating_add(micro);
                        if let Some(next) = next {
                            let near = |at: usize| u64::from(known.near.values()[at]);
                            tally.matched = tally.matched.plus(halves(near(index) + near(next)));
                        }
                    }
                }
            }
            Ok(tallies)
        })
        .try_reduce(none, |a, b| Ok(add(a, b)))
}

/// What is used again from row to row.
#[derive(Default)]
struct Memory {
    /// columns of stream cells
    streams: Vec<u32>,
    /// who drains to each cell, a bit for each neighbour
    inflows: Vec<u8>,
    away: Vec<f32>,
    work: crate::grid::Work,
}

/// What lies around places on the map.
pub(super) struct Around<'a, T> {
    pub directions: &'a Grid<u8>,
    pub cells: &'a Grid<T>,
    /// in cells
    pub tolerance: f64,
}

impl<T: Copy> Around<'_, T> {
    /// Whether a cell belongs to the footprint.
    pub(super) fn is_inside(&self, row: isize, col: isize) -> bool {
        let (Ok(row), Ok(col)) = (usize::try_from(row), usize::try_from(col)) else { return false };
        self.directions.get(Cell { row, col }).is_some_and(|&code| code != DIRECTION_NODATA)
    }

    /// The largest of what `of` makes of the cells whose centres lie within the tolerance of a place (column and
    /// row from the north-west corner); `least` where there is none.
    pub(super) fn largest<U: Ord + Copy>(&self, x: f64, y: f64, least: U, of: impl Fn(T) -> U) -> U {
        let (rows, cols) = (self.cells.rows(), self.cells.cols());
        let first = whole_from(y - self.tolerance - 0.5);
        let past = ((y + self.tolerance + 0.5) as usize).min(rows);
        let mut most = least;
        for row in first..past.max(first) {
            let off = row as f64 + 0.5 - y;
            let wide = (self.tolerance * self.tolerance - off * off).max(0.0).sqrt();
            let from = whole_from(x - wide - 0.5).min(cols);
            let to = ((x + wide + 0.5) as usize).min(cols);
            let cells = &self.cells.values()[row * cols..][..cols];
            most = cells[from..to.max(from)].iter().fold(most, |most, &cell| most.max(of(cell)));
        }
        most
    }
}

impl Around<'_, u32> {
    /// The largest contributing area there, in cells, of a flow accumulation; 0 where there is none.
    pub(super) fn area(&self, x: f64, y: f64) -> u32 {
        self.largest(x, y, 0, Threshold::most)
    }
}

/// Lines in cells from the north-west corner: column, then row.
pub(super) fn in_cells(lines: &[Vec<[f64; 2]>], frame: &Frame) -> Vec<Vec<[f64; 2]>> {
    let place = |p: &[f64; 2]| [(p[0] - frame.left) / frame.cell_size, (frame.top - p[1]) / frame.cell_size];
    lines.iter().map(|line| line.iter().map(place).collect()).collect()
}

/// The mapped streams, in micrometres, by the number of thresholds at which they are found; and all of them.
fn found(
    lines: &[Vec<[f64; 2]>],
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    tolerance: f64,
    reached: &Reached<'_>,
    monitor: &dyn Monitor,
) -> Result<(Vec<u64>, u64)> {
    let add = |(mut a, x): (Vec<u64>, u64), (b, y): (Vec<u64>, u64)| {
        a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
        (a, x + y)
    };
    let none = || (vec![0u64; reached.thresholds() + 1], 0u64);
    let around = Around { directions, cells: accumulation, tolerance };
    lines
        .par_iter()
        .map(|line| {
            check(monitor)?;
            let (mut by_bin, mut all) = none();
            for pair in line.windows(2) {
                let (dx, dy) = (pair[1][0] - pair[0][0], pair[1][1] - pair[0][1]);
                let length = dx.hypot(dy);
                let pieces = (length * 4.0).ceil().max(1.0);
                let piece = (length / pieces * frame.cell_m() * MICRO).round() as u64;
                for at in 0..pieces as usize {
                    let t = (at as f64 + 0.5) / pieces;
                    let (x, y) = (pair[0][0] + dx * t, pair[0][1] + dy * t);
                    if !around.is_inside(y.floor() as isize, x.floor() as isize) {
                        continue;
                    }
                    all += piece;
                    by_bin[reached.by(around.area(x, y))] += piece;
                }
            }
            Ok((by_bin, all))
        })
        .try_reduce(none, |a, b| Ok(add(a, b)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_sweep_equals_single_runs_and_the_network(
            dem in any_terrain(14), tolerance in 0.2f64..4.0,
            line in prop::collection::vec((0.0f64..14.0, 0.0f64..14.0), 2..6),
        ) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: dem.rows() as f64, cell_size: 1.0, unit_m: 2.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let mapped = vec![line.iter().map(|&(x, y)| [x, y]).collect::<Vec<_>>()];
            let thresholds: Vec<Threshold> = [1, 2, 3, 5, 9, 30, 1000].map(Threshold::cells).into();
            let run = |t: &[Threshold]| agreement(&directions, &accumulation, &frame, &mapped, tolerance, t, &Silent).unwrap();
            for scores in run(&thresholds) {
                // Alone, to the last bit.
                prop_assert_eq!(vec![scores], run(&[scores.threshold]));
                let network = extract(&directions, &accumulation, &filled, &frame, scores.threshold, &Silent).unwrap();
                prop_assert!((scores.modelled_m - network.length_m()).abs() < 1e-6);
                prop_assert_eq!(scores.headwaters, network.headwaters() as u64);
                prop_assert!(scores.matched_m <= scores.modelled_m && scores.found_m <= scores.mapped_m);
            }
        }
    }

    #[test]
    fn no_streams_and_no_map_score_nothing() {
        let dem = Grid::from_fn(5, 5, |c| c.row as f32);
        let frame = Frame { rows: 5, cols: 5, left: 0.0, top: 5.0, cell_size: 1.0, unit_m: 1.0 };
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let run = |mapped: &[Vec<[f64; 2]>], cells| {
            agreement(&directions, &accumulation, &frame, mapped, 1.0, &[Threshold::cells(cells)], &Silent)
                .unwrap()[0]
        };
        let none = run(&[], 1);
        assert_eq!((none.mapped_m, none.found(), none.matched(), none.agreement()), (0.0, 0.0, 0.0, 0.0));
        let only_map = run(&[vec![[0.5, 0.5], [4.5, 0.5]]], 1000);
        assert_eq!((only_map.modelled_m, only_map.headwaters, only_map.found()), (0.0, 0, 0.0));
        // Off the footprint nothing counts.
        assert_eq!(run(&[vec![[50.0, 50.0], [60.0, 50.0]]], 1).mapped_m, 0.0);
    }
}
