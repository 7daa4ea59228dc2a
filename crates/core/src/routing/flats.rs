//! Directions over flats: away from higher ground and towards lower.

use rayon::prelude::*;

use super::d8::{DIRECTION_NODATA, OUTLET, UNDECIDED};
use crate::monitor::{SharedPace, check};
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Ties between equally good neighbours: straight ones before diagonal ones.
const STRAIGHT_FIRST: [usize; 8] = [0, 2, 4, 6, 1, 3, 5, 7];
/// Edge of the tiles that are worked by themselves, in memory near the processor; flats that reach
/// beyond wait until all are done.
const TILE: usize = 256;
/// An undecided cell just outside a tile.
const BEYOND: u8 = 252;

/// Gives a direction to every undecided cell.
///
/// For each flat, two distances are counted in steps: `towards`, from the cells beside its lower
/// rim, and `away`, from the cells beside higher ground. A cell drains to the neighbour in the
/// flat where `2 towards + (greatest away - away)` is smallest. `away` of two neighbours differs
/// by one at most, and some neighbour is one step nearer to the rim, so that the sum falls along
/// every step and there are no cycles.
///
/// Each flat is worked by itself, so that the result does not depend on the number of threads.
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
    tile: usize,
    monitor: &dyn Monitor,
) -> Result<()> {
    let (rows, cols) = (surface.rows(), surface.cols());
    let row_of = |row: Option<usize>, codes: &[u8]| match row {
        Some(row) if row < rows => codes[row * cols..(row + 1) * cols].to_vec(),
        _ => vec![DIRECTION_NODATA; cols],
    };
    // What lies just outside a band of tiles is read while others may write there: from a copy.
    let rims: Vec<(Vec<u8>, Vec<u8>)> = (0..rows.div_ceil(tile))
        .map(|at| {
            let codes = directions.values();
            (row_of((at * tile).checked_sub(1), codes), row_of(Some((at + 1) * tile), codes))
        })
        .collect();
    let pace = SharedPace::new(monitor, rims.len() + rims.len() / 4);
    let waiting: Vec<Vec<u32>> = directions
        .values_mut()
        .par_chunks_mut((tile * cols).max(1))
        .zip(rims.par_iter())
        .enumerate()
        .map_init(Flat::default, |flat, (at, (codes, (above, below)))| {
            pace.advance(1)?;
            let mut waiting = Vec::new();
            for left in (0..cols).step_by(tile) {
                check(monitor)?;
                let place = TilePlace { top: at * tile, left, right: (left + tile).min(cols) };
                flat.resolve_tile(surface, place, codes, above, below, &mut waiting, monitor)?;
            }
            Ok(waiting)
        })
        .collect::<Result<_>>()?;
    // The first cell of a flat in row order is the one that it is gathered from.
    let mut waiting = waiting.concat();
    waiting.sort_unstable();
    let crossing = gather_all(directions, &waiting, monitor)?;
    let place = crossing.place;
    let whole = Window { z: surface.values(), cols };
    let resolved: Vec<Vec<u8>> = crossing
        .flats
        .par_iter()
        .map_init(Flat::default, |flat, cells| {
            check(monitor)?;
            flat.resolve(&whole, cells, &place, monitor)?;
            Ok(std::mem::take(&mut flat.codes))
        })
        .collect::<Result<_>>()?;
    for (cells, codes) in crossing.flats.iter().zip(resolved) {
        for (&cell, code) in cells.iter().zip(codes) {
            directions.values_mut()[cell as usize] = code;
        }
    }
    monitor.progress(1.0);
    Ok(())
}

/// Flats gathered before any is resolved.
struct Gathered {
    flats: Vec<Vec<u32>>,
    /// for each cell of a flat, its place in the flat's list, from 1; 0 elsewhere
    place: Vec<u32>,
}

fn gather_all(directions: &Grid<u8>, starts: &[u32], monitor: &dyn Monitor) -> Result<Gathered> {
    // Zeroed memory that nobody touches costs nothing.
    let mut place = vec![0u32; if starts.is_empty() { 0 } else { directions.len() }];
    let mut flats = Vec::new();
    for &start in starts {
        if place[start as usize] == 0 {
            let mut cells = Vec::new();
            gather(directions.values(), directions.cols(), start, &mut place, &mut cells, monitor)?;
            flats.push(cells);
        }
    }
    Ok(Gathered { flats, place })
}

