//! Directions over flats: away from higher ground and towards lower.

use std::collections::VecDeque;

use super::d8::{OUTLET, UNDECIDED};
use crate::monitor::Pace;
use crate::{Grid, Monitor, NEIGHBOURS, Result};

/// Ties between equally good neighbours: straight ones before diagonal ones.
const STRAIGHT_FIRST: [usize; 8] = [0, 2, 4, 6, 1, 3, 5, 7];
const NO_PLACE: u32 = u32::MAX;

/// Gives a direction to every undecided cell.
///
/// For each flat, two distances are counted in steps: `towards`, from the cells beside its lower
/// rim, and `away`, from the cells beside higher ground. A cell drains to the neighbour in the
/// flat where `2 towards + (greatest away - away)` is smallest. `away` of two neighbours differs
/// by one at most, and some neighbour is one step nearer to the rim, so that the sum falls along
/// every step and there are no cycles.
///
/// # Source
/// Garbrecht and Martz 1997, Journal of Hydrology 193, 204-213; in the form of Barnes, Lehman
/// and Mulla 2014, Computers & Geosciences 62, 128-135.
pub(super) fn resolve_flats(
    surface: &Grid<f32>,
    directions: &mut Grid<u8>,
    monitor: &dyn Monitor,
) -> Result<()> {
    let mut pace = Pace::new(monitor, surface.len());
    // Where a cell stands in the list of its flat.
    let mut place = vec![NO_PLACE; surface.len()];
    let mut flat = Flat::default();
    for start in 0..surface.len() {
        pace.advance(1)?;
        if directions.values()[start] != UNDECIDED || place[start] != NO_PLACE {
            continue;
        }
        flat.gather(start, directions, &mut place, &mut pace)?;
        flat.resolve(surface, directions, &place);
    }
    Ok(())
}

/// One flat: its cells in the order in which they were found, and the two distances of each.
#[derive(Default)]
struct Flat {
    cells: Vec<u32>,
    towards: Vec<u32>,
    away: Vec<u32>,
    queue: VecDeque<u32>,
}

impl Flat {
    fn gather(
        &mut self,
        start: usize,
        directions: &Grid<u8>,
        place: &mut [u32],
        pace: &mut Pace<'_>,
    ) -> Result<()> {
        self.cells.clear();
        self.cells.push(start as u32);
        place[start] = 0;
        let mut next = 0;
        while next < self.cells.len() {
            pace.advance(0)?;
            let index = self.cells[next] as usize;
            next += 1;
            // Undecided neighbours are equally high: the higher of two would have a direction.
            for (_, n) in directions.neighbours(index) {
                if directions.values()[n] == UNDECIDED && place[n] == NO_PLACE {
                    place[n] = self.cells.len() as u32;
                    self.cells.push(n as u32);
                }
            }
        }
        Ok(())
    }

    fn resolve(&mut self, surface: &Grid<f32>, directions: &mut Grid<u8>, place: &[u32]) {
        let z = surface.values()[self.cells[0] as usize];
        let (mut lower_rim, mut higher_rim) = (Vec::new(), Vec::new());
        for (at, &index) in self.cells.iter().enumerate() {
            let (mut beside_exit, mut beside_higher) = (false, false);
            for (_, n) in surface.neighbours(index as usize) {
                beside_exit |= surface.values()[n] == z && place[n] == NO_PLACE;
                beside_higher |= surface.values()[n] > z;
            }
            if beside_exit {
                lower_rim.push(at as u32);
            }
            if beside_higher {
                higher_rim.push(at as u32);
            }
        }

        let exit_of = |index: usize| {
            let (mut exits, mut found) = ([0u8; 8], false);
            for (k, n) in surface.neighbours(index) {
                if surface.values()[n] == z && place[n] == NO_PLACE {
                    exits[k] = NEIGHBOURS[k].code;
                    found = true;
                }
            }
            found.then(|| STRAIGHT_FIRST.iter().map(|&k| exits[k]).find(|&code| code != 0)).flatten()
        };

        let bottom = lower_rim.is_empty();
        if bottom {
            lower_rim.push(0);
        }
        self.spread(&lower_rim, directions, place, Which::Towards);
        self.spread(&higher_rim, directions, place, Which::Away);
        let greatest = self.away.iter().copied().max().unwrap_or(0);
        let height =
            |at: u32| 2 * self.towards[at as usize] as u64 + (greatest - self.away[at as usize]) as u64;

        let mut codes = Vec::with_capacity(self.cells.len());
        for &index in &self.cells {
            let index = index as usize;
            let own = height(place[index]);
            let code = exit_of(index).unwrap_or_else(|| {
                let mut best = (own, OUTLET);
                let mut around = [NO_PLACE; 8];
                for (k, n) in directions.neighbours(index) {
                    if directions.values()[n] == UNDECIDED {
                        around[k] = place[n];
                    }
                }
                for k in STRAIGHT_FIRST {
                    if around[k] != NO_PLACE && height(around[k]) < best.0 {
                        best = (height(around[k]), NEIGHBOURS[k].code);
                    }
                }
                best.1
            });
            codes.push(code);
        }
        if bottom {
            codes[0] = OUTLET;
        }
        for (&index, code) in self.cells.iter().zip(codes) {
            directions.values_mut()[index as usize] = code;
        }
    }

    /// Counts steps from the given cells through the flat; they themselves are at 1.
    fn spread(&mut self, from: &[u32], directions: &Grid<u8>, place: &[u32], which: Which) {
        let mut steps = vec![0u32; self.cells.len()];
        self.queue.clear();
        for &at in from {
            steps[at as usize] = 1;
            self.queue.push_back(at);
        }
        while let Some(at) = self.queue.pop_front() {
            for (_, n) in directions.neighbours(self.cells[at as usize] as usize) {
                if directions.values()[n] == UNDECIDED && steps[place[n] as usize] == 0 {
                    steps[place[n] as usize] = steps[at as usize] + 1;
                    self.queue.push_back(place[n]);
                }
            }
        }
        match which {
            Which::Towards => self.towards = steps,
            Which::Away => self.away = steps,
        }
    }
}

enum Which {
    Towards,
    Away,
}

#[cfg(test)]
mod tests {
    use crate::routing::flow_directions;
    use crate::{Grid, Silent};

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
