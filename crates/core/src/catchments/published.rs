//! A catchment against a boundary that somebody else drew.

use super::{Catchment, Outline, outline};
use crate::{Area, Cell, Frame, Grid, cells_within};

/// Land that only one of the two holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Discrepancy {
    /// whether it lies in the catchment, outside the published boundary; otherwise the other way round
    pub only_ours: bool,
    /// number of cells
    pub cells: u64,
    /// its outline
    pub outline: Outline,
    /// its cells in the whole grid, by number in row order
    pub places: Vec<u32>,
    /// how far it reaches from the divide that both share, cells: half its width where it is a band
    pub reach_cells: f64,
    /// whether it touches the edge of the footprint
    pub at_edge: bool,
}

/// How a catchment and a published boundary agree.
#[derive(Debug, Clone, PartialEq)]
pub struct Agreement {
    /// area of the catchment
    pub ours: Area,
    /// area inside the published boundary, also what lies beyond the footprint
    pub published: Area,
    /// area that both hold
    pub both: Area,
    /// what only one holds, hanging together over edges, the largest first
    pub pieces: Vec<Discrepancy>,
}

impl Agreement {
    /// Area of both over area of either (Jaccard 1912).
    pub fn intersection_over_union(&self) -> f64 {
        let union = self.ours.as_m2() + self.published.as_m2() - self.both.as_m2();
        if union > 0.0 { self.both.as_m2() / union } else { 0.0 }
    }
    /// Difference of the areas over the published one.
    pub fn area_difference(&self) -> f64 {
        (self.ours.as_m2() - self.published.as_m2()) / self.published.as_m2()
    }
}

/// Compares a catchment with polygons of `[x, y]` in CRS units, cell by cell: a cell is inside where its centre is.
/// `in_footprint` tells cells of the DEM, by number in row order.
///
/// ```
/// use bothros_core::catchments::{compare_with, delineate};
/// use bothros_core::{Cell, Frame, Grid};
/// let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
/// let frame = Frame { rows: 1, cols: 6, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let ours = delineate(&directions, Cell { row: 0, col: 3 })?;
/// let theirs = vec![vec![[1.0, 0.0], [5.0, 0.0], [5.0, 1.0], [1.0, 1.0], [1.0, 0.0]]];
/// let found = compare_with(&ours, &[theirs], &frame, &|_| true);
/// assert_eq!((found.both.as_m2(), found.pieces.len()), (3.0, 2));
/// assert_eq!(found.intersection_over_union(), 0.6);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn compare_with(
    ours: &Catchment,
    published: &[Vec<Vec<[f64; 2]>>],
    frame: &Frame,
    in_footprint: &dyn Fn(usize) -> bool,
) -> Agreement {
    let theirs = cells_within(published, frame);
    let mut extent = (ours.row, ours.row + ours.mask.rows(), ours.col, ours.col + ours.mask.cols());
    for cell in &theirs {
        extent.0 = extent.0.min(cell.row);
        extent.1 = extent.1.max(cell.row + 1);
        extent.2 = extent.2.min(cell.col);
        extent.3 = extent.3.max(cell.col + 1);
    }
    let (top, left) = (extent.0, extent.2);
    let mut inside = Grid::filled(extent.1 - top, extent.3 - left, false);
    for cell in &theirs {
        let at = inside.index(Cell { row: cell.row - top, col: cell.col - left });
        inside.values_mut()[at] = true;
    }
    // 1: only ours, 2: only theirs, 3: both.
    let kinds = Grid::from_fn(inside.rows(), inside.cols(), |c| {
        let own = ours.contains(Cell { row: top + c.row, col: left + c.col });
        u8::from(own) + 2 * u8::from(inside.values()[inside.index(c)])
    });
    let both = kinds.values().iter().filter(|&&k| k == 3).count() as u64;
    let own_extent = frame.window(top, left, kinds.rows(), kinds.cols());
    let mut pieces = Vec::new();
    let mut seen = vec![false; kinds.len()];
    for start in 0..kinds.len() {
        let kind = kinds.values()[start];
        if seen[start] || (kind != 1 && kind != 2) {
            continue;
        }
        seen[start] = true;
        let mut cells = vec![start];
        let mut next = 0;
        while let Some(&at) = cells.get(next) {
            next += 1;
            // Over edges: every second neighbour.
            for (_, n) in kinds.neighbours(at).filter(|(k, _)| k % 2 == 0) {
                if !seen[n] && kinds.values()[n] == kind {
                    seen[n] = true;
                    cells.push(n);
                }
            }
        }
        pieces.push(piece(cells, kind == 1, &kinds, &own_extent, (top, left), frame, in_footprint));
    }
    pieces.sort_by_key(|p| (std::cmp::Reverse(p.cells), p.places[0]));
    Agreement {
        ours: ours.area(frame),
        published: area_of_polygons(published, frame),
        both: frame.area_of(both),
        pieces,
    }
}

