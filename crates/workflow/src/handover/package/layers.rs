//! The layers and codes of a package, from what was read.

use bothros_core::catchments::{Labelled, label};
use bothros_core::network::{Network, main_stem_of_cells};
use bothros_core::routing::DIRECTION_NODATA;
use bothros_core::{Cell, Grid, Silent};
use bothros_products::{Placed, STREAM_ORDER, Stem};
use bothros_store::PourPoint;

use super::Ingredients;
use crate::{CatchmentFacts, Result};

/// Strahler orders of stream cells; 0 elsewhere.
pub(super) fn orders(network: &Network, directions: &Grid<u8>) -> Grid<u8> {
    let blank =
        directions.values().iter().map(|&c| if c == DIRECTION_NODATA { STREAM_ORDER.nodata } else { 0 });
    let mut orders = Grid::from_vec(directions.rows(), directions.cols(), blank.collect());
    for reach in &network.reaches {
        for &cell in &reach.cells {
            orders.values_mut()[cell as usize] = reach.strahler;
        }
    }
    orders
}

/// The catchments of all pour points. Two in one cell have the same one; the first gives it its number.
pub(super) fn labelled(directions: &Grid<u8>, points: &[(PourPoint, CatchmentFacts)]) -> Result<Labelled> {
    let mut outlets: Vec<Cell> = Vec::new();
    let mut outlet_of = Vec::new();
    let mut point_of: Vec<u32> = Vec::new();
    for ((_, found), number) in points.iter().zip(1u32..) {
        outlet_of.push(outlets.iter().position(|&cell| cell == found.cell).unwrap_or_else(|| {
            outlets.push(found.cell);
            point_of.push(number);
            outlets.len() - 1
        }));
    }
    let own = label(directions, &outlets, &Silent)?;
    let number = |id: u32| id.checked_sub(1).map_or(0, |at| point_of[at as usize]);
    let (rows, cols) = (directions.rows(), directions.cols());
    let ids = Grid::from_vec(rows, cols, own.ids.values().iter().map(|&id| number(id)).collect());
    Ok(Labelled {
        ids,
        within: outlet_of.iter().map(|&o| own.within[o].map(number)).collect(),
        own_cells: outlet_of.iter().map(|&o| own.own_cells[o]).collect(),
        cells: outlet_of.iter().map(|&o| own.cells[o]).collect(),
        touches_edge: outlet_of.iter().map(|&o| own.touches_edge[o]).collect(),
    })
}

pub(super) fn placed((point, found): &(PourPoint, CatchmentFacts)) -> Placed {
    Placed {
        name: Some(point.name.clone()),
        given: [point.x, point.y],
        cell: found.cell,
        moved_m: found.moved_m,
    }
}

/// The main stem of each catchment, or of each outlet of the network where there is none.
pub(super) fn stems(from: &Ingredients) -> Result<Vec<Stem>> {
    let grids = &from.grids;
    let is_stream = |cell| from.stream_cells.is_stream(from.threshold, cell);
    let outlets: Vec<(Cell, Option<u32>)> = match from.points.is_empty() {
        false => from.points.iter().zip(1..).map(|((_, found), id)| (found.cell, Some(id))).collect(),
        true => {
            let last = from.network.reaches.iter().filter(|r| r.downstream.is_none());
            last.filter_map(|r| Some((grids.directions.cell(*r.cells.last()? as usize), None))).collect()
        }
    };
    let stem = |(outlet, catchment_id)| {
        let cells = main_stem_of_cells(&grids.directions, &grids.accumulation, &is_stream, outlet)?;
        Ok(Stem { cells, catchment_id })
    };
    outlets.into_iter().map(stem).collect()
}
