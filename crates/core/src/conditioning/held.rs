//! Adding up what sinks hold, cell by cell.

use super::trees::NOBODY;

/// Cells that a sink holds.
#[derive(Debug, Clone, Copy)]
pub(super) struct Held {
    /// its place on the paths
    pub place: u32,
    pub cells: u32,
    /// of their elevations
    pub sum: f64,
}

/// Number of sinks remembered.
const RECENT: usize = 256;

/// Adds up cells by sinks. Those seen lately are remembered; one that gives way to another is put aside,
/// and may come again. Cells from the lowest up ask for places that lie side by side.
pub(super) struct Recent {
    slots: Vec<Held>,
    aside: Vec<Held>,
}

impl Default for Recent {
    fn default() -> Self {
        Self { slots: vec![Held { place: NOBODY, cells: 0, sum: 0.0 }; RECENT], aside: Vec::new() }
    }
}

impl Recent {
    pub(super) fn add(&mut self, place: u32, z: f32) {
        let slot = &mut self.slots[place as usize % RECENT];
        if slot.place != place {
            if slot.cells > 0 {
                self.aside.push(*slot);
            }
            *slot = Held { place, cells: 0, sum: 0.0 };
        }
        slot.cells += 1;
        slot.sum += z as f64;
    }

    /// All that was added.
    pub(super) fn all(mut self) -> Vec<Held> {
        self.aside.extend(self.slots.into_iter().filter(|held| held.cells > 0));
        self.aside
    }
}
