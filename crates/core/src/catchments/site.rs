//! Sites and reservoirs: where water enters a polygon, crosses it, and leaves.

use std::collections::HashMap;

use super::Outline;
use crate::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA, downstream, upstream};
use crate::{Cell, Error, Frame, Grid, Result, cells_within};

/// A place where water enters.
#[derive(Debug, Clone, PartialEq)]
pub struct Inflow {
    /// the last cell outside
    pub cell: Cell,
    /// the first cell inside
    pub inside: Cell,
    /// cells that drain to the last cell outside, itself counted
    pub cells: u64,
    /// of them those that drain from the site itself: water that left it and comes back
    pub again: u64,
    /// the way across, by number in row order: from the last cell outside to the first one outside again, or to where it ends
    pub way: Vec<u32>,
    /// the place of the outflow that it leaves by, in the list of outflows; `None` where it ends inside
    pub leaves: Option<usize>,
}

/// A place where water leaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outflow {
    /// the last cell inside
    pub cell: Cell,
    /// the first cell outside; `None` where the footprint or the flow ends there
    pub outside: Option<Cell>,
    /// cells that drain to the last cell inside, itself counted
    pub cells: u64,
}

/// A stretch of a site's rim, between inflows, with what comes to it spread out.
#[derive(Debug, Clone, PartialEq)]
pub struct Side {
    /// places along the rim, CRS units
    pub line: Vec<[f64; 2]>,
    /// its length along the edges of cells, metres
    pub length_m: f64,
    /// cells that drain across it, other than at inflows
    pub cells: u64,
}

/// What water does at a polygon.
#[derive(Debug, Clone, PartialEq)]
pub struct Site {
    /// cells of the footprint in it
    pub own_cells: u64,
    /// where water enters, the largest contributing area first
    pub inflows: Vec<Inflow>,
    /// cells that drain to it in smaller amounts than an inflow; what left it before does not count
    pub spread_cells: u64,
    /// where water leaves, the largest first; those by which an inflow leaves, and all that are as large as an inflow has to be
    pub outflows: Vec<Outflow>,
    /// stretches of its rim between inflows that water comes to, the one with the most first
    pub sides: Vec<Side>,
}

impl Site {
    /// All cells that drain to it from outside. What left it before does not count again.
    pub fn entering_cells(&self) -> u64 {
        let inflows: u64 = self.inflows.iter().map(|i| i.cells - i.again.min(i.cells)).sum();
        inflows + self.spread_cells
    }
}

