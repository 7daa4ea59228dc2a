//! Directions over flats: away from higher ground and towards lower.
//!
//! Steps are counted tile by tile, in memory near the processor. Flats that reach beyond a tile are
//! counted on in rounds: each tile tells the steps at its rim, and those whose neighbours told
//! something new count again, until nothing is new.

use rayon::prelude::*;

use super::d8::DIRECTION_NODATA;
use super::flat_steps::{FlatSteps, UNREACHED};
use super::flat_tile::{FlatTile, Land, Place, Scratch};
use crate::monitor::{Later, SharedPace, check, gather};
use crate::{Grid, Monitor, NEIGHBOURS, Result, Rim};

/// Edge of a tile.
pub(super) const TILE: usize = 256;

/// Gives a direction to every undecided cell.
///
/// For each flat, two distances are counted in steps: `towards`, from the cells beside its lower
/// rim, and `away`, from the cells beside higher ground. A cell drains to the neighbour in the
/// flat where `2 towards - away` is smallest. `away` of two neighbours differs by one at most, and
/// some neighbour is one step nearer to the rim, so that this falls along every step and there are no
/// cycles.
///
/// Distances are what they are, in whatever order they are found: the result does not depend on the
/// number of threads or on the tiles.
///
/// # Source
/// Garbrecht and Martz 1997, Journal of Hydrology 193, 204-213; in the form of Barnes, Lehman
/// and Mulla 2014, Computers & Geosciences 62, 128-135.
pub(super) fn resolve_flats(
    surface: &Grid<f32>,
    directions: &mut Grid<u8>,
    monitor: &dyn Monitor,
) -> Result<()> {
    resolve_in_tiles(surface, directions, TILE, monitor)
}

/// What lies beside the rows whose flats are resolved, where others resolve it: directions, none where the grid ends.
#[derive(Default)]
pub(super) struct Beyond<'a> {
    pub above: Option<&'a [u8]>,
    pub below: Option<&'a [u8]>,
}

fn resolve_in_tiles(
    surface: &Grid<f32>,
    directions: &mut Grid<u8>,
    size: usize,
    monitor: &dyn Monitor,
) -> Result<()> {
    let land = Land { surface, above: 0, rows: surface.rows() };
    let mut flats = Flats::begin(land, directions.values_mut(), &Beyond::default(), size, monitor)?;
    flats.drain_closed(monitor)?;
    flats.end(directions.values_mut(), monitor)
}

/// Flats of some rows, of which those that cross the rims of tiles are not resolved yet.
pub(super) struct Flats {
    /// tiles with flats that cross their rims; all others are done at once
    crossing: Later<Vec<Option<FlatTile>>>,
    rims: Rims,
}

impl Flats {
    /// Begins with flats in tiles of `size`; `directions` are those of the rows, to which the flats within a tile are written.
    pub(super) fn begin(
        land: Land<'_>,
        directions: &mut [u8],
        beyond: &Beyond<'_>,
        size: usize,
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        let (rows, cols) = (land.rows, land.surface.cols());
        let (bands, across) = (rows.div_ceil(size), cols.div_ceil(size));
        let row_of = |row: usize| directions[row * cols..(row + 1) * cols].to_vec();
        let told =
            |beside: Option<&[u8]>| beside.map_or_else(|| vec![DIRECTION_NODATA; cols], <[u8]>::to_vec);
        // What lies just outside a band of tiles is read while others may write there: from a copy.
        let beside: Vec<(Vec<u8>, Vec<u8>)> = (0..bands)
            .map(|band| {
                let above = (band * size).checked_sub(1).map_or_else(|| told(beyond.above), row_of);
                let below = (band + 1) * size;
                (above, if below < rows { row_of(below) } else { told(beyond.below) })
            })
            .collect();
        let pace = SharedPace::new(monitor, bands * across * 2);
        let crossing: Vec<Option<FlatTile>> = directions
            .par_chunks_mut(size * cols)
            .zip(beside.par_iter())
            .enumerate()
            .map_init(Scratch::default, |scratch, (band, (codes, (above, below)))| {
                (0..across)
                    .map(|tile| {
                        pace.advance(1)?;
                        let place = Place::new(land, band, tile, size);
                        FlatTile::begin(land, place, codes, above, below, scratch, monitor)
                    })
                    .collect::<Result<Vec<_>>>()
            })
            .collect::<Result<Vec<_>>>()?
            .into_iter()
            .flatten()
            .collect();
        let mut flats = Self { crossing: Later::new(crossing), rims: Rims::new(rows, cols, size) };
        if flats.cross() {
            let news = flats.rims.publish_all(&flats.crossing, |_| true);
            check(monitor)?;
            let concerned = flats.rims.beside(&news);
            count_in_rounds(&mut flats.crossing, &mut flats.rims, concerned, monitor)?;
        }
        Ok(flats)
    }