/// Lists the cells of a flat from its first one, in the order in which they are found; whether it goes
/// on beyond the tile.
///
/// An undecided cell never lies at the footprint's edge, so that it has all eight neighbours; and
/// undecided neighbours are equally high, since the higher of two would have a direction.
fn gather(
    codes: &[u8],
    cols: usize,
    start: u32,
    place: &mut [u32],
    cells: &mut Vec<u32>,
    monitor: &dyn Monitor,
) -> Result<bool> {
    let steps = offsets(cols);
    let mut crosses = false;
    cells.clear();
    cells.push(start);
    place[start as usize] = 1;
    let mut next = 0;
    while next < cells.len() {
        let index = cells[next] as usize;
        next += 1;
        look(next, monitor)?;
        for step in steps {
            let n = index.wrapping_add_signed(step);
            crosses |= codes[n] == BEYOND;
            if codes[n] == UNDECIDED && place[n] == 0 {
                cells.push(n as u32);
                place[n] = cells.len() as u32;
            }
        }
    }
    Ok(crosses)
}

fn offsets(cols: usize) -> [isize; 8] {
    NEIGHBOURS.map(|n| n.rows * cols as isize + n.cols)
}

/// Elevations, numbered as the cells of a list are.
struct Window<'a> {
    z: &'a [f32],
    cols: usize,
}

/// Where a tile lies: its first row, its first column and the column after its last.
struct TilePlace {
    top: usize,
    left: usize,
    right: usize,
}

/// Memory for one flat, used again from flat to flat.
#[derive(Default)]
struct Flat {
    /// a tile with one more cell all round: elevations and codes
    tile_z: Vec<f32>,
    tile_codes: Vec<u8>,
    place: Vec<u32>,
    cells: Vec<u32>,
    /// the result: a code for each cell
    codes: Vec<u8>,
    towards: Vec<u32>,
    away: Vec<u32>,
    lower_rim: Vec<u32>,
    higher_rim: Vec<u32>,
    queue: Vec<u32>,
}

impl Flat {
    /// Resolves the flats that lie in a tile by themselves, and adds to `waiting` the first cell in
    /// the tile of each that does not, by number in the whole grid. `codes` is the band of rows
    /// that holds the tile, `above` and `below` are the rows beside it.
    #[allow(clippy::too_many_arguments)]
    fn resolve_tile(
        &mut self,
        surface: &Grid<f32>,
        at: TilePlace,
        codes: &mut [u8],
        above: &[u8],
        below: &[u8],
        waiting: &mut Vec<u32>,
        monitor: &dyn Monitor,
    ) -> Result<()> {
        let (cols, height, width) = (surface.cols(), codes.len() / surface.cols(), at.right - at.left + 2);
        let mut tile = std::mem::take(&mut self.tile_codes);
        let mut z = std::mem::take(&mut self.tile_z);
        let mut place = std::mem::take(&mut self.place);
        let mut cells = std::mem::take(&mut self.cells);
        tile.clear();
        tile.resize((height + 2) * width, DIRECTION_NODATA);
        z.clear();
        z.resize(tile.len(), f32::NAN);
        place.clear();
        place.resize(tile.len(), 0);
        let (from, to) = (at.left.saturating_sub(1), (at.right + 1).min(cols));
        let shift = from + 1 - at.left;
        for row in 0..height + 2 {
            let line = match row {
                0 => above,
                row if row == height + 1 => below,
                row => &codes[(row - 1) * cols..row * cols],
            };
            let tile = &mut tile[row * width + shift..][..to - from];
            tile.copy_from_slice(&line[from..to]);
            if let Some(row) = (at.top + row).checked_sub(1).filter(|&row| row < surface.rows()) {
                z[(row + 1 - at.top) * width + shift..][..to - from]
                    .copy_from_slice(&surface.values()[row * cols + from..row * cols + to]);
            }
        }
        // Those in the ring round the tile belong to others.
        let mark = |code: &mut u8| *code = if *code == UNDECIDED { BEYOND } else { *code };
        let last = (height + 1) * width;
        tile[..width].iter_mut().for_each(mark);
        tile[last..].iter_mut().for_each(mark);
        for row in 1..=height {
            mark(&mut tile[row * width]);
            mark(&mut tile[(row + 1) * width - 1]);
        }

        let window = Window { z: &z, cols: width };
        for row in 1..=height {
            for col in 1..width - 1 {
                let start = row * width + col;
                if tile[start] != UNDECIDED || place[start] != 0 {
                    continue;
                }
                if gather(&tile, width, start as u32, &mut place, &mut cells, monitor)? {
                    waiting.push(((at.top + row - 1) * cols + at.left + col - 1) as u32);
                    continue;
                }
                self.resolve(&window, &cells, &place, monitor)?;
                for (&cell, &code) in cells.iter().zip(&self.codes) {
                    tile[cell as usize] = code;
                }
            }
        }
        for row in 1..=height {
            codes[(row - 1) * cols + at.left..(row - 1) * cols + at.right]
                .copy_from_slice(&tile[row * width + 1..(row + 1) * width - 1]);
        }
        (self.tile_codes, self.tile_z, self.place, self.cells) = (tile, z, place, cells);
        Ok(())
    }