/// Finds where water enters and leaves the cells whose centres lie in polygons of `[x, y]` in CRS units. Inflows are
/// places where at least `least_cells` drain to the last cell outside.
///
/// # Errors
/// [`Error::OutsideFootprint`] where no cell of the footprint lies in it; [`Error::ShapeMismatch`].
///
/// ```
/// use bothros_core::catchments::site;
/// use bothros_core::{Cell, Frame, Grid};
/// let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
/// let accumulation = Grid::from_vec(1, 6, vec![0, 1, 2, 3, 4, 5]);
/// let frame = Frame { rows: 1, cols: 6, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let square = vec![vec![[2.0, 0.0], [4.0, 0.0], [4.0, 1.0], [2.0, 1.0], [2.0, 0.0]]];
/// let found = site(&[square], 1, &directions, &accumulation, &frame)?;
/// assert_eq!((found.inflows[0].cell.col, found.inflows[0].cells, found.own_cells), (1, 2, 2));
/// assert_eq!((found.outflows[0].cell.col, found.outflows[0].cells), (3, 4));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn site(
    polygons: &[Vec<Vec<[f64; 2]>>],
    least_cells: u64,
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
) -> Result<Site> {
    directions.same_shape(accumulation)?;
    let known = |cell: &Cell| directions.values()[directions.index(*cell)] != DIRECTION_NODATA;
    let mut cells: Vec<Cell> = cells_within(polygons, frame).into_iter().filter(known).collect();
    cells.sort_unstable_by_key(|c| (c.row, c.col));
    cells.dedup();
    let Some(&first) = cells.first() else {
        return Err(Error::OutsideFootprint(Cell { row: usize::MAX, col: usize::MAX }));
    };
    let land = Land::of(&cells, first, directions);
    let area = |index: usize| match accumulation.values()[index] {
        ACCUMULATION_NODATA => 0,
        upstream => u64::from(upstream) + 1,
    };
    let (mut entries, mut exits) = (Vec::new(), Vec::new());
    for &cell in &cells {
        let index = directions.index(cell);
        for n in upstream(directions, index).filter(|&n| !land.holds(n)) {
            entries.push((n, index));
        }
        match downstream(directions, index) {
            Some(next) if land.holds(next) => {}
            next => exits.push((index, next)),
        }
    }
    let returns = returning(&land, &exits, directions, &area);
    exits.sort_unstable_by_key(|&(index, _)| (std::cmp::Reverse(area(index)), index));
    entries.sort_unstable_by_key(|&(outside, _)| (std::cmp::Reverse(area(outside)), outside));
    let place_of: HashMap<usize, usize> = exits.iter().enumerate().map(|(at, exit)| (exit.0, at)).collect();
    let mut used = vec![false; exits.len()];
    let mut inflows = Vec::new();
    let large = entries.partition_point(|&(outside, _)| area(outside) >= least_cells.max(1));
    for &(outside, inside) in &entries[..large] {
        let mut way = vec![outside as u32];
        let (mut at, mut leaves) = (inside, None);
        loop {
            way.push(at as u32);
            if let Some(&exit) = place_of.get(&at) {
                way.extend(exits[exit].1.map(|next| next as u32));
                leaves = Some(exit);
                used[exit] = true;
                break;
            }
            match downstream(directions, at) {
                Some(next) => at = next,
                None => break,
            }
        }
        inflows.push(Inflow {
            cell: directions.cell(outside),
            inside: directions.cell(inside),
            cells: area(outside),
            again: returns.get(&outside).copied().unwrap_or(0),
            way,
            leaves,
        });
    }
    // Only those that matter are listed; places in the list follow.
    let listed: Vec<usize> =
        (0..exits.len()).filter(|&at| used[at] || area(exits[at].0) >= least_cells.max(1)).collect();
    let place: HashMap<usize, usize> = listed.iter().enumerate().map(|(new, &old)| (old, new)).collect();
    for inflow in &mut inflows {
        inflow.leaves = inflow.leaves.and_then(|at| place.get(&at).copied());
    }
    let outflows = listed.iter().map(|&at| Outflow {
        cell: directions.cell(exits[at].0),
        outside: exits[at].1.map(|next| directions.cell(next)),
        cells: area(exits[at].0),
    });
    let fresh =
        |outside: usize| area(outside) - returns.get(&outside).copied().unwrap_or(0).min(area(outside));
    let spread: Vec<(usize, usize, u64)> =
        entries[large..].iter().map(|&(outside, inside)| (outside, inside, fresh(outside))).collect();
    let sides = sides(&land, &entries[..large], &spread, directions, frame);
    Ok(Site {
        own_cells: cells.len() as u64,
        spread_cells: spread.iter().map(|s| s.2).sum(),
        inflows,
        outflows: outflows.collect(),
        sides,
    })
}

/// The cells of a site, cut to their extent.
struct Land {
    row: usize,
    col: usize,
    mask: Grid<bool>,
    cols: usize,
}

impl Land {
    fn of(cells: &[Cell], first: Cell, directions: &Grid<u8>) -> Self {
        let extent = cells.iter().fold((first.row, first.row, first.col, first.col), |(t, b, l, r), c| {
            (t.min(c.row), b.max(c.row), l.min(c.col), r.max(c.col))
        });
        let (top, bottom, left, right) = extent;
        let mut mask = Grid::filled(bottom - top + 1, right - left + 1, false);
        for cell in cells {
            let at = mask.index(Cell { row: cell.row - top, col: cell.col - left });
            mask.values_mut()[at] = true;
        }
        Self { row: top, col: left, mask, cols: directions.cols() }
    }

    fn holds(&self, index: usize) -> bool {
        let (row, col) = (index / self.cols, index % self.cols);
        let inside = row.checked_sub(self.row).zip(col.checked_sub(self.col));
        inside.and_then(|(row, col)| self.mask.get(Cell { row, col })).copied().unwrap_or(false)
    }

    fn outline(&self, frame: &Frame) -> Outline {
        super::outline(&self.mask, &frame.window(self.row, self.col, self.mask.rows(), self.mask.cols()))
    }
}