    fn cross(&self) -> bool {
        self.crossing.iter().any(Option::is_some)
    }

    /// The steps of the cells in the first and in the last row.
    pub(super) fn rim(&self) -> Rim<FlatSteps> {
        self.rims.ends()
    }

    /// Counts on from the steps told of the rows above and below, none where the grid ends.
    pub(super) fn count_on(
        &mut self,
        (above, below): (Option<&[FlatSteps]>, Option<&[FlatSteps]>),
        monitor: &dyn Monitor,
    ) -> Result<()> {
        self.rims.above = above.map(<[FlatSteps]>::to_vec);
        self.rims.below = below.map(<[FlatSteps]>::to_vec);
        let mut concerned = vec![false; self.crossing.len()];
        self.rims.mark_ends(&mut concerned);
        count_in_rounds(&mut self.crossing, &mut self.rims, concerned, monitor)
    }

    /// Flats that reach no lower rim, only where the surface was not filled.
    fn drain_closed(&mut self, monitor: &dyn Monitor) -> Result<()> {
        drain_closed(&mut self.crossing, &self.rims, monitor)?;
        check(monitor)?;
        self.rims.publish_all(&self.crossing, |_| true);
        Ok(())
    }

    /// Writes the directions of the flats that cross rims.
    pub(super) fn end(mut self, directions: &mut [u8], monitor: &dyn Monitor) -> Result<()> {
        if self.cross() {
            let Self { crossing, rims } = &mut self;
            let (across, cols, size) = (rims.across(), rims.cols, rims.size);
            let pace = SharedPace::new(monitor, 2 * crossing.len());
            directions.par_chunks_mut(size * cols).zip(crossing.par_chunks_mut(across)).try_for_each_init(
                Scratch::default,
                |scratch, (codes, tiles)| {
                    for tile in tiles {
                        pace.advance(1)?;
                        if let Some(tile) = tile.take() {
                            tile.end(rims, codes, cols, scratch);
                        }
                    }
                    Ok(())
                },
            )?;
        }
        drop(self.crossing.keep());
        monitor.progress(1.0);
        Ok(())
    }
}

/// Counts on over the rims until no tile has news for its neighbours. `concerned` tells which tiles are to begin.
fn count_in_rounds(
    tiles: &mut [Option<FlatTile>],
    rims: &mut Rims,
    mut concerned: Vec<bool>,
    monitor: &dyn Monitor,
) -> Result<()> {
    while concerned.contains(&true) {
        tiles.par_iter_mut().zip(concerned.par_iter()).try_for_each_init(
            Scratch::default,
            |scratch, (tile, &concerned)| match tile {
                Some(tile) if concerned => tile.count_on(rims, scratch, monitor),
                _ => Ok(()),
            },
        )?;
        let news = rims.publish_all(tiles, |tile| concerned[tile]);
        concerned = rims.beside(&news);
    }
    Ok(())
}

