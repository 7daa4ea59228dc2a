//! Flow directions and flow accumulation.
//!
//! A direction is the D8 code of the neighbour a cell drains to: powers of two clockwise from
//! east, [`OUTLET`] where water leaves the footprint or stays in a closed basin, and
//! [`DIRECTION_NODATA`] outside the footprint.

mod accumulation;
mod accumulation_band;
mod d8;
mod d8_band;
mod dinf;
mod distance;
mod downward;
mod fall;
mod flat_steps;
mod flat_tile;
mod flats;
mod indices;
mod inflows;
mod method;
mod mfd;
mod percentiles;
mod spread;
mod spread_band;
mod thread;

pub use accumulation::{ACCUMULATION_NODATA, flow_accumulation, weighted_accumulation};
pub use accumulation_band::{AccumulatingBand, BandFlow, settle_flow};
pub use d8::{DIRECTION_NODATA, OUTLET, flow_directions, flow_directions_to_outlets};
pub use d8_band::RoutingBand;
pub use dinf::{DINF_OUTLET, dinf_accumulation, dinf_directions};
pub use distance::{distance_to_outlet, distance_to_stream};
pub(crate) use downward::{all_open, from_below};
pub use fall::with_least_fall;
pub use flat_steps::FlatSteps;
pub use indices::{LEAST_SLOPE, height_above_stream, specific_area, stream_power_index, wetness_index};
pub(crate) use inflows::{inflows_of_row, largest_inflow_of_row};
pub(crate) use method::carry_down;
pub use method::{Method, accumulate_by, carried_down};
pub use mfd::{MFD_EXPONENT, mfd_accumulation, mfd_shares};
pub use percentiles::log_percentiles;
pub use spread::{DIVIDED_ROWS, REAL_ACCUMULATION_NODATA};
pub use spread_band::{Divided, Division};
pub use thread::{single_threaded, threads_of};

use rayon::prelude::*;

use crate::{Grid, NEIGHBOURS};

/// The cell that a cell drains to, by number in row order; `None` at an outlet and outside.
///
/// `directions` holds D8 codes that never point beyond the grid, as [`flow_directions`] gives them.
#[inline]
pub fn downstream(directions: &Grid<u8>, index: usize) -> Option<usize> {
    let code = directions.values()[index];
    if code == OUTLET || code == DIRECTION_NODATA {
        return None;
    }
    let n = NEIGHBOURS[code.trailing_zeros() as usize];
    index.checked_add_signed(n.rows * directions.cols() as isize + n.cols)
}

/// The cells that drain straight into a cell.
#[inline]
pub fn upstream(directions: &Grid<u8>, index: usize) -> impl Iterator<Item = usize> {
    directions
        .neighbours(index)
        .filter(|&(k, n)| directions.values()[n] == NEIGHBOURS[(k + 4) % 8].code)
        .map(|(_, n)| n)
}

/// As [`is_cut`], told by looking at each neighbour.
#[cfg(test)]
pub(crate) fn at_edge(directions: &Grid<u8>, index: usize) -> bool {
    directions.neighbours(index).filter(|&(_, n)| directions.values()[n] != DIRECTION_NODATA).count() < 8
}

/// Whether a cell of the footprint lies at its edge: beside nodata or the border of the raster. Three looks at three codes each, for
/// loops over all cells.
#[inline]
pub(crate) fn is_cut(directions: &Grid<u8>, row: usize, col: usize) -> bool {
    let (rows, cols, codes) = (directions.rows(), directions.cols(), directions.values());
    if row == 0 || row + 1 == rows || col == 0 || col + 1 == cols {
        return true;
    }
    let index = row * cols + col;
    [index - cols - 1, index - 1, index + cols - 1]
        .iter()
        .any(|&first| codes[first..first + 3].contains(&DIRECTION_NODATA))
}

/// The cells at the edge of the footprint, by number in row order.
pub(crate) fn edge_of_footprint(directions: &Grid<u8>) -> Vec<u32> {
    let (cols, codes) = (directions.cols(), directions.values());
    let of_row = |(row, line): (usize, &[u8])| {
        let cut = |col: usize| is_cut(directions, row, col);
        let land = line.iter().enumerate().filter(|(_, code)| **code != DIRECTION_NODATA);
        land.filter(|&(col, _)| cut(col)).map(|(col, _)| (row * cols + col) as u32).collect::<Vec<_>>()
    };
    codes.par_chunks(cols.max(1)).enumerate().flat_map_iter(of_row).collect()
}

/// Length of the step from a cell to the one it drains to, in cells.
#[inline]
pub fn step(directions: &Grid<u8>, index: usize) -> f64 {
    match directions.values()[index] {
        OUTLET | DIRECTION_NODATA => 0.0,
        code => NEIGHBOURS[code.trailing_zeros() as usize].distance,
    }
}
