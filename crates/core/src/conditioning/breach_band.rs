//! Breaching by bands of rows: each breaches its own sinks, told what those beside it cut.

use std::ops::Range;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::breach::{Breach, BreachLimits, BreachReport, CellBounds, Search, Treated};
use crate::monitor::{SharedPace, check};
use crate::{Band, Cell, Error, Frame, Grid, Monitor, Result, cut_into_bands};

/// Rows of a band at least that one core breaches by itself: in lower ones searches would too often look beyond.
const ROWS_OF_A_CORE: usize = 192;
/// Bands for each core, as sinks do not lie evenly.
const BANDS_OF_A_CORE: usize = 4;

/// How many rows from the bottom of a sink a search may look and cut within the limits; none where it may look anywhere. A row more than a path can
/// span, for the neighbours of its last cell.
pub fn reach_of_breaching(limits: BreachLimits, frame: &Frame) -> Option<usize> {
    // A path is at least as long as the rows that it spans.
    limits.length_m.map(|length| (length / frame.cell_m()).floor() as usize + 1)
}

/// The rows of a band at least for a [reach](reach_of_breaching) in rows, so that what it cuts is told to the bands beside it alone.
pub fn least_rows_to_breach(reach: usize) -> usize {
    2 * reach
}

/// What breaching a sink lowered, where another band may see it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Lowered {
    /// elevation of the sink's bottom before anything was cut, metres
    level: f32,
    /// its number in the whole grid
    bottom: u32,
    /// the cells lowered, by number in the whole grid, and what they were lowered to, metres
    cells: Vec<(u32, f32)>,
}

/// What is lowered in the bands beside a band, near it; or by a band near those beside it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct LoweredBeside {
    /// of the band above, or near it, in the order of work
    pub above: Vec<Lowered>,
    /// of the band below, or near it, in the order of work
    pub below: Vec<Lowered>,
}

/// What was done about the sinks of a band.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandBreaches {
    /// elevation and number of a bottom, and the path lowered; none where the limits forbade it
    sinks: Vec<(f32, u32, Option<Breach>)>,
}

/// A band of rows whose sinks are being breached.
///
/// Sinks are breached from the lowest up over the whole grid, each on what those before have left. A band breaches its own in that order, with
/// what the bands beside it told to be lowered in between ([`Self::breach`]), and tells what it lowered ([`Self::lowered`]), until no band
/// tells anything new: then each sink was breached on the ground that it finds in the whole grid.
pub struct BreachingBand {
    /// the ground before anything is cut, with the rows beside the band
    ground: Grid<f32>,
    search: Search,
    own: Range<usize>,
    reach: usize,
    /// the number in the whole grid of the first cell of `ground`
    first: u32,
    /// bottoms of the band's own sinks in the order of work, by number in `ground`
    bottoms: Vec<u32>,
    /// what was done about them when it was done last
    treated: Vec<Treated>,
    told: LoweredBeside,
}

impl BreachingBand {
    /// Begins with a band whose first row is `row` of the whole grid. `ground` is elevation, metres, `NaN` for nodata, with
    /// [`reach_of_breaching`] and one more row beside the band wherever the grid goes on. `bottoms` are those of the sinks to be breached, and `outlets` of those
    /// that stay open, of the whole grid, by number, ascending.
    ///
    /// # Errors
    /// [`Error::TooManyCells`]; [`Error::NoData`] where the limits do not bound the length.
    ///
    /// # Source
    /// As [`breach`](super::breach()); the rounds are ours.
    pub fn begin(
        ground: Band<f32>,
        row: usize,
        (bottoms, outlets): (&[u32], &[u32]),
        frame: &Frame,
        limits: BreachLimits,
    ) -> Result<Self> {
        let reach = reach_of_breaching(limits, frame).ok_or(Error::NoData)?;
        let outlets = ground.numbers_of(outlets, row);
        let own = ground.own();
        let grid = ground.grid().clone();
        grid.numbered()?;
        let first = ((row - own.start) * grid.cols()) as u32;
        let rows = own.start * grid.cols()..own.end * grid.cols();
        let mut bottoms = ground.numbers_of(bottoms, row);
        bottoms.retain(|&bottom| rows.contains(&(bottom as usize)));
        let z = |bottom: u32| grid.values()[bottom as usize];
        bottoms.sort_by(|&a, &b| z(a).total_cmp(&z(b)).then(a.cmp(&b)));
        let search = Search::new(grid.clone(), frame, outlets, limits);
        let told = LoweredBeside::default();
        Ok(Self { ground: grid, search, own, reach, first, bottoms, treated: Vec::new(), told })
    }

