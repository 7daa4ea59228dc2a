//! Steps over flats, and how those of a tile are kept.

use serde::{Deserialize, Serialize};

/// The steps of a cell of a flat that no step has reached; 0 are those of cells outside flats.
pub(super) const UNREACHED: u32 = u32::MAX;

/// How many steps a cell of a flat lies from a cell beside lower ground, and from one beside higher: 0 outside flats, the
/// largest number where none was counted yet.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FlatSteps {
    /// from lower ground
    pub towards: u32,
    /// from higher ground
    pub away: u32,
}

/// The steps of a tile's cells of flats, in 16 bits each as long as they fit: on a large DEM they are what takes most memory.
pub(super) enum TileSteps {
    Narrow(Vec<[u16; 2]>),
    Wide(Vec<FlatSteps>),
}

/// [`UNREACHED`] in 16 bits.
const NARROW_UNREACHED: u16 = u16::MAX;

fn narrow(steps: FlatSteps) -> Option<[u16; 2]> {
    let one = |steps: u32| match steps {
        UNREACHED => Some(NARROW_UNREACHED),
        steps => u16::try_from(steps).ok().filter(|&steps| steps != NARROW_UNREACHED),
    };
    Some([one(steps.towards)?, one(steps.away)?])
}

fn wide([towards, away]: [u16; 2]) -> FlatSteps {
    let one = |steps: u16| if steps == NARROW_UNREACHED { UNREACHED } else { u32::from(steps) };
    FlatSteps { towards: one(towards), away: one(away) }
}

impl TileSteps {
    /// So many cells that no step has reached.
    pub fn unreached(cells: usize) -> Self {
        Self::Narrow(vec![[NARROW_UNREACHED; 2]; cells])
    }

    #[inline]
    pub fn get(&self, slot: usize) -> FlatSteps {
        match self {
            Self::Narrow(all) => wide(all[slot]),
            Self::Wide(all) => all[slot],
        }
    }

    #[inline]
    pub fn set(&mut self, slot: usize, steps: FlatSteps) {
        match self {
            Self::Wide(all) => all[slot] = steps,
            Self::Narrow(all) => match narrow(steps) {
                Some(steps) => all[slot] = steps,
                None => {
                    let mut all: Vec<FlatSteps> = all.iter().map(|&steps| wide(steps)).collect();
                    all[slot] = steps;
                    *self = Self::Wide(all);
                }
            },
        }
    }

    /// Those of all cells, in their order.
    pub fn iter(&self) -> impl Iterator<Item = FlatSteps> {
        let cells = match self {
            Self::Narrow(all) => all.len(),
            Self::Wide(all) => all.len(),
        };
        (0..cells).map(|slot| self.get(slot))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_of_any_number_are_kept() {
        let pairs = [(0, 0), (1, UNREACHED), (65_534, 2), (UNREACHED, UNREACHED)];
        let steps = |(towards, away): (u32, u32)| FlatSteps { towards, away };
        let mut kept = TileSteps::unreached(pairs.len());
        for (slot, pair) in pairs.into_iter().enumerate() {
            kept.set(slot, steps(pair));
        }
        assert!(matches!(kept, TileSteps::Narrow(_)));
        assert!(kept.iter().eq(pairs.map(steps)));
        // One that takes more room widens all.
        kept.set(1, steps((65_535, 70_000)));
        assert!(matches!(kept, TileSteps::Wide(_)));
        let expected = [(0, 0), (65_535, 70_000), (65_534, 2), (UNREACHED, UNREACHED)];
        assert!(kept.iter().eq(expected.map(steps)));
        kept.set(0, steps((7, 8)));
        assert_eq!(kept.get(0), steps((7, 8)));
    }
}
