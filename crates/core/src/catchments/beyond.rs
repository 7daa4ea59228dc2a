//! What a DEM tells of the land beyond its edge that a catchment would need.

use rustc_hash::FxHashSet;

use super::Catchment;
use super::climb::{Waiting, climb, sources};
use super::delineate::edge_cells;
use crate::routing::{DIRECTION_NODATA, step};
use crate::{Area, Cell, Frame, Grid, Result};

/// Land beyond the edge of the footprint from which water may come into a catchment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beyond {
    /// length of the edge across which the ground rises outward, so that water comes in, metres
    pub rising_m: f64,
    /// nine in ten slopes within the catchment reach no farther from the stream they drain to, along the flow, metres
    pub reach_m: f64,
    /// how far the slopes at the edge would go on beyond it to reach as far, at most, metres
    pub strip_m: f64,
    /// the land of that strip
    pub land: Area,
    /// streams whose uppermost cell lies at the edge, where the ground rises outward: what lies behind them the DEM cannot tell
    pub streams: u64,
}

/// Ends of slopes, by their distances from the stream they drain to, metres.
#[derive(Default)]
struct Slopes {
    /// at divides within
    inner: Vec<f64>,
    /// at the edge, once for each side on which the ground rises outward
    edge: Vec<f64>,
    /// streams that begin at the edge
    streams: u64,
}

/// Divides that are needed before a usual reach of slopes can be told.
const FEWEST: usize = 30;

/// The share of slopes that reach no farther than [`Beyond::reach_m`].
const MOST: f64 = 0.9;

/// Estimates the land that a catchment needs beyond the edge of the footprint: as if the slopes that the edge cuts
/// reached as far from their streams as nine in ten slopes within. None where it does not touch the edge, or has too few slopes
/// of its own to tell. An estimate of our own, for deciding how much more DEM to fetch; it is a least one where streams begin
/// at the edge.
///
/// `directions` holds D8 codes without cycles, `ground` the elevations, metres, that they follow; `is_stream` answers by number in
/// row order.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
pub fn beyond(
    directions: &Grid<u8>,
    ground: &Grid<f32>,
    frame: &Frame,
    is_stream: &(dyn Fn(usize) -> bool + Sync),
    catchment: &Catchment,
) -> Result<Option<Beyond>> {
    directions.same_shape(ground)?;
    let outlet = catchment.outlet;
    let edge_cells: FxHashSet<u32> = edge_cells(directions, catchment).into_iter().collect();
    if edge_cells.is_empty() {
        return Ok(None);
    }
    let cell_m = frame.cell_m();
    let visit = |(at, far): Waiting<f64>, found: &mut Slopes, open: &mut Vec<Waiting<f64>>| {
        let at = at as usize;
        let (mut head, mut first) = (true, is_stream(at));
        for n in sources(directions, at) {
            let beside = is_stream(n);
            head = false;
            first &= !beside;
            let on = if beside { 0.0 } else { far + step(directions, n) * cell_m };
            open.push((n as u32, on));
        }
        if edge_cells.contains(&(at as u32)) {
            let sides = rising_sides(directions, ground, at);
            found.streams += u64::from(first && sides > 0);
            found.edge.extend((0..sides).map(|_| far));
        } else if head {
            found.inner.push(far);
        }
    };
    let mut all = Slopes::default();
    for part in climb(vec![(directions.index(outlet) as u32, 0f64)], &visit) {
        all.inner.extend(part.inner);
        all.edge.extend(part.edge);
        all.streams += part.streams;
    }
    let Slopes { inner: mut slopes, mut edge, streams } = all;
    // In an order of their own, so that sums do not depend on the number of threads.
    edge.sort_unstable_by(f64::total_cmp);
    let rising = edge.len() as f64;
    if edge.is_empty() || slopes.len() < FEWEST {
        return Ok(None);
    }
    let nth = ((slopes.len() as f64 * MOST) as usize).min(slopes.len() - 1);
    let (_, &mut reach_m, _) = slopes.select_nth_unstable_by(nth, f64::total_cmp);
    let missing = edge.iter().map(|far| (reach_m - far).max(0.0));
    let (strip_m, land) = missing.fold((0f64, 0f64), |(most, sum), m| (most.max(m), sum + m * cell_m));
    Ok(Some(Beyond { rising_m: rising * cell_m, reach_m, strip_m, land: Area::m2(land), streams }))
}

