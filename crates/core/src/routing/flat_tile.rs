//! One tile of a grid with flats: steps towards lower and away from higher ground.

use super::d8::{DIRECTION_NODATA, OUTLET, UNDECIDED};
use super::flat_steps::{FlatSteps, TileSteps, UNREACHED};
use super::flats::Rims;
use crate::monitor::check;
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Ties between equally good neighbours: straight ones before diagonal ones.
const STRAIGHT_FIRST: [usize; 8] = [0, 2, 4, 6, 1, 3, 5, 7];

/// The rows of a surface whose flats are resolved.
#[derive(Clone, Copy)]
pub(super) struct Land<'a> {
    /// metres, `NaN` for nodata
    pub surface: &'a Grid<f32>,
    /// rows of the surface above them
    pub above: usize,
    pub rows: usize,
}

/// Where a tile lies in these rows.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    pub top: usize,
    pub left: usize,
    pub height: usize,
    pub width: usize,
}

impl Place {
    /// The tile of `size` cells at a row and column of tiles.
    pub(super) fn new(land: Land<'_>, row: usize, col: usize, size: usize) -> Self {
        let (top, left) = (row * size, col * size);
        Self { top, left, height: size.min(land.rows - top), width: size.min(land.surface.cols() - left) }
    }
}

/// Memory that is used again from tile to tile.
#[derive(Default)]
pub(super) struct Scratch {
    z: Vec<f32>,
    codes: Vec<u8>,
    towards: Vec<u32>,
    away: Vec<u32>,
    /// the cells of flats
    cells: Vec<u32>,
    lower_rim: Vec<(u32, u32)>,
    higher_rim: Vec<(u32, u32)>,
    queue: Vec<u32>,
}

/// A tile with flats that cross its rim. While other tiles are worked on, it holds the cells of flats only.
pub(super) struct FlatTile {
    pub place: Place,
    /// a bit for each cell, set where it belongs to a flat; rows begin with a word of their own
    flat: Vec<u64>,
    /// for each row how many cells of flats lie in rows before it
    before: Vec<u32>,
    /// for each cell of a flat, in row order: where it drains, as far as it is known
    codes: Vec<u8>,
    /// and its steps
    steps: TileSteps,
}

impl FlatTile {
    /// Counts the steps in a tile. Where no flat crosses its rim, the directions are written to
    /// `codes` and nothing is left to do. `codes` is the band of rows that holds the tile, `above` and
    /// `below` are the rows beside it.
    ///
    /// An undecided cell never lies at the footprint's edge, so that it has all eight neighbours; and
    /// undecided neighbours are equally high, since the higher of two would have a direction.
    pub(super) fn begin(
        land: Land<'_>,
        place: Place,
        codes: &mut [u8],
        above: &[u8],
        below: &[u8],
        scratch: &mut Scratch,
        monitor: &dyn Monitor,
    ) -> Result<Option<Self>> {
        scratch.load_codes(land.surface.cols(), &place, codes, above, below);
        let across = place.width + 2;
        let inner = |row: usize| row * across + 1..(row + 1) * across - 1;
        scratch.cells.clear();
        for row in 1..=place.height {
            let cells = inner(row).filter(|&at| scratch.codes[at] == UNDECIDED);
            scratch.cells.extend(cells.map(|at| at as u32));
        }
        if scratch.cells.is_empty() {
            return Ok(None);
        }
        scratch.load_elevations(land, &place);
        let crosses = scratch.find_rims(&place);
        // A tile counts no steps in what lies round it.
        for steps in [&mut scratch.towards, &mut scratch.away] {
            let last = (place.height + 1) * across;
            steps[..across].fill(0);
            steps[last..].fill(0);
            for row in 1..=place.height {
                (steps[row * across], steps[(row + 1) * across - 1]) = (0, 0);
            }
        }
        let Scratch { towards, away, lower_rim, higher_rim, queue, .. } = scratch;
        spread(towards, across, lower_rim, queue, monitor)?;
        spread(away, across, higher_rim, queue, monitor)?;
        if crosses {
            return Ok(Some(Self::of(place, scratch)));
        }
        // The bottom of a closed basin drains to its first cell.
        for &cell in &scratch.cells {
            if scratch.towards[cell as usize] == UNREACHED {
                scratch.codes[cell as usize] = OUTLET;
                scratch.towards[cell as usize] = 1;
                let first = [(1, cell)];
                spread(&mut scratch.towards, across, &first, &mut scratch.queue, monitor)?;
            }
        }
        for &cell in &scratch.cells {
            if let Some(code) =
                code_of(cell as usize, across, &scratch.codes, &scratch.towards, &scratch.away)
            {
                let (row, col) = (cell as usize / across - 1, cell as usize % across - 1);
                codes[row * land.surface.cols() + place.left + col] = code;
            }
        }
        Ok(None)
    }