/// For last cells outside by which water comes back: how much of it had left the site before.
fn returning(
    land: &Land,
    exits: &[(usize, Option<usize>)],
    directions: &Grid<u8>,
    area: &dyn Fn(usize) -> u64,
) -> HashMap<usize, u64> {
    // Where each cell that was passed leads: to the cell outside by which water comes back, or nowhere.
    let mut leads: HashMap<usize, Option<usize>> = HashMap::new();
    let mut returns: HashMap<usize, u64> = HashMap::new();
    for &(inside, outside) in exits {
        let mut passed = Vec::new();
        let mut at = outside;
        let end = loop {
            let Some(index) = at else { break None };
            if let Some(&known) = leads.get(&index) {
                break known;
            }
            passed.push(index);
            match downstream(directions, index) {
                Some(next) if land.holds(next) => break Some(index),
                next => at = next,
            }
        };
        for index in passed {
            leads.insert(index, end);
        }
        if let Some(back) = end {
            *returns.entry(back).or_insert(0) += area(inside);
        }
    }
    returns
}

/// Cuts the outer rims at inflows, and sums up what comes to each stretch between them.
fn sides(
    land: &Land,
    inflows: &[(usize, usize)],
    spread: &[(usize, usize, u64)],
    directions: &Grid<u8>,
    frame: &Frame,
) -> Vec<Side> {
    let outline = land.outline(frame);
    let mut sides = Vec::new();
    // Edges of the rim: each belongs to a cell inside. What comes over a corner belongs to an edge of the cell that it
    // comes to.
    let mut large: HashMap<usize, bool> = HashMap::new();
    for &(_, inside) in inflows {
        large.insert(inside, false);
    }
    let mut small: HashMap<usize, u64> = HashMap::new();
    for &(_, inside, cells) in spread {
        *small.entry(inside).or_insert(0) += cells;
    }
    for ring in outline.polygons.iter().filter_map(|polygon| polygon.first()) {
        let edges = edges_of(ring, frame);
        if edges.is_empty() {
            continue;
        }
        // Each cell counts once, at its first edge of the rim.
        let mut begun: Vec<Side> = Vec::new();
        let new = |at: [f64; 2]| Side { line: vec![at], length_m: 0.0, cells: 0 };
        let mut now = new(edges[0].0);
        for (from, to, cell) in &edges {
            let index = directions.index(*cell);
            if let Some(seen) = large.get_mut(&index)
                && !*seen
            {
                *seen = true;
                begun.push(std::mem::replace(&mut now, new(*from)));
            }
            now.line.push(*to);
            now.length_m += frame.cell_m();
            now.cells += small.remove(&index).unwrap_or(0);
        }
        // The last stretch goes on with the first.
        match begun.first_mut() {
            Some(first) => {
                now.line.extend(first.line.drain(..).skip(1));
                (now.length_m, now.cells) = (now.length_m + first.length_m, now.cells + first.cells);
                begun[0] = now;
            }
            None => begun.push(now),
        }
        sides.extend(begun.into_iter().filter(|side| side.cells > 0));
    }
    sides.sort_by_key(|side| std::cmp::Reverse(side.cells));
    sides
}