    /// Finds a code for each of `cells`, whose places in that list `place` holds.
    fn resolve(
        &mut self,
        window: &Window<'_>,
        cells: &[u32],
        place: &[u32],
        monitor: &dyn Monitor,
    ) -> Result<()> {
        let steps = offsets(window.cols);
        let z = window.z[cells[0] as usize];
        self.codes.clear();
        self.lower_rim.clear();
        self.higher_rim.clear();
        for (at, &index) in cells.iter().enumerate() {
            look(at, monitor)?;
            let (mut exit, mut beside_higher) = (OUTLET, false);
            for k in STRAIGHT_FIRST {
                let n = (index as usize).wrapping_add_signed(steps[k]);
                let other = window.z[n];
                beside_higher |= other > z;
                if exit == OUTLET && other == z && place[n] == 0 {
                    exit = NEIGHBOURS[k].code;
                }
            }
            self.codes.push(exit);
            if exit != OUTLET {
                self.lower_rim.push(at as u32);
            }
            if beside_higher {
                self.higher_rim.push(at as u32);
            }
        }
        // The bottom of a closed basin drains to its first cell.
        if self.lower_rim.is_empty() {
            self.lower_rim.push(0);
        }
        if self.lower_rim.len() == cells.len() {
            return Ok(());
        }
        spread(&self.lower_rim, cells, place, &steps, &mut self.queue, &mut self.towards, monitor)?;
        spread(&self.higher_rim, cells, place, &steps, &mut self.queue, &mut self.away, monitor)?;
        let greatest = self.away.iter().copied().max().unwrap_or(0);
        // Both distances in one number: the height of the cell in the flat.
        for (towards, away) in self.towards.iter_mut().zip(&self.away) {
            *towards = 2 * *towards + (greatest - away);
        }
        let heights = &self.towards;
        let first_is_bottom = self.codes[0] == OUTLET && self.lower_rim == [0];
        for (at, &index) in cells.iter().enumerate() {
            look(at, monitor)?;
            if self.codes[at] != OUTLET || (at == 0 && first_is_bottom) {
                continue;
            }
            let (mut lowest, mut code) = (heights[at], OUTLET);
            for k in STRAIGHT_FIRST {
                let n = place[(index as usize).wrapping_add_signed(steps[k])] as usize;
                if n != 0 && heights[n - 1] < lowest {
                    (lowest, code) = (heights[n - 1], NEIGHBOURS[k].code);
                }
            }
            self.codes[at] = code;
        }
        Ok(())
    }
}

/// Counts steps from the given cells through the flat; they themselves are at 1.
fn spread(
    from: &[u32],
    cells: &[u32],
    place: &[u32],
    offsets: &[isize; 8],
    queue: &mut Vec<u32>,
    steps: &mut Vec<u32>,
    monitor: &dyn Monitor,
) -> Result<()> {
    steps.clear();
    steps.resize(cells.len(), 0);
    queue.clear();
    queue.extend_from_slice(from);
    for &at in from {
        steps[at as usize] = 1;
    }
    let mut next = 0;
    while next < queue.len() {
        look(next, monitor)?;
        let at = queue[next] as usize;
        next += 1;
        for &offset in offsets {
            let n = place[(cells[at] as usize).wrapping_add_signed(offset)] as usize;
            if n != 0 && steps[n - 1] == 0 {
                steps[n - 1] = steps[at] + 1;
                queue.push(n as u32 - 1);
            }
        }
    }
    Ok(())
}

/// Looks whether the work was cancelled, once in many cells: a flat may be as large as a sea.
#[inline]
fn look(number: usize, monitor: &dyn Monitor) -> Result<()> {
    if number & 0xFFFF == 0xFFFF { check(monitor) } else { Ok(()) }
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