/// Flats that reach no lower rim, only where the surface was not filled: each drains to its first cell
/// in row order.
fn drain_closed(tiles: &mut [Option<FlatTile>], rims: &Rims, monitor: &dyn Monitor) -> Result<()> {
    let mut closed: Vec<u32> =
        gather(tiles, 0, monitor, |_, tile| tile.iter().flat_map(|tile| tile.unreached(rims.cols)))?;
    closed.par_sort_unstable();
    let mut queue: Vec<u32> = Vec::new();
    for first in closed {
        if rims.steps_at(tiles, first) != Some(UNREACHED) {
            continue;
        }
        rims.set(tiles, first, 1, true);
        queue.clear();
        queue.push(first);
        let mut next = 0;
        while let Some(&cell) = queue.get(next) {
            if next & 0xFFFF == 0 {
                check(monitor)?;
            }
            next += 1;
            let steps = rims.steps_at(tiles, cell).unwrap_or(0) + 1;
            // A cell of a flat never lies at the border, so that it has all eight neighbours.
            for n in NEIGHBOURS {
                let n = cell.wrapping_add_signed((n.rows * rims.cols as isize + n.cols) as i32);
                if rims.steps_at(tiles, n) == Some(UNREACHED) {
                    rims.set(tiles, n, steps, false);
                    queue.push(n);
                }
            }
        }
    }
    Ok(())
}

/// The steps of the cells at the tiles' rims, as they were told last.
pub(super) struct Rims {
    rows: usize,
    cols: usize,
    size: usize,
    /// two rows for each row of tiles: their first and their last
    lines: Vec<FlatSteps>,
    /// two columns for each column of tiles
    columns: Vec<FlatSteps>,
    /// what was told of the rows above all tiles and below them
    above: Option<Vec<FlatSteps>>,
    below: Option<Vec<FlatSteps>>,
}

impl Rims {
    fn new(rows: usize, cols: usize, size: usize) -> Self {
        let lines = vec![FlatSteps::default(); 2 * rows.div_ceil(size) * cols];
        let columns = vec![FlatSteps::default(); 2 * cols.div_ceil(size) * rows];
        Self { rows, cols, size, lines, columns, above: None, below: None }
    }

    /// The steps of the first and the last row of all tiles.
    fn ends(&self) -> Rim<FlatSteps> {
        let (cols, lines) = (self.cols, &self.lines);
        Rim { first: lines[..cols].to_vec(), last: lines[lines.len() - cols..].to_vec() }
    }

    /// Marks the tiles beside rows that others told of.
    fn mark_ends(&self, tiles: &mut [bool]) {
        let across = self.across();
        if self.above.is_some() {
            tiles[..across].fill(true);
        }
        if self.below.is_some() {
            let last = tiles.len() - across;
            tiles[last..].fill(true);
        }
    }

    fn across(&self) -> usize {
        self.cols.div_ceil(self.size)
    }

    /// Takes down the rims of those tiles that are `wanted`; for each tile whether something is new.
    fn publish_all(&mut self, tiles: &[Option<FlatTile>], wanted: impl Fn(usize) -> bool) -> Vec<bool> {
        let mut news = vec![false; tiles.len()];
        for (number, tile) in tiles.iter().enumerate() {
            if let Some(tile) = tile.as_ref().filter(|_| wanted(number)) {
                news[number] = self.publish(tile);
            }
        }
        news
    }

    fn publish(&mut self, tile: &FlatTile) -> bool {
        let place = tile.place;
        let mut new = false;
        let mut tell = |told: &mut FlatSteps, row: usize, col: usize| {
            let steps = tile.steps(row, col);
            new |= *told != steps;
            *told = steps;
        };
        let (band, column) = (place.top / self.size, place.left / self.size);
        for (line, row) in [(2 * band, 0), (2 * band + 1, place.height - 1)] {
            let told = &mut self.lines[line * self.cols + place.left..][..place.width];
            told.iter_mut().enumerate().for_each(|(col, told)| tell(told, row, col));
        }
        for (line, col) in [(2 * column, 0), (2 * column + 1, place.width - 1)] {
            let told = &mut self.columns[line * self.rows + place.top..][..place.height];
            told.iter_mut().enumerate().for_each(|(row, told)| tell(told, row, col));
        }
        new
    }

    /// The tiles beside those marked.
    fn beside(&self, marked: &[bool]) -> Vec<bool> {
        let across = self.across();
        let mut beside = vec![false; marked.len()];
        for number in (0..marked.len()).filter(|&number| marked[number]) {
            let (row, col) = (number / across, number % across);
            for row in row.saturating_sub(1)..=(row + 1).min(marked.len() / across - 1) {
                for col in col.saturating_sub(1)..=(col + 1).min(across - 1) {
                    beside[row * across + col] |= (row, col) != (number / across, number % across);
                }
            }
        }
        beside
    }