/// Edges of cells along a ring, with the cell to the left of each.
fn edges_of(ring: &[[f64; 2]], frame: &Frame) -> Vec<([f64; 2], [f64; 2], Cell)> {
    let size = frame.cell_size;
    let mut edges = Vec::new();
    for w in ring.windows(2) {
        let (a, b) = (w[0], w[1]);
        let steps = (((b[0] - a[0]).abs() + (b[1] - a[1]).abs()) / size).round().max(1.0);
        let (dx, dy) = ((b[0] - a[0]) / steps, (b[1] - a[1]) / steps);
        for step in 0..steps as usize {
            let from = [a[0] + dx * step as f64, a[1] + dy * step as f64];
            let to = [from[0] + dx, from[1] + dy];
            let middle = [(from[0] + to[0]) / 2.0 - dy / 2.0, (from[1] + to[1]) / 2.0 + dx / 2.0];
            if let Some(cell) = frame.cell_at(middle[0], middle[1]) {
                edges.push((from, to, cell));
            }
        }
    }
    edges
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::catchments::delineate;
    use crate::conditioning::fill;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 0.0, top: rows as f64, cell_size: 1.0, unit_m: 1.0 }
    }

    fn square(west: f64, south: f64, east: f64, north: f64) -> Vec<Vec<Vec<[f64; 2]>>> {
        vec![vec![vec![[west, south], [east, south], [east, north], [west, north], [west, south]]]]
    }

    fn routed(dem: &Grid<f32>) -> (Grid<u8>, Grid<u32>) {
        let directions = flow_directions(&fill(dem, &Silent).unwrap(), &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        (directions, accumulation)
    }

    #[test]
    fn a_town_in_a_valley_has_one_large_inflow_and_slopes_that_drain_to_its_sides() {
        let dem = Grid::from_fn(60, 41, |c| 500.0 - c.row as f32 + 3.0 * (c.col as f32 - 20.0).abs());
        let (directions, accumulation) = routed(&dem);
        let frame = frame(60, 41);
        let town = square(12.0, 20.0, 29.0, 32.0);
        let found = site(&town, 100, &directions, &accumulation, &frame).unwrap();
        assert_eq!(found.own_cells, 17 * 12);
        assert_eq!(found.inflows.len(), 1, "{:?}", found.inflows);
        let inflow = &found.inflows[0];
        assert_eq!((inflow.inside, inflow.leaves, inflow.again), (Cell { row: 28, col: 20 }, Some(0), 0));
        assert_eq!(found.outflows[0].cell, Cell { row: 39, col: 20 });
        // All that enters, and the site itself, leaves.
        let entering = found.entering_cells();
        assert!(found.outflows[0].cells <= entering + found.own_cells);
        let sides: u64 = found.sides.iter().map(|s| s.cells).sum();
        assert_eq!(sides, found.spread_cells);
        // Lower bounds find more and smaller ones; those found before stay the first.
        let finer = site(&town, 10, &directions, &accumulation, &frame).unwrap();
        assert!(finer.inflows.len() > 1);
        assert_eq!(finer.inflows[0], *inflow);
        assert!(finer.inflows.windows(2).all(|w| w[0].cells >= w[1].cells));
    }

    #[test]
    fn water_that_leaves_and_comes_back_is_not_counted_twice() {
        // One row that flows east; the site is two squares with a gap.
        let directions = Grid::from_vec(1, 9, vec![1, 1, 1, 1, 1, 1, 1, 1, 0]);
        let accumulation = Grid::from_vec(1, 9, (0..9).collect());
        let mut parts = square(2.0, 0.0, 4.0, 1.0);
        parts.extend(square(5.0, 0.0, 7.0, 1.0));
        let found = site(&parts, 1, &directions, &accumulation, &frame(1, 9)).unwrap();
        let told: Vec<_> = found.inflows.iter().map(|i| (i.cell.col, i.cells, i.again)).collect();
        assert_eq!(told, [(4, 5, 4), (1, 2, 0)]);
        assert_eq!(found.entering_cells(), 3, "two cells above, and one in the gap");
    }

    #[test]
    fn a_site_beyond_the_dem_is_refused_and_one_around_it_has_no_inflow() {
        let (directions, accumulation) = routed(&Grid::from_fn(9, 9, |c| 50.0 - c.row as f32));
        let frame = frame(9, 9);
        let beyond = square(100.0, 0.0, 110.0, 9.0);
        assert!(site(&beyond, 1, &directions, &accumulation, &frame).is_err());
        let around = square(-5.0, -5.0, 20.0, 20.0);
        let found = site(&around, 1, &directions, &accumulation, &frame).unwrap();
        assert_eq!((found.own_cells, found.inflows.len(), found.spread_cells), (81, 0, 0));
        assert!(found.outflows.iter().all(|o| o.outside.is_none()));
    }

    proptest! {
        #[test]
        fn all_that_enters_is_found_once(dem in any_terrain(16), w in 0usize..12, s in 0usize..12, least in 1u64..20) {
            let (directions, accumulation) = routed(&dem);
            let frame = frame(dem.rows(), dem.cols());
            let town = square(w as f64, s as f64, w as f64 + 4.0, s as f64 + 5.0);
            let Ok(found) = site(&town, least, &directions, &accumulation, &frame) else { return Ok(()) };
            // Cells outside from which water comes to the site, by walking from each.
            let inside: std::collections::HashSet<Cell> = cells_within(&town, &frame).into_iter()
                .filter(|&c| directions.values()[directions.index(c)] != DIRECTION_NODATA).collect();
            let mut come = 0u64;
            for index in 0..dem.len() {
                if dem.values()[index].is_nan() || inside.contains(&dem.cell(index)) { continue; }
                let mut at = Some(index);
                while let Some(i) = at {
                    if inside.contains(&dem.cell(i)) { come += 1; break; }
                    at = downstream(&directions, i);
                }
            }
            prop_assert_eq!(found.entering_cells(), come);
            for inflow in &found.inflows {
                prop_assert_eq!(inflow.cells, delineate(&directions, inflow.cell).unwrap().cells);
                prop_assert!(inflow.again <= inflow.cells);
            }
            prop_assert!(found.sides.iter().map(|s| s.cells).sum::<u64>() <= found.spread_cells);
        }
    }
}