    /// Breaches the sinks of the band, with what the bands beside it lowered by what they told last. What was done before is done
    /// again where something is told differently.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub fn breach(&mut self, told: LoweredBeside, monitor: &dyn Monitor) -> Result<()> {
        let mut changed = Marks::new(&self.ground);
        if !self.treated.is_empty() {
            for (before, now) in [(&self.told.above, &told.above), (&self.told.below, &told.below)] {
                for lowered in differing(before, now) {
                    self.here(&lowered.cells).for_each(|(cell, _)| changed.mark(cell));
                }
            }
        }
        self.search.z.clone_from(&self.ground);
        let before = std::mem::take(&mut self.treated);
        let mut before = before.into_iter();
        let mut beside: Vec<&Lowered> = told.above.iter().chain(&told.below).collect();
        beside.sort_by(|a, b| order((a.level, a.bottom), (b.level, b.bottom)));
        let mut beside = beside.into_iter().peekable();
        for number in 0..self.bottoms.len() {
            if number.is_multiple_of(1 << 10) {
                check(monitor)?;
            }
            let bottom = self.bottoms[number];
            let key = (self.ground.values()[bottom as usize], self.first + bottom);
            while let Some(lowered) =
                beside.next_if(|lowered| order((lowered.level, lowered.bottom), key).is_lt())
            {
                self.lower(lowered);
            }
            let done = match before.next() {
                Some(done) if !changed.any_in(done.looked_at) => {
                    for &(cell, z) in &done.lowered {
                        self.search.z.values_mut()[cell as usize] = z;
                    }
                    done
                }
                done => {
                    let again = self.search.treat(bottom, monitor)?;
                    if let Some(done) = done.filter(|done| done.lowered != again.lowered) {
                        let cells = done.lowered.iter().chain(&again.lowered);
                        cells.for_each(|&(cell, _)| changed.mark(cell as usize));
                    }
                    again
                }
            };
            self.treated.push(done);
        }
        for lowered in beside {
            self.lower(lowered);
        }
        self.told = told;
        Ok(())
    }

    /// What it lowered near the bands beside it.
    pub fn lowered(&self) -> LoweredBeside {
        let cols = self.ground.cols();
        // They look so far into this band.
        let (above, below) = (self.own.start + self.reach + 1, self.own.end.saturating_sub(self.reach + 1));
        let told = |is_near: &dyn Fn(usize) -> bool| -> Vec<Lowered> {
            let each = self.bottoms.iter().zip(&self.treated);
            let near = each.filter(|(_, t)| t.lowered.iter().any(|&(cell, _)| is_near(cell as usize / cols)));
            near.map(|(&bottom, treated)| Lowered {
                level: self.ground.values()[bottom as usize],
                bottom: self.first + bottom,
                cells: treated.lowered.iter().map(|&(cell, z)| (self.first + cell, z)).collect(),
            })
            .collect()
        };
        LoweredBeside {
            above: if self.own.start > 0 { told(&|row| row < above) } else { Vec::new() },
            below: match self.own.end < self.ground.rows() {
                true => told(&|row| row >= below),
                false => Vec::new(),
            },
        }
    }

    /// The rows of [`breach`](super::breach()) of the whole grid, and what was done about the band's sinks.
    pub fn done(self) -> (Grid<f32>, BandBreaches) {
        let cols = self.ground.cols();
        let first_row = self.first as usize / cols.max(1);
        let there = |cell: Cell| Cell { row: cell.row + first_row, ..cell };
        let sink = |(&bottom, treated): (&u32, Treated)| {
            let breach = treated.breach.map(|b| Breach { from: there(b.from), to: there(b.to), ..b });
            // A path that needs no cutting is neither.
            let told = breach.is_some() || treated.left;
            told.then(|| (self.ground.values()[bottom as usize], self.first + bottom, breach))
        };
        let sinks = self.bottoms.iter().zip(self.treated).filter_map(sink).collect();
        let mut z = self.search.z.into_vec();
        z.truncate(self.own.end * cols);
        z.drain(..self.own.start * cols);
        (Grid::from_vec(self.own.len(), cols, z), BandBreaches { sinks })
    }

    /// Those of some cells of the whole grid that lie here.
    fn here(&self, cells: &[(u32, f32)]) -> impl Iterator<Item = (usize, f32)> {
        let (first, len) = (self.first, self.ground.len());
        cells
            .iter()
            .filter_map(move |&(cell, z)| Some((cell.checked_sub(first)? as usize, z)))
            .filter(move |&(cell, _)| cell < len)
    }

    fn lower(&mut self, lowered: &Lowered) {
        let here: Vec<(usize, f32)> = self.here(&lowered.cells).collect();
        for (cell, z) in here {
            self.search.z.values_mut()[cell] = z;
        }
    }
}