    /// What is to be remembered of a tile whose steps have been counted.
    fn of(place: Place, scratch: &Scratch) -> Self {
        let across = place.width + 2;
        let words = place.width.div_ceil(64);
        let mut flat = vec![0u64; words * place.height];
        let mut before = vec![0u32; place.height];
        let mut codes = Vec::with_capacity(scratch.cells.len());
        let mut steps = TileSteps::unreached(scratch.cells.len());
        for (slot, &cell) in scratch.cells.iter().enumerate() {
            let at = cell as usize;
            let (row, col) = (at / across - 1, at % across - 1);
            flat[row * words + col / 64] |= 1 << (col % 64);
            codes.push(scratch.codes[at]);
            steps.set(slot, FlatSteps { towards: scratch.towards[at], away: scratch.away[at] });
        }
        let mut sum = 0;
        for (before, words) in before.iter_mut().zip(flat.chunks(words)) {
            *before = sum;
            sum += words.iter().map(|w| w.count_ones()).sum::<u32>();
        }
        Self { place, flat, before, codes, steps }
    }

    /// The place of a cell among those of flats, by its row and column in the tile; none where it belongs to no flat.
    #[inline]
    fn slot(&self, row: usize, col: usize) -> Option<usize> {
        let words = self.place.width.div_ceil(64);
        let line = &self.flat[row * words..(row + 1) * words];
        let (word, bit) = (col / 64, 1u64 << (col % 64));
        if line[word] & bit == 0 {
            return None;
        }
        let earlier: u32 = line[..word].iter().map(|w| w.count_ones()).sum();
        Some((self.before[row] + earlier + (line[word] & (bit - 1)).count_ones()) as usize)
    }

    /// The cells of flats in row order, each with its row and column in the tile.
    fn cells(&self) -> impl Iterator<Item = (usize, usize)> {
        let words = self.place.width.div_ceil(64);
        self.flat.iter().enumerate().flat_map(move |(at, &word)| {
            let left = std::iter::successors(Some(word), |w| Some(w & w.wrapping_sub(1)));
            left.take_while(|w| *w != 0)
                .map(move |w| (at / words, at % words * 64 + w.trailing_zeros() as usize))
        })
    }

    /// Puts the steps, and where cells drain, into lists that have one more cell all round, with 0 steps outside flats.
    fn lay_out(&self, scratch: &mut Scratch) {
        let across = self.place.width + 2;
        let all = across * (self.place.height + 2);
        for steps in [&mut scratch.towards, &mut scratch.away] {
            steps.clear();
            steps.resize(all, 0);
        }
        scratch.codes.clear();
        scratch.codes.resize(all, UNDECIDED);
        scratch.cells.clear();
        for ((row, col), (&code, steps)) in self.cells().zip(self.codes.iter().zip(self.steps.iter())) {
            let at = (row + 1) * across + col + 1;
            scratch.cells.push(at as u32);
            scratch.codes[at] = code;
            (scratch.towards[at], scratch.away[at]) = (steps.towards, steps.away);
        }
    }