/// On how many of its four sides a cell at the edge has no land beside it and lies higher than its neighbour opposite.
fn rising_sides(directions: &Grid<u8>, ground: &Grid<f32>, index: usize) -> u64 {
    let cell = ground.cell(index);
    let z = ground.values()[index];
    let beside = |rows: isize, cols: isize| {
        let place = cell.row.checked_add_signed(rows).zip(cell.col.checked_add_signed(cols));
        let cell = place.map(|(row, col)| Cell { row, col });
        let land = cell.filter(|&c| directions.get(c).is_some_and(|&code| code != DIRECTION_NODATA));
        land.and_then(|cell| ground.get(cell).copied()).filter(|z| !z.is_nan())
    };
    let sides = [(-1, 0), (0, 1), (1, 0), (0, -1)];
    let rises = sides.iter().filter(|&&(rows, cols)| {
        beside(rows, cols).is_none() && beside(-rows, -cols).is_some_and(|inner| z > inner)
    });
    rises.count() as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::catchments::delineate;
    use crate::routing::{flow_accumulation, flow_directions};

    /// A valley that falls southwards along the column `stream`, its sides rising to divides `reach` columns away on either side.
    fn valley(rows: usize, from: isize, to: isize, stream: isize) -> (Grid<f32>, Frame) {
        let cols = (to - from) as usize;
        let z = |row: usize, col: isize| 500.0 + (col - stream).abs() as f32 * 4.0 - row as f32;
        let values = (0..rows).flat_map(|r| (from..to).map(move |c| z(r, c))).collect();
        let frame = Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        (Grid::from_vec(rows, cols, values), frame)
    }

    fn told(ground: &Grid<f32>, frame: &Frame, outlet_col: usize, stream_cells: u32) -> Option<Beyond> {
        let directions = flow_directions(ground, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let is_stream = |at: usize| accumulation.values()[at] + 1 >= stream_cells;
        // The last row drains out of the footprint; the catchment ends above it.
        let outlet = Cell { row: frame.rows - 2, col: outlet_col };
        beyond(&directions, ground, frame, &is_stream, &delineate(&directions, outlet).unwrap()).unwrap()
    }

    /// The valley with a ridge at column 40, east of which the ground falls away; of its western side 15 columns are left.
    fn cut() -> (Grid<f32>, Frame) {
        let (ground, frame) = valley(120, -15, 80, 0);
        let values = ground.values().iter().enumerate().map(|(i, &z)| {
            let col = (i % frame.cols) as f32 - 15.0;
            if col > 40.0 { z - 8.0 * (col - 40.0) } else { z }
        });
        (Grid::from_vec(frame.rows, frame.cols, values.collect()), frame)
    }

    #[test]
    fn the_land_that_was_cut_off_is_told_to_a_third() {
        let (ground, frame) = cut();
        let found = told(&ground, &frame, 15, 200).unwrap();
        assert!((390.0..600.0).contains(&found.reach_m), "{found:?}");
        // Sides of 40 columns, of which the western one keeps 15: 25 columns are gone.
        let missing = 25.0 * 10.0 * 118.0 * 10.0;
        let share = found.land.as_m2() / missing;
        assert!((0.66..1.5).contains(&share), "{share} {found:?}");
        assert!(found.rising_m >= 1000.0, "{found:?}");
    }

    #[test]
    fn a_stream_that_begins_at_the_edge_is_counted() {
        let (ground, frame) = cut();
        // What drains to the valley in the first row alone makes a stream there.
        let found = told(&ground, &frame, 15, 40).unwrap();
        assert_eq!(found.streams, 1, "{found:?}");
    }

    #[test]
    fn a_catchment_within_the_dem_needs_nothing() {
        let bowl = |r: f32, c: f32| (r - 20.0).hypot(c - 20.0);
        let values = (0..41 * 41).map(|i| 100.0 - bowl((i / 41) as f32, (i % 41) as f32)).collect();
        let ground = Grid::from_vec(41, 41, values);
        let frame = Frame { rows: 41, cols: 41, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let directions = flow_directions(&ground, &Silent).unwrap();
        let outlet = Cell { row: 10, col: 20 };
        let of = delineate(&directions, outlet).unwrap();
        assert_eq!(beyond(&directions, &ground, &frame, &|_| false, &of).unwrap(), None);
    }
}