/// What all bands did about their sinks, in the order of work. `cols` are those of the grid.
pub fn report_of_bands(bands: Vec<BandBreaches>, cols: usize) -> BreachReport {
    let mut sinks: Vec<_> = bands.into_iter().flat_map(|band| band.sinks).collect();
    sinks.sort_by(|a, b| order((a.0, a.1), (b.0, b.1)));
    let mut report = BreachReport { breaches: Vec::new(), left: Vec::new() };
    for (_, bottom, breach) in sinks {
        match breach {
            Some(breach) => report.breaches.push(breach),
            None => report.left.push(Cell { row: bottom as usize / cols, col: bottom as usize % cols }),
        }
    }
    report
}

/// The order of work.
fn order(a: (f32, u32), b: (f32, u32)) -> std::cmp::Ordering {
    a.0.total_cmp(&b.0).then(a.1.cmp(&b.1))
}

/// Those of two lists in the order of work that the other lacks, or holds differently.
fn differing<'a>(before: &'a [Lowered], now: &'a [Lowered]) -> Vec<&'a Lowered> {
    let (mut a, mut b) = (before.iter().peekable(), now.iter().peekable());
    let mut differ = Vec::new();
    loop {
        let key = |lowered: &Lowered| (lowered.level, lowered.bottom);
        let next = match (a.peek(), b.peek()) {
            (None, None) => return differ,
            (Some(_), None) => std::cmp::Ordering::Less,
            (None, Some(_)) => std::cmp::Ordering::Greater,
            (Some(one), Some(other)) => order(key(one), key(other)),
        };
        let one = a.next_if(|_| next.is_le());
        let other = b.next_if(|_| next.is_ge());
        if one != other {
            differ.extend(one);
            differ.extend(other);
        }
    }
}

/// Cells that are marked.
struct Marks {
    cols: usize,
    /// whether there is any in a row
    rows: Vec<bool>,
    marked: Vec<bool>,
}

impl Marks {
    fn new(grid: &Grid<f32>) -> Self {
        Self { cols: grid.cols(), rows: vec![false; grid.rows()], marked: vec![false; grid.len()] }
    }

    fn mark(&mut self, cell: usize) {
        self.rows[cell / self.cols] = true;
        self.marked[cell] = true;
    }

    fn any_in(&self, within: CellBounds) -> bool {
        let right = (within.right + 1).min(self.cols);
        (within.top..(within.bottom + 1).min(self.rows.len()))
            .any(|row| self.rows[row] && self.marked[row * self.cols..][within.left..right].contains(&true))
    }
}

/// How rows are cut for all cores to breach sinks within limits; none where one does as well.
pub(super) fn bands_for_cores(rows: usize, frame: &Frame, limits: BreachLimits) -> Option<Vec<Range<usize>>> {
    let least = least_rows_to_breach(reach_of_breaching(limits, frame)?);
    let threads = rayon::current_num_threads();
    // Bands are as equal as can be, so that none is lower than half of the highest.
    let most = rows.div_ceil(threads * BANDS_OF_A_CORE).max(ROWS_OF_A_CORE).max(2 * least);
    let bands = cut_into_bands(rows, most);
    (threads > 1 && bands.len() > 1).then_some(bands)
}