    /// Calls `each` for every cell just outside a tile: its row and column in the tile's memory, which
    /// has one more cell all round, and its steps.
    pub(super) fn around(&self, place: &Place, mut each: impl FnMut(usize, usize, FlatSteps)) {
        let (band, column) = (place.top / self.size, place.left / self.size);
        let from = place.left.saturating_sub(1);
        let to = (place.left + place.width + 1).min(self.cols);
        let line = |line: usize| Some(&self.lines[line * self.cols..(line + 1) * self.cols]);
        let goes_on = place.top + place.height < self.rows;
        let above = if place.top > 0 { line(2 * band - 1) } else { self.above.as_deref() };
        let below = if goes_on { line(2 * band + 2) } else { self.below.as_deref() };
        for (row, told) in [(0, above), (place.height + 1, below)] {
            let Some(told) = told else { continue };
            for (at, &steps) in told[from..to].iter().enumerate() {
                each(row, from + at + 1 - place.left, steps);
            }
        }
        let mut down = |line: usize, col: usize| {
            for row in 0..place.height {
                each(row + 1, col, self.columns[line * self.rows + place.top + row]);
            }
        };
        if place.left > 0 {
            down(2 * column - 1, 0);
        }
        if place.left + place.width < self.cols {
            down(2 * column + 2, place.width + 1);
        }
    }

    /// The tile of a cell, and the cell's row and column there.
    fn locate(&self, cell: u32) -> (usize, usize, usize) {
        let (row, col) = (cell as usize / self.cols, cell as usize % self.cols);
        let tile = row / self.size * self.across() + col / self.size;
        (tile, row % self.size, col % self.size)
    }

    fn steps_at(&self, tiles: &[Option<FlatTile>], cell: u32) -> Option<u32> {
        let (tile, row, col) = self.locate(cell);
        Some(tiles[tile].as_ref()?.steps(row, col).towards)
    }

    fn set(&self, tiles: &mut [Option<FlatTile>], cell: u32, steps: u32, bottom: bool) {
        let (tile, row, col) = self.locate(cell);
        if let Some(tile) = &mut tiles[tile] {
            tile.set(row, col, steps, bottom);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::d8::undecided_directions;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn tiles_of_any_size_give_the_same(dem in any_terrain(24), tile in 1usize..9, filled in any::<bool>()) {
            let surface = if filled { fill(&dem, &Silent).unwrap() } else { dem };
            let mut in_tiles = undecided_directions(&surface, &Silent).unwrap();
            let mut at_once = in_tiles.clone();
            resolve_in_tiles(&surface, &mut in_tiles, tile, &Silent).unwrap();
            resolve_in_tiles(&surface, &mut at_once, 1000, &Silent).unwrap();
            prop_assert_eq!(in_tiles, at_once);
        }
    }

    /// The worked example of Garbrecht and Martz: a 7 x 7 window with a 5 x 5 flat, higher
    /// ground all round but for one lower cell in the middle of the southern rim. Restated
    /// from memory of the paper's figure; flow must converge on the axis of the outlet.
    #[test]
    fn flow_converges_away_from_the_rim() {
        let dem = Grid::from_fn(7, 7, |c| match (c.row, c.col) {
            (6, 3) => 5.0,
            (1..=5, 1..=5) => 6.0,
            _ => 7.0,
        });
        let codes = flow_directions(&dem, &Silent).unwrap();
        let at = |row: usize, col: usize| codes.values()[row * 7 + col];
        assert_eq!(at(5, 3), 4, "over the lower rim");
        assert_eq!((at(3, 3), at(4, 3)), (4, 4), "down the axis");
        assert_eq!((at(1, 1), at(1, 5)), (2, 8), "corners drain diagonally inwards");
        for row in 1..=5 {
            for col in 1..=2 {
                assert!([1, 2, 4, 128].contains(&at(row, col)), "west half never flows west");
            }
            for col in 4..=5 {
                assert!([4, 8, 16, 32].contains(&at(row, col)), "east half never flows east");
            }
        }
    }
}
