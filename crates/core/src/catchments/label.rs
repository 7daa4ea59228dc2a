//! Catchments of any number of outlets in one pass.

use std::sync::atomic::Ordering::Relaxed;

use rayon::prelude::*;

use crate::routing::{DIRECTION_NODATA, OUTLET, all_open, downstream, edge_of_footprint, from_below};
use crate::{Cell, Error, Grid, Monitor, Result};

/// The cells of many catchments, nested ones included.
#[derive(Debug, Clone, PartialEq)]
pub struct Labelled {
    /// for each cell the innermost catchment that holds it: the place of its outlet in the list,
    /// from 1; 0 outside all
    pub ids: Grid<u32>,
    /// for each outlet, the catchment that it lies in, by place from 1; `None` for an outermost one
    pub within: Vec<Option<u32>>,
    /// for each outlet, the cells that reach it before any other outlet: of the sub-basin between it
    /// and the next outlets upstream
    pub own_cells: Vec<u64>,
    /// for each outlet, all cells of its catchment, those of nested ones included
    pub cells: Vec<u64>,
    /// for each outlet, whether its whole catchment touches the edge of the footprint
    pub touches_edge: Vec<bool>,
}

impl Labelled {
    /// No catchment.
    fn none(rows: usize, cols: usize) -> Self {
        let ids = Grid::filled(rows, cols, 0);
        Self { ids, within: vec![], own_cells: vec![], cells: vec![], touches_edge: vec![] }
    }
}

/// Finds, for each cell, the first of `outlets` that it meets on its way downstream, itself included.
///
/// `directions` holds D8 codes without cycles. Each cell is looked at once, however many outlets
/// there are and however they nest; all cores share the work. With the last cell of every reach as outlets the result is the
/// sub-basins of a network; with all cells that have the code 0 it is the basins of the footprint.
///
/// # Errors
/// [`Error::OutsideFootprint`] for an outlet without a direction; [`Error::SameOutlet`] where two
/// are one cell; [`Error::Cancelled`].
///
/// ```
/// use bothros_core::{Cell, Grid, Silent, catchments::label};
/// let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
/// let outlets = [Cell { row: 0, col: 4 }, Cell { row: 0, col: 2 }];
/// let found = label(&directions, &outlets, &Silent)?;
/// assert_eq!(found.ids.values(), [2, 2, 2, 1, 1, 0]);
/// assert_eq!((found.within, found.own_cells, found.cells), (vec![None, Some(1)], vec![2, 3], vec![5, 3]));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn label(directions: &Grid<u8>, outlets: &[Cell], monitor: &dyn Monitor) -> Result<Labelled> {
    directions.numbered()?;
    const OPEN: u32 = u32::MAX;
    if outlets.is_empty() {
        monitor.progress(1.0);
        return Ok(Labelled::none(directions.rows(), directions.cols()));
    }
    let ids = all_open(directions.len(), OPEN);
    for (at, &outlet) in outlets.iter().enumerate() {
        match directions.get(outlet) {
            Some(&code) if code != DIRECTION_NODATA => {}
            _ => return Err(Error::OutsideFootprint(outlet)),
        }
        let id = &ids[directions.index(outlet)];
        if id.load(Relaxed) != OPEN {
            return Err(Error::SameOutlet(outlet));
        }
        id.store(at as u32 + 1, Relaxed);
    }
    let ids = from_below(ids, OPEN, |at| downstream(directions, at), |_| 0, |_, id| id, monitor)?;
    let mut own_cells = vec![0u64; outlets.len()];
    let mut touches_edge = vec![false; outlets.len()];
    // A list of counts for each thread, since there may be many outlets.
    let part = ids.len().div_ceil(rayon::current_num_threads()).max(1);
    let counted = ids.par_chunks(part).map(|ids| {
        let mut own = vec![0u64; outlets.len()];
        for at in ids.iter().filter_map(|&id| (id as usize).checked_sub(1)) {
            own[at] += 1;
        }
        own
    });
    for part in counted.collect::<Vec<_>>() {
        own_cells.iter_mut().zip(part).for_each(|(sum, more)| *sum += more);
    }
    for index in edge_of_footprint(directions) {
        if let Some(at) = (ids[index as usize] as usize).checked_sub(1) {
            touches_edge[at] = true;
        }
    }
    let ids = Grid::from_vec(directions.rows(), directions.cols(), ids);
    let within: Vec<Option<u32>> = outlets
        .iter()
        .map(|&outlet| {
            let next = downstream(directions, directions.index(outlet))?;
            Some(ids.values()[next]).filter(|&id| id != 0)
        })
        .collect();
    // What lies in a catchment counts for all that hold it: from the innermost out.
    let mut cells = own_cells.clone();
    for at in inner_first(&within) {
        if let Some(outer) = within[at] {
            cells[outer as usize - 1] += cells[at];
            touches_edge[outer as usize - 1] |= touches_edge[at];
        }
    }
    monitor.progress(1.0);
    Ok(Labelled { ids, within, own_cells, cells, touches_edge })
}

