//! One tile of a grid with flats: steps towards lower and away from higher ground.

use super::d8::{DIRECTION_NODATA, OUTLET, UNDECIDED};
use super::flats::Rims;
use crate::monitor::check;
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Ties between equally good neighbours: straight ones before diagonal ones.
const STRAIGHT_FIRST: [usize; 8] = [0, 2, 4, 6, 1, 3, 5, 7];
/// The steps of a cell of a flat that no step has reached; 0 are those of cells outside flats.
pub(super) const UNREACHED: u32 = u32::MAX;

/// Where a tile lies.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    pub top: usize,
    pub left: usize,
    pub height: usize,
    pub width: usize,
}

impl Place {
    /// The tile of `size` cells at a row and column of tiles.
    pub(super) fn new(surface: &Grid<f32>, row: usize, col: usize, size: usize) -> Self {
        let (top, left) = (row * size, col * size);
        Self { top, left, height: size.min(surface.rows() - top), width: size.min(surface.cols() - left) }
    }
}

/// How many steps a cell lies from a cell beside lower ground, and from one beside higher.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Steps {
    pub towards: u32,
    pub away: u32,
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

/// A tile with flats that cross its rim. Its lists have one more cell all round.
pub(super) struct FlatTile {
    pub place: Place,
    /// where a cell drains, as far as it is known
    codes: Vec<u8>,
    towards: Vec<u32>,
    away: Vec<u32>,
}

impl FlatTile {
    /// Counts the steps in a tile. Where no flat crosses its rim, the directions are written to
    /// `codes` and nothing is left to do. `codes` is the band of rows that holds the tile, `above` and
    /// `below` are the rows beside it.
    ///
    /// An undecided cell never lies at the footprint's edge, so that it has all eight neighbours; and
    /// undecided neighbours are equally high, since the higher of two would have a direction.
    pub(super) fn begin(
        surface: &Grid<f32>,
        place: Place,
        codes: &mut [u8],
        above: &[u8],
        below: &[u8],
        scratch: &mut Scratch,
        monitor: &dyn Monitor,
    ) -> Result<Option<Self>> {
        scratch.load_codes(surface, &place, codes, above, below);
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
        scratch.load_elevations(surface, &place);
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
            let Scratch { codes, towards, away, .. } = scratch;
            let [towards, away] = [towards, away].map(std::mem::take);
            return Ok(Some(Self { place, codes: std::mem::take(codes), towards, away }));
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
                codes[row * surface.cols() + place.left + col] = code;
            }
        }
        Ok(None)
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
        let (height, width) = (self.place.height, self.place.width);
        rims.around(&self.place, |row, col, told| {
            for (told, steps, seeds) in [
                (told.towards, &mut self.towards, &mut scratch.lower_rim),
                (told.away, &mut self.away, &mut scratch.higher_rim),
            ] {
                if told == 0 || told == UNREACHED {
                    continue;
                }
                for row in row.saturating_sub(1).max(1)..=(row + 1).min(height) {
                    for col in col.saturating_sub(1).max(1)..=(col + 1).min(width) {
                        let at = row * across + col;
                        if steps[at] > told + 1 {
                            steps[at] = told + 1;
                            seeds.push((told + 1, at as u32));
                        }
                    }
                }
            }
        });
        scratch.lower_rim.sort_unstable();
        scratch.higher_rim.sort_unstable();
        spread(&mut self.towards, across, &scratch.lower_rim, &mut scratch.queue, monitor)?;
        spread(&mut self.away, across, &scratch.higher_rim, &mut scratch.queue, monitor)
    }

    /// Writes the directions of the tile's flats to `codes`, the band of rows that holds it, `cols` long.
    pub(super) fn end(mut self, rims: &Rims, codes: &mut [u8], cols: usize) {
        let across = self.place.width + 2;
        rims.around(&self.place, |row, col, told| {
            self.towards[row * across + col] = told.towards;
            self.away[row * across + col] = told.away;
        });
        for row in 0..self.place.height {
            let out = &mut codes[row * cols + self.place.left..][..self.place.width];
            for (col, out) in out.iter_mut().enumerate() {
                let at = (row + 1) * across + col + 1;
                if self.towards[at] != 0
                    && let Some(code) = code_of(at, across, &self.codes, &self.towards, &self.away)
                {
                    *out = code;
                }
            }
        }
    }

    fn at(&self, row: usize, col: usize) -> usize {
        (row + 1) * (self.place.width + 2) + col + 1
    }

    /// The steps of a cell, by its row and column in the tile.
    pub(super) fn steps(&self, row: usize, col: usize) -> Steps {
        let at = self.at(row, col);
        Steps { towards: self.towards[at], away: self.away[at] }
    }

    /// Sets the steps of a cell, and whether it is the bottom of a closed basin.
    pub(super) fn set(&mut self, row: usize, col: usize, towards: u32, bottom: bool) {
        let at = self.at(row, col);
        self.towards[at] = towards;
        if bottom {
            self.codes[at] = OUTLET;
        }
    }

    /// The cells of flats without a lower rim, by number in the whole grid, which has `cols` columns.
    pub(super) fn unreached(&self, cols: usize) -> impl Iterator<Item = u32> {
        let across = self.place.width + 2;
        self.towards.iter().enumerate().filter(|&(_, &steps)| steps == UNREACHED).map(move |(at, _)| {
            ((self.place.top + at / across - 1) * cols + self.place.left + at % across - 1) as u32
        })
    }
}

impl Scratch {
    /// Copies the codes of a tile and of the cells round it.
    fn load_codes(&mut self, surface: &Grid<f32>, place: &Place, codes: &[u8], above: &[u8], below: &[u8]) {
        let (cols, across) = (surface.cols(), place.width + 2);
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

    fn load_elevations(&mut self, surface: &Grid<f32>, place: &Place) {
        let (cols, across) = (surface.cols(), place.width + 2);
        let (from, to) = (place.left.saturating_sub(1), (place.left + place.width + 1).min(cols));
        let shift = from + 1 - place.left;
        self.z.clear();
        self.z.resize(self.codes.len(), f32::NAN);
        for row in place.top.saturating_sub(1)..(place.top + place.height + 1).min(surface.rows()) {
            self.z[(row + 1 - place.top) * across + shift..][..to - from]
                .copy_from_slice(&surface.values()[row * cols + from..row * cols + to]);
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