/// Area of polygons of `[x, y]` in CRS units, holes left out.
pub fn area_of_polygons(polygons: &[Vec<Vec<[f64; 2]>>], frame: &Frame) -> Area {
    let ring = |ring: &Vec<[f64; 2]>| {
        // From a corner of its own, so that large coordinates cost no digits.
        let [x, y] = ring.first().copied().unwrap_or_default();
        let shift = |p: [f64; 2]| [p[0] - x, p[1] - y];
        let twice: f64 =
            ring.windows(2).map(|w| (shift(w[0]), shift(w[1]))).map(|(a, b)| a[0] * b[1] - b[0] * a[1]).sum();
        twice.abs() / 2.0
    };
    let polygon = |p: &Vec<Vec<[f64; 2]>>| {
        let mut areas = p.iter().map(ring);
        areas.next().unwrap_or(0.0) - areas.sum::<f64>()
    };
    Area::m2(polygons.iter().map(polygon).sum::<f64>() * frame.unit_m * frame.unit_m)
}

fn piece(
    cells: Vec<usize>,
    only_ours: bool,
    kinds: &Grid<u8>,
    window: &Frame,
    (top, left): (usize, usize),
    frame: &Frame,
    in_footprint: &dyn Fn(usize) -> bool,
) -> Discrepancy {
    let whole = |at: usize| (top + at / kinds.cols()) * frame.cols + left + at % kinds.cols();
    let (rows, cols) = (frame.rows as isize, frame.cols as isize);
    let beside_nothing = |at: usize| {
        let index = whole(at);
        let (row, col) = ((index / frame.cols) as isize, (index % frame.cols) as isize);
        crate::NEIGHBOURS.iter().any(|n| {
            let (r, c) = (row + n.rows, col + n.cols);
            r < 0 || c < 0 || r >= rows || c >= cols || !in_footprint((r * cols + c) as usize)
        })
    };
    let at_edge = cells.iter().any(|&at| beside_nothing(at));
    let mut marked = Grid::filled(kinds.rows(), kinds.cols(), false);
    for &at in &cells {
        marked.values_mut()[at] = true;
    }
    let reach_cells = reach(&cells, kinds);
    Discrepancy {
        only_ours,
        cells: cells.len() as u64,
        outline: outline(&marked, window),
        places: cells.iter().map(|&at| whole(at) as u32).collect(),
        reach_cells,
        at_edge,
    }
}

/// The farthest that a cell of a piece lies from one that both hold or neither does, in steps over edges and corners.
fn reach(cells: &[usize], kinds: &Grid<u8>) -> f64 {
    let own = kinds.values()[cells[0]];
    let mut far: std::collections::HashMap<usize, u32> = Default::default();
    let mut front: Vec<usize> = Vec::new();
    for &at in cells {
        let mut beside = 0;
        let mut other = false;
        for (_, n) in kinds.neighbours(at) {
            beside += 1;
            other |= kinds.values()[n] != own;
        }
        if other || beside < 8 {
            far.insert(at, 1);
            front.push(at);
        }
    }
    let mut next = 0;
    while let Some(&at) = front.get(next) {
        next += 1;
        let steps = far.get(&at).copied().unwrap_or(1);
        for (_, n) in kinds.neighbours(at) {
            if kinds.values()[n] == own && !far.contains_key(&n) {
                far.insert(n, steps + 1);
                front.push(n);
            }
        }
    }
    f64::from(far.values().copied().max().unwrap_or(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ours(mask: Grid<bool>) -> Catchment {
        let cells = mask.values().iter().filter(|&&m| m).count() as u64;
        Catchment { outlet: Cell { row: 2, col: 2 }, cells, edge_cells: 0, row: 2, col: 2, mask }
    }

    const FRAME: Frame = Frame { rows: 30, cols: 30, left: 0.0, top: 300.0, cell_size: 10.0, unit_m: 1.0 };

    fn square(west: f64, south: f64, east: f64, north: f64) -> Vec<Vec<[f64; 2]>> {
        vec![vec![[west, south], [east, south], [east, north], [west, north], [west, south]]]
    }

    #[test]
    fn a_boundary_in_pieces_and_with_holes_is_compared_cell_by_cell() {
        let ours = ours(Grid::filled(10, 10, true));
        // The same square less a hole, and another piece far off.
        let mut holed = square(20.0, 180.0, 120.0, 280.0);
        holed.push(vec![[50.0, 210.0], [50.0, 240.0], [80.0, 240.0], [80.0, 210.0], [50.0, 210.0]]);
        let apart = square(200.0, 100.0, 220.0, 120.0);
        let found = compare_with(&ours, &[holed, apart], &FRAME, &|_| true);
        assert_eq!((found.ours.as_m2(), found.published.as_m2()), (10_000.0, 10_000.0 - 900.0 + 400.0));
        assert_eq!(found.both.as_m2(), 9100.0);
        let told: Vec<_> = found.pieces.iter().map(|p| (p.only_ours, p.cells, p.reach_cells)).collect();
        assert_eq!(told, [(true, 9, 2.0), (false, 4, 1.0)]);
        assert!((found.intersection_over_union() - 9100.0 / (10_000.0 + 9500.0 - 9100.0)).abs() < 1e-12);
        assert!(!found.pieces[0].at_edge);
    }

    #[test]
    fn what_lies_beyond_the_dem_counts_as_published() {
        let mut ours = ours(Grid::filled(4, 4, true));
        (ours.row, ours.col) = (0, 0);
        let found = compare_with(&ours, &[square(-40.0, 260.0, 60.0, 300.0)], &FRAME, &|_| true);
        assert_eq!((found.published.as_m2(), found.both.as_m2()), (4000.0, 1600.0));
        assert_eq!((found.pieces.len(), found.pieces[0].cells), (1, 8));
        assert!(found.pieces[0].at_edge);
    }
}