    /// Counts on from the steps told at the rims of other tiles.
    pub(super) fn count_on(
        &mut self,
        rims: &Rims,
        scratch: &mut Scratch,
        monitor: &dyn Monitor,
    ) -> Result<()> {
        let across = self.place.width + 2;
        scratch.lower_rim.clear();
        scratch.higher_rim.clear();
        let place = self.place;
        rims.around(&place, |row, col, told| {
            let nearer = |told: u32, steps: u32| told != 0 && told != UNREACHED && steps > told + 1;
            for row in row.saturating_sub(1).max(1)..=(row + 1).min(place.height) {
                for col in col.saturating_sub(1).max(1)..=(col + 1).min(place.width) {
                    let Some(slot) = self.slot(row - 1, col - 1) else { continue };
                    let (known, at) = (self.steps.get(slot), (row * across + col) as u32);
                    let mut steps = known;
                    if nearer(told.towards, known.towards) {
                        steps.towards = told.towards + 1;
                        scratch.lower_rim.push((steps.towards, at));
                    }
                    if nearer(told.away, known.away) {
                        steps.away = told.away + 1;
                        scratch.higher_rim.push((steps.away, at));
                    }
                    if steps != known {
                        self.steps.set(slot, steps);
                    }
                }
            }
        });
        if scratch.lower_rim.is_empty() && scratch.higher_rim.is_empty() {
            return Ok(());
        }
        scratch.lower_rim.sort_unstable();
        scratch.higher_rim.sort_unstable();
        self.lay_out(scratch);
        let Scratch { towards, away, lower_rim, higher_rim, queue, cells, .. } = scratch;
        spread(towards, across, lower_rim, queue, monitor)?;
        spread(away, across, higher_rim, queue, monitor)?;
        for (slot, &at) in cells.iter().enumerate() {
            self.steps.set(slot, FlatSteps { towards: towards[at as usize], away: away[at as usize] });
        }
        Ok(())
    }

    /// Writes the directions of the tile's flats to `codes`, the band of rows that holds it, `cols` long.
    pub(super) fn end(self, rims: &Rims, codes: &mut [u8], cols: usize, scratch: &mut Scratch) {
        let across = self.place.width + 2;
        self.lay_out(scratch);
        rims.around(&self.place, |row, col, told| {
            scratch.towards[row * across + col] = told.towards;
            scratch.away[row * across + col] = told.away;
        });
        for &at in &scratch.cells {
            let at = at as usize;
            if let Some(code) = code_of(at, across, &scratch.codes, &scratch.towards, &scratch.away) {
                let (row, col) = (at / across - 1, at % across - 1);
                codes[row * cols + self.place.left + col] = code;
            }
        }
    }

    /// The steps of a cell, by its row and column in the tile.
    pub(super) fn steps(&self, row: usize, col: usize) -> FlatSteps {
        self.slot(row, col).map_or(FlatSteps::default(), |slot| self.steps.get(slot))
    }

    /// Sets the steps of a cell of a flat, and whether it is the bottom of a closed basin.
    pub(super) fn set(&mut self, row: usize, col: usize, towards: u32, bottom: bool) {
        let Some(slot) = self.slot(row, col) else { return };
        self.steps.set(slot, FlatSteps { towards, ..self.steps.get(slot) });
        if bottom {
            self.codes[slot] = OUTLET;
        }
    }

    /// The cells of flats without a lower rim, by number in the whole grid, which has `cols` columns.
    pub(super) fn unreached(&self, cols: usize) -> impl Iterator<Item = u32> {
        let (top, left) = (self.place.top, self.place.left);
        let all = self.cells().zip(self.steps.iter()).filter(|(_, steps)| steps.towards == UNREACHED);
        all.map(move |((row, col), _)| ((top + row) * cols + left + col) as u32)
    }
}

impl Scratch {
    /// Copies the codes of a tile and of the cells round it.
    fn load_codes(&mut self, cols: usize, place: &Place, codes: &[u8], above: &[u8], below: &[u8]) {
        let across = place.width + 2;
        let (from, to) = (place.left.saturating_sub(1), (place.left + place.width + 1).min(cols));
        let shift = from + 1 - place.left;
        self.codes.clear();
        self.codes.resize((place.height + 2) * across, DIRECTION_NODATA);
        for row in 0..place.height + 2 {
            let line = match row {
                0 => above,
                row if row == place.height + 1 => below,
                row => &codes[(row - 1) * cols..row * cols],
            };
            self.codes[row * across + shift..][..to - from].copy_from_slice(&line[from..to]);
        }
    }

    fn load_elevations(&mut self, land: Land<'_>, place: &Place) {
        let (cols, across) = (land.surface.cols(), place.width + 2);
        let (from, to) = (place.left.saturating_sub(1), (place.left + place.width + 1).min(cols));
        let shift = from + 1 - place.left;
        self.z.clear();
        self.z.resize(self.codes.len(), f32::NAN);
        let top = land.above + place.top;
        for row in top.saturating_sub(1)..(top + place.height + 1).min(land.surface.rows()) {
            self.z[(row + 1 - top) * across + shift..][..to - from]
                .copy_from_slice(&land.surface.values()[row * cols + from..row * cols + to]);
        }
    }

