//! Where water may come from beyond the edge of the footprint.

use crate::Grid;
use crate::routing::{OUTLET, downstream, edge_of_footprint};

/// Which cells have land at the edge of the footprint upstream of them, themselves included: what drains to them is a least value, as water from beyond may be missing. Water
/// that leaves at the edge does not count: beyond an outlet lies downstream land.
///
/// `directions` holds D8 codes without cycles.
///
/// ```
/// use bothros_core::{Grid, catchments::below_edge};
/// // A cell in the middle drains out to the east, and so does one at the western edge below it.
/// let directions = Grid::from_vec(4, 4, vec![0, 0, 0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 0, 0, 0, 0]);
/// let marked = below_edge(&directions);
/// assert!(!marked.values()[5] && !marked.values()[6], "nothing from the edge comes there");
/// assert!(marked.values()[8] && marked.values()[9] && marked.values()[10]);
/// ```
pub fn below_edge(directions: &Grid<u8>) -> Grid<bool> {
    let codes = directions.values();
    let at_edge = edge_of_footprint(directions);
    let begin = at_edge.into_iter().map(|at| at as usize).filter(|&at| codes[at] != OUTLET);
    let mut marked = Grid::filled(directions.rows(), directions.cols(), false);
    for start in begin {
        let mut at = start;
        while !std::mem::replace(&mut marked.values_mut()[at], true) {
            let Some(next) = downstream(directions, at) else { break };
            at = next;
        }
    }
    marked
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::routing::{DIRECTION_NODATA, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_cell_is_marked_where_its_catchment_has_an_edge_beside_outlets(dem in any_terrain(12)) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let marked = below_edge(&directions);
            for at in (0..dem.len()).filter(|&at| directions.values()[at] != DIRECTION_NODATA) {
                let catchment = delineate(&directions, dem.cell(at)).unwrap();
                // Of its cells at the edge the outlet does not count where water leaves there.
                let own = u64::from(directions.values()[at] == OUTLET);
                prop_assert!(catchment.edge_cells <= own || marked.values()[at], "{at}");
                prop_assert!(catchment.edge_cells > 0 || !marked.values()[at], "{at}");
            }
        }
    }
}