/// Breaches by bands that all cores share, each of them at least [`least_rows_to_breach`] rows high.
pub(super) fn breach_by_bands(
    dem: &Grid<f32>,
    frame: &Frame,
    sinks: (&[u32], &[u32]),
    limits: BreachLimits,
    cuts: &[Range<usize>],
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, BreachReport)> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let beside = reach_of_breaching(limits, frame).ok_or(Error::NoData)? + 1;
    let values = |rows: Range<usize>| &dem.values()[rows.start * cols..rows.end * cols];
    let begin = |own: &Range<usize>| {
        let above = values(own.start.saturating_sub(beside)..own.start);
        let below = values(own.end..(own.end + beside).min(rows));
        let band = Grid::from_vec(own.len(), cols, values(own.clone()).to_vec());
        BreachingBand::begin(Band::new(above, &band, below)?, own.start, sinks, frame, limits)
    };
    let mut bands: Vec<BreachingBand> = cuts.par_iter().map(begin).collect::<Result<_>>()?;
    let pace = SharedPace::new(monitor, cuts.len() + 1);
    let mut told = vec![LoweredBeside::default(); bands.len()];
    let mut next = vec![true; bands.len()];
    let mut first = true;
    while next.contains(&true) {
        let lowered = bands
            .par_iter_mut()
            .zip(&told)
            .zip(&next)
            .map(|((band, told), &next)| {
                if next {
                    band.breach(told.clone(), monitor)?;
                }
                if first {
                    pace.advance(1)?;
                }
                Ok(band.lowered())
            })
            .collect::<Result<Vec<LoweredBeside>>>()?;
        let now: Vec<LoweredBeside> = (0..bands.len())
            .map(|at| LoweredBeside {
                above: at.checked_sub(1).map(|above| lowered[above].below.clone()).unwrap_or_default(),
                below: lowered.get(at + 1).map(|below| below.above.clone()).unwrap_or_default(),
            })
            .collect();
        next = now.iter().zip(&told).map(|(now, before)| now != before).collect();
        (told, first) = (now, false);
    }
    let (mut z, mut done) = (Vec::with_capacity(dem.len()), Vec::new());
    for (ground, breaches) in bands.into_iter().map(BreachingBand::done) {
        z.extend(ground.into_vec());
        done.push(breaches);
    }
    monitor.progress(1.0);
    Ok((Grid::from_vec(rows, cols, z), report_of_bands(done, cols)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{bottoms, breach};
    use crate::terrain::tests_support::{any_terrain, cells_of};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bands_are_breached_as_the_whole(
            dem in any_terrain(40),
            (most, length, depth) in (1usize..9, 0.5f64..8.0, proptest::option::of(0.5f64..30.0)),
            open in proptest::collection::vec(0u32..1600, 0..4),
        ) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let limits = BreachLimits { length_m: Some(length), depth_m: depth };
            let open = cells_of(&dem, open);
            let sinks: Vec<u32> = bottoms(&dem, &Silent).unwrap().into_iter().filter(|b| open.binary_search(b).is_err()).collect();
            let least = least_rows_to_breach(reach_of_breaching(limits, &frame).unwrap());
            let cuts = cut_into_bands(dem.rows(), most.max(2 * least));
            let (z, report) = breach_by_bands(&dem, &frame, (&sinks, &open), limits, &cuts, &Silent).unwrap();
            // So low a grid one core does by itself.
            prop_assert!(bands_for_cores(dem.rows(), &frame, limits).is_none());
            let (whole, told) = breach(&dem, &frame, &open, limits, &Silent).unwrap();
            for (one, other) in z.values().iter().zip(whole.values()) {
                prop_assert_eq!(one.to_bits(), other.to_bits());
            }
            prop_assert_eq!(report, told);
        }
    }

    /// Sinks so near each other, and so near the cuts, that what one band does decides what the next may.
    #[test]
    fn what_one_band_cuts_leads_to_what_the_next_does() {
        let rough = Grid::from_fn(400, 50, |c| {
            let mixed = (c.row * 7919 + c.col * 104_729) % 613;
            mixed as f32 / 10.0 + (c.row as f32 / 9.0).sin() * 20.0
        });
        let frame = Frame { rows: 400, cols: 50, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
        let limits = BreachLimits { length_m: Some(12.0), depth_m: None };
        let sinks = bottoms(&rough, &Silent).unwrap();
        let cuts = cut_into_bands(400, 30);
        assert!(cuts.len() > 10);
        let (z, report) = breach_by_bands(&rough, &frame, (&sinks, &[]), limits, &cuts, &Silent).unwrap();
        let alone = cut_into_bands(400, 400);
        let (whole, told) = breach_by_bands(&rough, &frame, (&sinks, &[]), limits, &alone, &Silent).unwrap();
        assert!(told.breaches.len() > 300, "{}", told.breaches.len());
        assert_eq!((z, report), (whole, told));
    }
}
