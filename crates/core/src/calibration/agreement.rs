//! Agreement with mapped streams, over many thresholds at once.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::around::Around;
use super::mapped::{Mapped, Work, in_cells};
use crate::grid::pieces_within;
use crate::monitor::check;
use crate::routing::{DIRECTION_NODATA, downstream, largest_inflow_of_row};
use crate::{Frame, Grid, Monitor, Result, Threshold};

/// How the network at one threshold agrees with mapped streams.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Scores {
    /// the threshold
    pub threshold: Threshold,
    /// length of the modelled streams where the map looks, metres
    pub modelled_m: f64,
    /// of that, within the tolerance of mapped streams
    pub matched_m: f64,
    /// length of the mapped streams on the footprint, where their map looks, metres
    pub mapped_m: f64,
    /// of that, within the tolerance of modelled streams
    pub found_m: f64,
    /// cells at which modelled streams begin
    pub headwaters: u64,
    /// mean distance of the modelled streams from the nearest mapped one, metres
    #[serde(default)]
    pub away_m: Option<f64>,
    /// length of all modelled streams, wherever the map looks, metres; 0 where it was not counted
    #[serde(default)]
    pub length_m: f64,
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
    /// Number of half cells; `diagonal` is 1 or 0.
    #[inline]
    fn add(&mut self, halves: u64, diagonal: u64) {
        self.diagonal += halves * diagonal;
        self.straight += halves * (1 - diagonal);
    }
}

/// What is counted of all streams that are there up to one threshold, and not at the next.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    /// wherever the map looks
    whole: Steps,
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

/// Mapped streams that a network is held against.
#[derive(Debug, Clone, Copy)]
pub struct MappedStreams<'a> {
    /// lines in CRS units
    pub lines: &'a [Vec<[f64; 2]>],
    /// within this both agree, metres
    pub tolerance_m: f64,
    /// cells that the map looks at, on the grid of the network; all where it is not told. Elsewhere streams are neither
    /// matched nor extra, neither found nor missed: they do not count at all.
    pub covers: Option<&'a Grid<bool>>,
}

impl<'a> MappedStreams<'a> {
    /// Streams of a map that looks everywhere.
    pub fn everywhere(lines: &'a [Vec<[f64; 2]>], tolerance_m: f64) -> Self {
        Self { lines, tolerance_m, covers: None }
    }

    /// Whether the map looks at a cell, by its number in row order.
    #[inline]
    pub(super) fn looks_at(&self, cell: usize) -> bool {
        self.covers.is_none_or(|covers| covers.values()[cell])
    }
}