    /// Finds the cells beside lower ground, which get their direction, and those beside higher; whether
    /// a flat goes on beyond the tile.
    fn find_rims(&mut self, place: &Place) -> bool {
        let across = place.width + 2;
        let steps = offsets(across);
        let undecided = |&code: &u8| if code == UNDECIDED { UNREACHED } else { 0 };
        self.towards.clear();
        self.towards.extend(self.codes.iter().map(undecided));
        self.away.clear();
        self.away.extend_from_slice(&self.towards);
        self.lower_rim.clear();
        self.higher_rim.clear();
        let mut crosses = false;
        for &cell in &self.cells {
            let z = self.z[cell as usize];
            let (row, col) = (cell as usize / across, cell as usize % across);
            let rim = row == 1 || row == place.height || col == 1 || col == place.width;
            let (mut exit, mut beside_higher) = (UNDECIDED, false);
            for k in STRAIGHT_FIRST {
                let n = (cell as usize).wrapping_add_signed(steps[k]);
                let other = self.z[n];
                beside_higher |= other > z;
                // Those of flats are told by their steps, as codes change here.
                if self.towards[n] == 0 {
                    if exit == UNDECIDED && other == z {
                        exit = NEIGHBOURS[k].code;
                    }
                } else if rim {
                    let (row, col) = (n / across, n % across);
                    crosses |= row == 0 || row > place.height || col == 0 || col > place.width;
                }
            }
            if exit != UNDECIDED {
                self.codes[cell as usize] = exit;
                self.lower_rim.push((1, cell));
            }
            if beside_higher {
                self.higher_rim.push((1, cell));
            }
        }
        for &(_, cell) in &self.lower_rim {
            self.towards[cell as usize] = 1;
        }
        for &(_, cell) in &self.higher_rim {
            self.away[cell as usize] = 1;
        }
        crosses
    }
}

fn offsets(across: usize) -> [isize; 8] {
    NEIGHBOURS.map(|n| n.rows * across as isize + n.cols)
}

/// The direction of a cell of a flat: known at the lower rim and at a closed basin's bottom, else to the
/// neighbour that is lowest by its steps.
#[inline]
fn code_of(at: usize, across: usize, codes: &[u8], towards: &[u32], away: &[u32]) -> Option<u8> {
    if codes[at] != UNDECIDED {
        return Some(codes[at]);
    }
    // Where nothing is higher, no step leads away from it.
    let height = |at: usize| match away[at] {
        UNREACHED => 2 * towards[at] as i64,
        away => 2 * towards[at] as i64 - away as i64,
    };
    let steps = offsets(across);
    let (mut lowest, mut code) = (height(at), None);
    for k in STRAIGHT_FIRST {
        let n = at.wrapping_add_signed(steps[k]);
        if towards[n] != 0 && height(n) < lowest {
            (lowest, code) = (height(n), Some(NEIGHBOURS[k].code));
        }
    }
    code
}

/// Counts steps on from cells whose steps are known: `from` holds them with their steps, fewest
/// first. Cells at more steps than needed get fewer.
fn spread(
    steps: &mut [u32],
    across: usize,
    from: &[(u32, u32)],
    queue: &mut Vec<u32>,
    monitor: &dyn Monitor,
) -> Result<()> {
    let offsets = offsets(across);
    queue.clear();
    let (mut next, mut next_from) = (0, 0);
    check(monitor)?;
    loop {
        // Two lists, each with the fewest steps first.
        let (queued, known) = (queue.get(next).copied(), from.get(next_from).copied());
        let at = match (queued, known) {
            (None, None) => return Ok(()),
            (Some(cell), None) => {
                next += 1;
                cell as usize
            }
            (Some(cell), Some((known, _))) if steps[cell as usize] <= known => {
                next += 1;
                cell as usize
            }
            (_, Some((known, cell))) => {
                next_from += 1;
                // It may have been reached in fewer steps since.
                if steps[cell as usize] < known {
                    continue;
                }
                cell as usize
            }
        };
        let further = steps[at] + 1;
        for offset in offsets {
            let n = at.wrapping_add_signed(offset);
            if steps[n] > further {
                steps[n] = further;
                queue.push(n as u32);
            }
        }
    }
}
