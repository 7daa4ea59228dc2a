//! Many catchments at once: one pass over the grid, however they nest.

use rayon::prelude::*;

use super::{Coverage, MultiPolygon, label};
use crate::routing::edge_of_footprint;
use crate::{Cell, Frame, Grid, Monitor, Part, Result};

/// A catchment without its cells.
#[derive(Debug, Clone, PartialEq)]
pub struct Outlined {
    /// number of cells
    pub cells: u64,
    /// its cells at the edge of the footprint
    pub edge_cells: u64,
    /// length of its divide along the edges of cells, metres
    pub perimeter_m: f64,
    /// its outline
    pub polygons: MultiPolygon,
}

/// Delineates the catchments of all outlets, which may lie in each other and in one cell. With `coarse`, outlines lose corners,
/// but lie nowhere farther than so many cells from the edges of cells.
///
/// # Errors
/// [`Error::OutsideFootprint`](crate::Error::OutsideFootprint) for an outlet without a direction;
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// ```
/// use bothros_core::catchments::delineate_many;
/// use bothros_core::{Cell, Frame, Grid, Silent};
/// let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
/// let frame = Frame { rows: 1, cols: 6, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let outlets = [Cell { row: 0, col: 4 }, Cell { row: 0, col: 2 }];
/// let found = delineate_many(&directions, &outlets, &frame, None, &Silent)?;
/// assert_eq!((found[0].cells, found[0].perimeter_m, found[1].cells), (5, 12.0, 3));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn delineate_many(
    directions: &Grid<u8>,
    outlets: &[Cell],
    frame: &Frame,
    coarse: Option<f64>,
    monitor: &dyn Monitor,
) -> Result<Vec<Outlined>> {
    let mut distinct = outlets.to_vec();
    distinct.sort_unstable_by_key(|c| (c.row, c.col));
    distinct.dedup();
    let found = label(directions, &distinct, &Part::new(monitor, 0.0, 0.5))?;
    let exact = Coverage::of(&found.ids, frame);
    let lines = coarse.map(|cells| exact.coarse(cells));
    let lines = lines.as_ref().unwrap_or(&exact);
    let mut edge = vec![0u64; distinct.len()];
    for index in edge_of_footprint(directions) {
        if let Some(at) = (found.ids.values()[index as usize] as usize).checked_sub(1) {
            edge[at] += 1;
        }
    }
    // Each with all that lie in it.
    let mut inner: Vec<Vec<u32>> = vec![Vec::new(); distinct.len()];
    for at in 0..distinct.len() {
        let mut holder = Some(at as u32 + 1);
        while let Some(id) = holder {
            inner[id as usize - 1].push(at as u32 + 1);
            holder = found.within[id as usize - 1];
        }
    }
    let one = |at: usize| {
        let all: std::collections::HashSet<u32> = inner[at].iter().copied().collect();
        let inside = |id: u32| all.contains(&id);
        Outlined {
            cells: found.cells[at],
            edge_cells: inner[at].iter().map(|&id| edge[id as usize - 1]).sum(),
            perimeter_m: exact.perimeter_m(&inside),
            polygons: lines.outline(&inside),
        }
    };
    let all: Vec<Outlined> = (0..distinct.len()).into_par_iter().map(one).collect();
    monitor.progress(1.0);
    let place = |cell: &Cell| distinct.binary_search_by_key(&(cell.row, cell.col), |c| (c.row, c.col));
    Ok(outlets.iter().filter_map(|cell| place(cell).ok()).map(|at| all[at].clone()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::routing::DIRECTION_NODATA;
    use crate::routing::flow_directions;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn at_once_is_as_one_by_one(dem in any_terrain(14), picks in prop::collection::vec(0usize..196, 0..7)) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 2.0, unit_m: 1.0 };
            let outlets: Vec<Cell> = picks.into_iter()
                .filter(|&i| i < dem.len() && !dem.values()[i].is_nan()).map(|i| dem.cell(i)).collect();
            let all = delineate_many(&directions, &outlets, &frame, None, &Silent).unwrap();
            prop_assert_eq!(all.len(), outlets.len());
            for (found, &outlet) in all.iter().zip(&outlets) {
                let one = delineate(&directions, outlet).unwrap();
                let outline = one.outline(&frame);
                prop_assert_eq!((found.cells, found.edge_cells), (one.cells, one.edge_cells));
                prop_assert_eq!(found.perimeter_m, outline.perimeter_m);
                prop_assert_eq!(found.polygons.len(), outline.polygons.len());
            }
        }
    }

    #[test]
    fn an_outlet_beyond_the_footprint_is_refused() {
        let directions = Grid::from_vec(1, 2, vec![0, DIRECTION_NODATA]);
        let frame = Frame { rows: 1, cols: 2, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
        let cell = Cell { row: 0, col: 1 };
        assert!(delineate_many(&directions, &[cell], &frame, None, &Silent).is_err());
    }
}
