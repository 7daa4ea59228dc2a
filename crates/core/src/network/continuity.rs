//! Continuity of a network: its pieces, and why each ends where it does.

use serde::{Deserialize, Serialize};

use super::Network;
use crate::routing::DIRECTION_NODATA;
use crate::{Area, Cell, Grid, NEIGHBOURS};

/// Why a piece of a network ends where it does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ending {
    /// it leaves at the border of the raster
    Border,
    /// it ends beside cells without an elevation: the rim of the footprint, or a void that was kept
    NoElevation,
    /// it ends inside: in a sink that was left, or at the bottom of a closed basin
    Sink,
}

/// Streams that lead to one outlet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Piece {
    /// where it ends
    pub outlet: Cell,
    /// why there
    pub ending: Ending,
    /// number of its reaches
    pub reaches: usize,
    /// length of all, metres
    pub length_m: f64,
    /// contributing area at the outlet
    pub contributing: Area,
}

/// The pieces of a network, the largest contributing area first. `directions` (D8 codes) are those that the
/// network was drawn with.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, Threshold, network::{Ending, extract, pieces}, routing::flow_accumulation};
/// // Water runs into the middle from the west, and out at the border in the east.
/// let directions = Grid::from_vec(3, 5, vec![
///     2, 4, 8, 1, 0,
///     1, 0, 16, 1, 0,
///     128, 64, 32, 1, 0]);
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let ground = Grid::filled(3, 5, 1.0);
/// let frame = Frame { rows: 3, cols: 5, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let network = extract(&directions, &accumulation, &ground, &frame, Threshold::cells(2), &Silent)?;
/// let found = pieces(&network, &directions);
/// assert_eq!((found.len(), found[0].ending, found[0].contributing.as_m2()), (4, Ending::Sink, 9.0));
/// assert!(found[1..].iter().all(|p| p.ending == Ending::Border));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn pieces(network: &Network, directions: &Grid<u8>) -> Vec<Piece> {
    // What flows on has a smaller magnitude than what it flows into, or the same and less area.
    let mut order: Vec<usize> = (0..network.reaches.len()).collect();
    order.sort_by(|&a, &b| {
        let (a, b) = (&network.reaches[a], &network.reaches[b]);
        a.shreve.cmp(&b.shreve).then(a.contributing.as_m2().total_cmp(&b.contributing.as_m2()))
    });
    let mut held: Vec<(usize, f64)> = network.reaches.iter().map(|r| (1, r.length_m)).collect();
    let mut found = Vec::new();
    for at in order {
        let reach = &network.reaches[at];
        let (reaches, length_m) = held[at];
        match reach.downstream {
            Some(next) => {
                let next = &mut held[next as usize - 1];
                *next = (next.0 + reaches, next.1 + length_m);
            }
            None => {
                let outlet = directions.cell(reach.cells[reach.cells.len() - 1] as usize);
                found.push(Piece {
                    outlet,
                    ending: ending(directions, outlet),
                    reaches,
                    length_m,
                    contributing: reach.contributing,
                });
            }
        }
    }
    found.sort_by(|a, b| {
        b.contributing.as_m2().total_cmp(&a.contributing.as_m2()).then(a.outlet.cmp(&b.outlet))
    });
    found
}

fn ending(directions: &Grid<u8>, outlet: Cell) -> Ending {
    let mut ending = Ending::Sink;
    for n in NEIGHBOURS {
        let place = outlet.row.checked_add_signed(n.rows).zip(outlet.col.checked_add_signed(n.cols));
        match place.and_then(|(row, col)| directions.get(Cell { row, col })) {
            None => return Ending::Border,
            Some(&DIRECTION_NODATA) => ending = Ending::NoElevation,
            Some(_) => {}
        }
    }
    ending
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Frame, Silent, Threshold};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn pieces_hold_the_whole_network(dem in any_terrain(16), filled in any::<bool>(), cells in 1u32..12) {
            let surface = if filled { fill(&dem, &Silent).unwrap() } else { dem };
            let directions = flow_directions(&surface, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let frame = Frame { rows: surface.rows(), cols: surface.cols(), left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let network = extract(&directions, &accumulation, &surface, &frame, Threshold::cells(cells), &Silent).unwrap();
            let found = pieces(&network, &directions);
            prop_assert_eq!(found.iter().map(|p| p.reaches).sum::<usize>(), network.reaches.len());
            prop_assert!((found.iter().map(|p| p.length_m).sum::<f64>() - network.length_m()).abs() < 1e-6);
            // A filled surface drains to the rim of its footprint everywhere.
            prop_assert!(!filled || found.iter().all(|p| p.ending != Ending::Sink));
        }
    }
}