/// Scores the networks at `thresholds` against mapped streams, all in one pass; each score is that of its
/// threshold alone, to the last bit.
///
/// `directions` (D8 codes) and `accumulation` (cells upstream) lie at `frame`; of `map` what lies off the footprint does
/// not count. Headwaters are counted where the map does not look, too.
///
/// Modelled streams run between cell centres. Half of each step counts as matched where the centre it begins or
/// ends at lies within `tolerance_m` of a mapped line. A mapped line is looked at every quarter of a cell; the
/// piece counts as found where a stream cell's centre lies within the tolerance. The mean distance is that of
/// the centres of stream cells from those of the cells that mapped lines pass. Against buffers of exact
/// lines both differ by a fraction of a cell at each place where a line enters or leaves the other's buffer.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Goodchild and Hunter 1997, International Journal of Geographical Information Science 11, 299-306 (share of
/// a line within a buffer of the other).
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, calibration::{MappedStreams, agreement}, routing::*};
/// // Water runs east along each row; the map knows the middle one, but only its western half.
/// let frame = Frame { rows: 3, cols: 9, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let dem = Grid::from_fn(3, 9, |c| 20.0 - c.col as f32 + if c.row == 1 { 0.0 } else { 0.1 });
/// let directions = flow_directions(&dem, &Silent)?;
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let mapped = vec![vec![[0.5, 1.5], [4.5, 1.5]]];
/// let map = MappedStreams::everywhere(&mapped, 0.4);
/// let scores = agreement(&directions, &accumulation, &frame, &map, &[Threshold::cells(1)], &Silent)?;
/// assert_eq!(scores[0].found(), 1.0);
/// assert!(scores[0].matched() < 0.5);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn agreement(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    map: &MappedStreams<'_>,
    thresholds: &[Threshold],
    monitor: &dyn Monitor,
) -> Result<Vec<Scores>> {
    directions.same_shape(accumulation)?;
    if let Some(covers) = map.covers {
        directions.same_shape(covers)?;
    }
    let mut sorted: Vec<u32> = thresholds.iter().map(|t| t.as_cells()).collect();
    sorted.sort_unstable();
    sorted.dedup();
    let lowest = sorted.first().copied().unwrap_or(u32::MAX);
    let reached = Reached::new(&sorted);
    let tolerance = map.tolerance_m / frame.cell_m();
    let lines = in_cells(map.lines, frame);
    // Without mapped streams there is nothing to look for at any cell.
    let known = match lines.is_empty() {
        true => None,
        false => Some(Mapped::of(map.lines, &lines, frame, tolerance, monitor)?),
    };
    monitor.progress(0.1);
    let unit = frame.cell_m() * MICRO;
    let mut tallies =
        modelled(directions, accumulation, (known.as_ref(), map, unit), lowest, &reached, monitor)?;
    monitor.progress(0.7);
    let (found, mapped_um) = found((&lines, map), directions, accumulation, frame, &reached, monitor)?;
    for (tally, found) in tallies.iter_mut().zip(found) {
        tally.found = found;
    }
    // What reaches a high threshold reaches all lower ones.
    let mut at_least = vec![Tally::default(); sorted.len() + 1];
    for bin in (1..=sorted.len()).rev() {
        let above = at_least.get(bin + 1).copied().unwrap_or_default();
        let own = tallies[bin];
        at_least[bin] = Tally {
            whole: own.whole.plus(above.whole),
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
                length_m: tally.whole.length_m(frame),
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

/// The modelled streams by the number of thresholds that they reach; `unit` is a cell, in micrometres.
fn modelled(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    (mapped, map, unit): (Option<&Mapped>, &MappedStreams<'_>, f64),
    lowest: u32,
    reached: &Reached<'_>,
    monitor: &dyn Monitor,
) -> Result<Vec<Tally>> {
    let (rows, cols) = (directions.rows(), directions.cols());
    let none = || vec![Tally::default(); reached.thresholds() + 1];
    let add = |mut a: Vec<Tally>, b: Vec<Tally>| {
        for (a, b) in a.iter_mut().zip(b) {
            a.whole = a.whole.plus(b.whole);
            a.modelled = a.modelled.plus(b.modelled);
            a.matched = a.matched.plus(b.matched);
            a.cells += b.cells;
            a.away = a.away.saturating_add(b.away);
            a.begun += b.begun;
        }
        a
    };
    (0..rows.div_ceil(Mapped::BAND))
        .into_par_iter()
        .map_init(Memory::default, |memory, band| {
            check(monitor)?;
            let Memory { streams, above, away, work } = memory;
            let mut tallies = none();
            above.resize(cols, 0);
            if let Some(mapped) = mapped {
                mapped.enter(band, work);
            }
            for row in band * Mapped::BAND..((band + 1) * Mapped::BAND).min(rows) {
                let first = row * cols;
                let (codes, cells) =
                    (&directions.values()[first..][..cols], &accumulation.values()[first..][..cols]);
                columns_of_streams(codes, cells, lowest, streams);
                largest_inflow_of_row(directions, accumulation, row, above);
                if let Some(mapped) = mapped {
                    mapped.away_of_row(row, streams, work, away);
                }
                for (at, &col) in streams.iter().enumerate() {
                    let (index, col) = (first + col as usize, col as usize);
                    let bin = reached.by(Threshold::most(cells[col]));
                    // Where a stream comes in, none begins.
                    let from = reached.by(above[col]);
                    tallies[from].begun -= i64::from(from > 0);
                    let next = downstream(directions, index);
                    let tally = &mut tallies[bin];
                    tally.begun += 1;
                    let diagonal = u64::from(codes[col] & DIAGONAL != 0);
                    if next.is_some() {
                        tally.whole.add(2, diagonal);
                    }
                    if !map.looks_at(index) {
                        continue;
                    }
                    tally.cells += 1;
                    if next.is_some() {
                        tally.modelled.add(2, diagonal);
                    }
                    if mapped.is_some() {
                        let micro = (away[at] as f64 * unit + 0.5) as u64;
                        tally.away = tally.away.saturating_add(micro);
                        if let Some(next) = next {
                            let near = |at: usize| u64::from(work.is_near(at));
                            tally.matched.add(near(index) + near(next), diagonal);
                        }
                    }
                }
            }
            Ok(tallies)
        })
        .try_reduce(none, |a, b| Ok(add(a, b)))
}

/// The codes of NE, SE, SW and NW.
const DIAGONAL: u8 = 0b1010_1010;

/// The columns of a row where a stream is at the lowest threshold.
fn columns_of_streams(codes: &[u8], cells: &[u32], lowest: u32, out: &mut Vec<u32>) {
    // Written everywhere and kept where it is one: no guess of the processor's to go wrong.
    out.resize(cells.len(), 0);
    let mut count = 0;
    for (col, (&code, &cells)) in codes.iter().zip(cells).enumerate() {
        out[count] = col as u32;
        let most = Threshold::most(cells);
        count += usize::from((most >= lowest) & (most > 0) & (code != DIRECTION_NODATA));
    }
    out.truncate(count);
}

/// What is used again from row to row.
#[derive(Default)]
struct Memory {
    /// columns of stream cells
    streams: Vec<u32>,
    /// the largest threshold that is reached upstream of each cell
    above: Vec<u32>,
    away: Vec<f32>,
    work: Work,
}

/// The mapped streams, in micrometres, by the number of thresholds at which they are found; and all of them.
fn found(
    (lines, map): (&[Vec<[f64; 2]>], &MappedStreams<'_>),
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    reached: &Reached<'_>,
    monitor: &dyn Monitor,
) -> Result<(Vec<u64>, u64)> {
    let add = |(mut a, x): (Vec<u64>, u64), (b, y): (Vec<u64>, u64)| {
        a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
        (a, x + y)
    };
    let none = || (vec![0u64; reached.thresholds() + 1], 0u64);
    let around = Around { directions, cells: accumulation, tolerance: map.tolerance_m / frame.cell_m() };
    // A place that the footprint holds lies in a cell.
    let looked_at =
        |x: f64, y: f64| map.covers.is_none() || map.looks_at(y as usize * frame.cols + x as usize);
    lines
        .par_iter()
        .map(|line| {
            check(monitor)?;
            let (mut by_bin, mut all) = none();
            let (mut places, mut areas) = (Vec::new(), Vec::new());
            for pair in line.windows(2) {
                let (dx, dy) = (pair[1][0] - pair[0][0], pair[1][1] - pair[0][1]);
                let length = dx.hypot(dy);
                let pieces = (length * 4.0).ceil().max(1.0);
                let piece = (length / pieces * frame.cell_m() * MICRO).round() as u64;
                places.clear();
                let place = |at: u64| {
                    let t = (at as f64 + 0.5) / pieces;
                    [pair[0][0] + dx * t, pair[0][1] + dy * t]
                };
                let near = pieces_within(pair[0], pair[1], pieces, (frame.rows, frame.cols));
                places.extend(near.map(place).filter(|&[x, y]| around.holds(x, y) && looked_at(x, y)));
                around.areas(&places, &mut areas);
                for &area in &areas {
                    all += piece;
                    by_bin[reached.by(area)] += piece;
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
            let map = MappedStreams::everywhere(&mapped, tolerance);
            let run = |t: &[Threshold]| agreement(&directions, &accumulation, &frame, &map, t, &Silent).unwrap();
            // A map that looks at the left and one that looks at the right half count what one of all counts.
            let half = |left: bool| Grid::from_fn(dem.rows(), dem.cols(), |c| (c.col < dem.cols() / 2) == left);
            let (left, right) = (half(true), half(false));
            let of = |covers| agreement(&directions, &accumulation, &frame, &MappedStreams { covers: Some(covers), ..map }, &thresholds, &Silent).unwrap();
            for ((all, a), b) in run(&thresholds).into_iter().zip(of(&left)).zip(of(&right)) {
                for (all, a, b) in [(all.modelled_m, a.modelled_m, b.modelled_m), (all.matched_m, a.matched_m, b.matched_m),
                    (all.mapped_m, a.mapped_m, b.mapped_m), (all.found_m, a.found_m, b.found_m)] {
                    prop_assert!((all - a - b).abs() < 1e-6, "{} {} {}", all, a, b);
                }
                prop_assert_eq!((all.headwaters, all.headwaters), (a.headwaters, b.headwaters));
                prop_assert_eq!((all.length_m, all.length_m), (a.length_m, b.length_m));
            }
            for scores in run(&thresholds) {
                // Alone, to the last bit.
                prop_assert_eq!(vec![scores], run(&[scores.threshold]));
                let network = extract(&directions, &accumulation, &filled, &frame, scores.threshold, &Silent).unwrap();
                prop_assert!((scores.modelled_m - network.length_m()).abs() < 1e-6 && scores.length_m == scores.modelled_m);
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
            let map = MappedStreams::everywhere(mapped, 1.0);
            agreement(&directions, &accumulation, &frame, &map, &[Threshold::cells(cells)], &Silent).unwrap()
                [0]
        };
        let none = run(&[], 1);
        assert_eq!((none.mapped_m, none.found(), none.matched(), none.agreement()), (0.0, 0.0, 0.0, 0.0));
        let only_map = run(&[vec![[0.5, 0.5], [4.5, 0.5]]], 1000);
        assert_eq!((only_map.modelled_m, only_map.headwaters, only_map.found()), (0.0, 0, 0.0));
        // Off the footprint nothing counts.
        assert_eq!(run(&[vec![[50.0, 50.0], [60.0, 50.0]]], 1).mapped_m, 0.0);
    }
}
