//! Directions over flats: away from higher ground and towards lower.
//!
//! Steps are counted tile by tile, in memory near the processor. Flats that reach beyond a tile are
//! counted on in rounds: each tile tells the steps at its rim, and those whose neighbours told
//! something new count again, until nothing is new.

use rayon::prelude::*;

use super::d8::DIRECTION_NODATA;
use super::flat_tile::{FlatTile, Place, Scratch, Steps, UNREACHED};
use crate::monitor::{Later, SharedPace, check, gather};
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Edge of a tile.
const TILE: usize = 256;

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

fn resolve_in_tiles(
    surface: &Grid<f32>,
    directions: &mut Grid<u8>,
    size: usize,
    monitor: &dyn Monitor,
) -> Result<()> {
    let (rows, cols) = (surface.rows(), surface.cols());
    let (bands, across) = (rows.div_ceil(size), cols.div_ceil(size));
    let row_of = |row: Option<usize>, codes: &[u8]| match row {
        Some(row) if row < rows => codes[row * cols..(row + 1) * cols].to_vec(),
        _ => vec![DIRECTION_NODATA; cols],
    };
    // What lies just outside a band of tiles is read while others may write there: from a copy.
    let beside: Vec<(Vec<u8>, Vec<u8>)> = (0..bands)
        .map(|band| {
            let codes = directions.values();
            (row_of((band * size).checked_sub(1), codes), row_of(Some((band + 1) * size), codes))
        })
        .collect();
    let pace = SharedPace::new(monitor, bands * across * 2);
    // Tiles with flats that cross their rims; all others are done at once.
    let crossing: Vec<Option<FlatTile>> = directions
        .values_mut()
        .par_chunks_mut(size * cols)
        .zip(beside.par_iter())
        .enumerate()
        .map_init(Scratch::default, |scratch, (band, (codes, (above, below)))| {
            (0..across)
                .map(|tile| {
                    pace.advance(1)?;
                    let place = Place::new(surface, band, tile, size);
                    FlatTile::begin(surface, place, codes, above, below, scratch, monitor)
                })
                .collect::<Result<Vec<_>>>()
        })
        .collect::<Result<Vec<_>>>()?
        .into_iter()
        .flatten()
        .collect();
    let mut crossing = Later::new(crossing);
    if crossing.iter().any(Option::is_some) {
        let mut rims = Rims::new(rows, cols, size);
        let news = rims.publish_all(&crossing, |_| true);
        check(monitor)?;
        count_in_rounds(&mut crossing, &mut rims, news, monitor)?;
        drain_closed(&mut crossing, &rims, monitor)?;
        check(monitor)?;
        rims.publish_all(&crossing, |_| true);
        directions
            .values_mut()
            .par_chunks_mut(size * cols)
            .zip(crossing.par_chunks_mut(across))
            .try_for_each_init(Scratch::default, |scratch, (codes, tiles)| {
                for tile in tiles {
                    pace.advance(1)?;
                    if let Some(tile) = tile.take() {
                        tile.end(&rims, codes, cols, scratch);
                    }
                }
                Ok(())
            })?;
    }
    drop(crossing.keep());
    monitor.progress(1.0);
    Ok(())
}

/// Counts on over the rims until no tile has news for its neighbours. `news` tells which tiles have.
fn count_in_rounds(
    tiles: &mut [Option<FlatTile>],
    rims: &mut Rims,
    mut news: Vec<bool>,
    monitor: &dyn Monitor,
) -> Result<()> {
    while news.contains(&true) {
        let concerned = rims.beside(&news);
        tiles.par_iter_mut().zip(concerned.par_iter()).try_for_each_init(
            Scratch::default,
            |scratch, (tile, &concerned)| match tile {
                Some(tile) if concerned => tile.count_on(rims, scratch, monitor),
                _ => Ok(()),
            },
        )?;
        news = rims.publish_all(tiles, |tile| concerned[tile]);
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
    lines: Vec<Steps>,
    /// two columns for each column of tiles
    columns: Vec<Steps>,
}

impl Rims {
    fn new(rows: usize, cols: usize, size: usize) -> Self {
        let lines = vec![Steps::default(); 2 * rows.div_ceil(size) * cols];
        let columns = vec![Steps::default(); 2 * cols.div_ceil(size) * rows];
        Self { rows, cols, size, lines, columns }
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
        let mut tell = |told: &mut Steps, row: usize, col: usize| {
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
    pub(super) fn around(&self, place: &Place, mut each: impl FnMut(usize, usize, Steps)) {
        let (band, column) = (place.top / self.size, place.left / self.size);
        let from = place.left.saturating_sub(1);
        let to = (place.left + place.width + 1).min(self.cols);
        let mut line = |line: usize, row: usize| {
            for col in from..to {
                each(row, col + 1 - place.left, self.lines[line * self.cols + col]);
            }
        };
        if place.top > 0 {
            line(2 * band - 1, 0);
        }
        if place.top + place.height < self.rows {
            line(2 * band + 2, place.height + 1);
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