/// An order in which every catchment comes before the one that holds it.
fn inner_first(within: &[Option<u32>]) -> Vec<usize> {
    let mut waiting = vec![0u32; within.len()];
    for outer in within.iter().flatten() {
        waiting[*outer as usize - 1] += 1;
    }
    let mut order: Vec<usize> = (0..within.len()).filter(|&at| waiting[at] == 0).collect();
    let mut next = 0;
    while let Some(&at) = order.get(next) {
        next += 1;
        if let Some(outer) = within[at] {
            let outer = outer as usize - 1;
            waiting[outer] -= 1;
            if waiting[outer] == 0 {
                order.push(outer);
            }
        }
    }
    order
}

/// All cells where water leaves the footprint or stays: the outlets of its basins, in row order.
pub fn outlets_of_footprint(directions: &Grid<u8>) -> Vec<Cell> {
    let is_outlet = |&i: &usize| directions.values()[i] == OUTLET;
    (0..directions.len()).filter(is_outlet).map(|i| directions.cell(i)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Frame, Silent, Threshold};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn one_pass_gives_what_one_by_one_gives(dem in any_terrain(14), picks in prop::collection::btree_set(0usize..196, 1..6)) {
            let directions = flow_directions(&fill(&dem, &Silent).unwrap(), &Silent).unwrap();
            let outlets: Vec<Cell> = picks.into_iter()
                .filter(|&i| i < dem.len() && !dem.values()[i].is_nan()).map(|i| dem.cell(i)).collect();
            let found = label(&directions, &outlets, &Silent).unwrap();
            let single: Vec<_> = outlets.iter().map(|&o| delineate(&directions, o).unwrap()).collect();
            for (at, catchment) in single.iter().enumerate() {
                prop_assert_eq!(found.cells[at], catchment.cells);
                prop_assert_eq!(found.touches_edge[at], catchment.touches_edge());
            }
            for i in 0..dem.len() {
                // The smallest that holds the cell is the innermost.
                let inner = single.iter().enumerate().filter(|(_, c)| c.contains(dem.cell(i)))
                    .min_by_key(|(_, c)| c.cells).map_or(0, |(at, _)| at as u32 + 1);
                prop_assert_eq!(found.ids.values()[i], inner);
            }
        }

        #[test]
        fn sub_basins_and_basins_add_up(dem in any_terrain(16), cells in 1u32..12) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
            let network = extract(&directions, &accumulation, &filled, &frame, Threshold::cells(cells), &Silent).unwrap();
            let ends: Vec<Cell> = network.reaches.iter().map(|r| dem.cell(r.cells[r.cells.len() - 1] as usize)).collect();
            let found = label(&directions, &ends, &Silent).unwrap();
            for (reach, (cells, within)) in network.reaches.iter().zip(found.cells.iter().zip(&found.within)) {
                prop_assert_eq!(*cells as f64, reach.contributing.as_m2());
                prop_assert_eq!(*within, reach.downstream);
            }
            let all = label(&directions, &outlets_of_footprint(&directions), &Silent).unwrap();
            prop_assert_eq!(all.cells.iter().sum::<u64>() as usize, dem.values().iter().filter(|z| !z.is_nan()).count());
        }
    }

    #[test]
    fn what_is_no_outlet_is_refused() {
        let directions = Grid::from_vec(1, 3, vec![1, 0, DIRECTION_NODATA]);
        let cell = |col| Cell { row: 0, col };
        assert_eq!(label(&directions, &[cell(2)], &Silent), Err(Error::OutsideFootprint(cell(2))));
        assert_eq!(label(&directions, &[cell(1), cell(1)], &Silent), Err(Error::SameOutlet(cell(1))));
    }
}
