//! Polygons along the edges of cells.

use std::collections::HashMap;
use std::hash::Hash;

use rayon::prelude::*;

use super::windows::{Window, windows};
use crate::joined::root;
use crate::{Area, Cell, Frame, Grid};

/// Polygons, each a list of closed rings: the outer one first, counter-clockwise, then holes,
/// clockwise. A ring ends where it begins. Coordinates are `[x, y]` in CRS units.
pub type MultiPolygon = Vec<Vec<Vec<[f64; 2]>>>;

/// An outline with its measures.
#[derive(Debug, Clone, PartialEq)]
pub struct Outline {
    /// the polygons; parts that touch at a corner only are parts of their own
    pub polygons: MultiPolygon,
    /// length of all rings along the edges of the cells, metres. It is longer than a smooth
    /// divide: by up to 4/pi on average over all directions.
    pub perimeter_m: f64,
    /// area inside, equal to the number of cells times the area of one
    pub area: Area,
}

/// Outlines the cells that are set in `mask`, which lies at `frame`.
///
/// The result is valid as an OGC simple feature: rings do not cross or touch themselves, holes
/// lie in their polygon and touch its outer ring in single points at most. Corners between cells
/// are exact multiples of the cell size, so that neighbours share identical edges.
///
/// Every edge between a set and an unset cell is walked once, with the set cell to the left. At a
/// corner where two set cells meet diagonally, the walk turns left, which keeps the two apart;
/// where a ring then still passes a corner twice it is split there into two. The cost is a
/// constant per cell and edge.
pub fn outline(mask: &Grid<bool>, frame: &Frame) -> Outline {
    outline_with(mask, frame, &|_, _| false)
}

/// Outlines every area of equal number in `ids` (0 is outside all), which lies at `frame`; in
/// ascending order of the numbers.
///
/// As [`outline`]; besides, neighbours share identical edges, vertex by vertex: a straight edge has a
/// vertex wherever a third area begins or ends beside it.
///
/// ```
/// use bothros_core::{Frame, Grid, catchments::outlines};
/// let frame = Frame { rows: 2, cols: 2, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
/// let ids = Grid::from_vec(2, 2, vec![1, 2, 1, 3]);
/// let all = outlines(&ids, &frame);
/// // The western area's straight eastern edge has a vertex where its two neighbours meet.
/// assert!(all[0].1.polygons[0][0].contains(&[1.0, 1.0]));
/// ```
pub fn outlines(ids: &Grid<u32>, frame: &Frame) -> Vec<(u32, Outline)> {
    let at = |row: usize, col: usize| ids.get(Cell { row, col }).copied().unwrap_or(0);
    let all = windows(ids);
    all.into_par_iter()
        .map(|(id, Window { top, bottom, left, right })| {
            let mask =
                Grid::from_fn(bottom - top + 1, right - left + 1, |c| at(top + c.row, left + c.col) == id);
            let place = frame.window(top, left, mask.rows(), mask.cols());
            // A corner that lies between three areas or more, or two that meet crosswise.
            let node = |row: usize, col: usize| {
                let (row, col) = ((top + row) as isize, (left + col) as isize);
                let near = [(-1, -1), (-1, 0), (0, -1), (0, 0)].map(|(dr, dc)| {
                    let (r, c) = (row + dr, col + dc);
                    if r < 0 || c < 0 { 0 } else { at(r as usize, c as usize) }
                });
                let mut kinds = near;
                kinds.sort_unstable();
                let distinct = 1 + kinds.windows(2).filter(|w| w[0] != w[1]).count();
                distinct > 2
            };
            (id, outline_with(&mask, &place, &node))
        })
        .collect()
}

/// Edges of cells between what a mask covers and what it does not.
pub(super) fn perimeter_edges(mask: &Grid<bool>) -> u64 {
    let cols = mask.cols().max(1);
    let none = vec![false; cols];
    let differ = |a: &[bool], b: &[bool]| a.iter().zip(b).map(|(a, b)| u64::from(a != b)).sum::<u64>();
    let mut above = &none[..];
    let mut edges = 0;
    for line in mask.values().chunks_exact(cols) {
        let ends = u64::from(line[0]) + u64::from(line[cols - 1]);
        edges += differ(above, line) + differ(&line[..cols - 1], &line[1..]) + ends;
        above = line;
    }
    edges + differ(above, &none)
}

/// Outlines a mask; a straight corner is kept where `is_node` says so, by row and column of the cell
/// to its south-east.
fn outline_with(mask: &Grid<bool>, frame: &Frame, is_node: &dyn Fn(usize, usize) -> bool) -> Outline {
    let parts = Parts::of(mask);
    let mut walked = vec![0u8; (mask.rows() + 1) * (mask.cols() + 1)];
    let mut outer: Vec<Vec<Vec<Corner>>> = vec![Vec::new(); parts.count];
    let mut holes: Vec<Vec<Vec<Corner>>> = vec![Vec::new(); parts.count];
    let mut edges = 0usize;

    for row in 0..mask.rows() {
        for col in 0..mask.cols() {
            // The southern edge of a set cell above an unset one, walked eastwards.
            if !set(mask, row as isize, col as isize) || set(mask, row as isize + 1, col as isize) {
                continue;
            }
            let start = Corner { row: row as u32 + 1, col: col as u32 };
            if walked[start.at(mask)] & EAST.bit() != 0 {
                continue;
            }
            let walk = walk(mask, start, &mut walked);
            edges += walk.len();
            let part = parts.part(row, col);
            for ring in split_at(walk, |corner| corner) {
                if twice_area(&ring) > 0 { outer[part].push(ring) } else { holes[part].push(ring) }
            }
        }
    }

    let to_crs = |ring: &Vec<Corner>| -> Vec<[f64; 2]> {
        let mut points: Vec<[f64; 2]> = without_straight(ring, is_node)
            .into_iter()
            .map(|c| {
                [frame.left + c.col as f64 * frame.cell_size, frame.top - c.row as f64 * frame.cell_size]
            })
            .collect();
        points.push(points[0]);
        points
    };
    let polygons = outer
        .iter()
        .zip(&holes)
        .map(|(outer, holes)| outer.iter().chain(holes).map(to_crs).collect())
        .collect();
    let cells = mask.values().iter().filter(|&&m| m).count() as u64;
    Outline { polygons, perimeter_m: edges as f64 * frame.cell_m(), area: frame.area_of(cells) }
}

/// A corner between cells: row and column of the cell to its south-east.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Corner {
    pub(super) row: u32,
    pub(super) col: u32,
}

impl Corner {
    fn at(self, mask: &Grid<bool>) -> usize {
        self.row as usize * (mask.cols() + 1) + self.col as usize
    }
}

/// Directions of a walk, counter-clockwise: east, north, west, south.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Heading(pub(super) u8);
const EAST: Heading = Heading(0);

impl Heading {
    pub(super) fn left(self) -> Self {
        Heading((self.0 + 1) % 4)
    }
    pub(super) fn right(self) -> Self {
        Heading((self.0 + 3) % 4)
    }
    fn bit(self) -> u8 {
        1 << self.0
    }
    pub(super) fn ahead(self, c: Corner) -> Corner {
        match self.0 {
            0 => Corner { col: c.col + 1, ..c },
            1 => Corner { row: c.row - 1, ..c },
            2 => Corner { col: c.col - 1, ..c },
            _ => Corner { row: c.row + 1, ..c },
        }
    }
    /// Row and column of the cells ahead of a corner: to the left and to the right.
    pub(super) fn cells_ahead(self, c: Corner) -> [(isize, isize); 2] {
        let (row, col) = (c.row as isize, c.col as isize);
        let (nw, ne, sw, se) = ((row - 1, col - 1), (row - 1, col), (row, col - 1), (row, col));
        match self.0 {
            0 => [ne, se],
            1 => [nw, ne],
            2 => [sw, nw],
            _ => [se, sw],
        }
    }
}

fn set(mask: &Grid<bool>, row: isize, col: isize) -> bool {
    row >= 0
        && col >= 0
        && row < mask.rows() as isize
        && col < mask.cols() as isize
        && mask.values()[row as usize * mask.cols() + col as usize]
}

/// Walks a ring from `start` eastwards with set cells to the left; returns a corner per edge.
fn walk(mask: &Grid<bool>, start: Corner, walked: &mut [u8]) -> Vec<Corner> {
    let (mut at, mut heading) = (start, EAST);
    let mut ring = Vec::new();
    loop {
        ring.push(at);
        walked[at.at(mask)] |= heading.bit();
        at = heading.ahead(at);
        let [left, right] = heading.cells_ahead(at).map(|(row, col)| set(mask, row, col));
        // The cell behind to the left is set and behind to the right is not. Left first: where
        // the left cell ahead is unset the ring bends round the set cell behind.
        heading = match (left, right) {
            (false, _) => heading.left(),
            (true, false) => heading,
            (true, true) => heading.right(),
        };
        if at == start && heading == EAST {
            return ring;
        }
    }
}

/// Splits a ring that passes a place twice into rings that do not.
pub(super) fn split_at<T: Copy, K: Eq + Hash>(walk: Vec<T>, place_of: impl Fn(T) -> K) -> Vec<Vec<T>> {
    let mut rings = Vec::new();
    let mut path: Vec<T> = Vec::new();
    let mut place: HashMap<K, usize> = HashMap::with_capacity(walk.len());
    for step in walk {
        if let Some(&from) = place.get(&place_of(step)) {
            let ring: Vec<T> = path.drain(from..).collect();
            for &passed in &ring {
                place.remove(&place_of(passed));
            }
            rings.push(ring);
        }
        place.insert(place_of(step), path.len());
        path.push(step);
    }
    rings.push(path);
    rings
}

/// Twice the signed area of a closed ring, positive counter-clockwise.
pub(super) fn twice_area_of(ring: &[[f64; 2]]) -> f64 {
    ring.windows(2).map(|w| w[0][0] * w[1][1] - w[1][0] * w[0][1]).sum()
}

/// Twice the signed area, positive counter-clockwise as seen on the map.
fn twice_area(ring: &[Corner]) -> i64 {
    let mut sum = 0;
    for (i, a) in ring.iter().enumerate() {
        let b = ring[(i + 1) % ring.len()];
        sum += a.row as i64 * b.col as i64 - a.col as i64 * b.row as i64;
    }
    sum
}

/// Only the corners where the ring bends, and nodes.
fn without_straight(ring: &[Corner], is_node: &dyn Fn(usize, usize) -> bool) -> Vec<Corner> {
    let n = ring.len();
    (0..n)
        .filter(|&i| {
            let (before, after) = (ring[(i + n - 1) % n], ring[(i + 1) % n]);
            let bends = before.row != after.row && before.col != after.col;
            bends || is_node(ring[i].row as usize, ring[i].col as usize)
        })
        .map(|i| ring[i])
        .collect()
}

/// Parts of a mask that hang together over edges of cells, found by runs of set cells in each row.
struct Parts {
    /// first column, column after the last, part
    runs: Vec<(u32, u32, u32)>,
    /// where the runs of a row begin
    rows: Vec<usize>,
    count: usize,
}

impl Parts {
    fn of(mask: &Grid<bool>) -> Self {
        let mut runs: Vec<(u32, u32, u32)> = Vec::new();
        let mut rows = vec![0];
        // A run's part is a chain of smaller numbers down to the part's first run.
        let mut parent: Vec<u32> = Vec::new();
        for line in mask.values().chunks(mask.cols().max(1)) {
            let (above, here) = (rows.len().checked_sub(2).map_or(0, |r| rows[r]), runs.len());
            let mut col = 0;
            while let Some(start) = line[col..].iter().position(|&set| set).map(|at| col + at) {
                let end = line[start..].iter().position(|&set| !set).map_or(line.len(), |at| start + at);
                let id = parent.len() as u32;
                parent.push(id);
                runs.push((start as u32, end as u32, id));
                col = end;
            }
            let mut upper = above;
            for lower in here..runs.len() {
                let (start, end, id) = runs[lower];
                while upper < here && runs[upper].1 <= start {
                    upper += 1;
                }
                let mut beside = upper;
                while beside < here && runs[beside].0 < end {
                    let (a, b) = (root(&mut parent, runs[beside].2), root(&mut parent, id));
                    parent[a.max(b) as usize] = a.min(b);
                    beside += 1;
                }
            }
            rows.push(runs.len());
        }
        let mut numbers = vec![0u32; parent.len()];
        let mut count = 0;
        for at in 0..runs.len() {
            let first = root(&mut parent, runs[at].2) as usize;
            if first == at {
                numbers[at] = count;
                count += 1;
            }
            runs[at].2 = numbers[first];
        }
        Self { runs, rows, count: count as usize }
    }

    /// The part of a set cell, from 0.
    fn part(&self, row: usize, col: usize) -> usize {
        let runs = &self.runs[self.rows[row]..self.rows[row + 1]];
        runs[runs.partition_point(|run| run.1 as usize <= col)].2 as usize
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CELL: Frame = Frame { rows: 0, cols: 0, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };

    fn drawn(picture: &[&str]) -> Outline {
        let cols = picture[0].len();
        let mask = Grid::from_fn(picture.len(), cols, |c| picture[c.row].as_bytes()[c.col] == b'#');
        outline(&mask, &CELL)
    }

    fn rings(outline: &Outline) -> Vec<usize> {
        outline.polygons.iter().map(Vec::len).collect()
    }

    #[test]
    fn one_cell_is_a_square() {
        let got = drawn(&["#"]);
        assert_eq!(got.polygons, [[[[0.0, -1.0], [1.0, -1.0], [1.0, 0.0], [0.0, 0.0], [0.0, -1.0]]]]);
        assert_eq!(got.perimeter_m, 4.0);
    }

    #[test]
    fn a_hole_is_a_ring_of_its_own() {
        let got = drawn(&["####", "#..#", "####"]);
        assert_eq!(rings(&got), [2]);
        assert_eq!((got.perimeter_m, got.area), (14.0 + 6.0, Area::m2(10.0)));
    }

    #[test]
    fn cells_that_touch_at_a_corner_are_two_polygons() {
        assert_eq!(rings(&drawn(&["#.", ".#"])), [1, 1]);
    }

    #[test]
    fn a_hole_open_at_a_corner_stays_a_hole() {
        // The hole in the middle touches the outside at its south-eastern corner.
        let got = drawn(&["###", "#.#", "##."]);
        assert_eq!(rings(&got), [2]);
    }

    #[test]
    fn arms_that_meet_further_down_are_one_part() {
        let mut found = rings(&drawn(&["#.#.#", "#.#.#", "###.#", "....#", "#..##"]));
        found.sort_unstable();
        assert_eq!(found, [1, 1, 1]);
    }

    #[test]
    fn an_island_in_a_hole() {
        let got = drawn(&["#####", "#...#", "#.#.#", "#...#", "#####"]);
        let mut found = rings(&got);
        found.sort_unstable();
        assert_eq!(found, [1, 2]);
    }

    proptest! {
        #[test]
        fn neighbours_share_their_edges(rows in 1usize..8, cols in 1usize..8, seed in prop::collection::vec(0u32..4, 64)) {
            let ids = Grid::from_fn(rows, cols, |c| seed[c.row * 8 + c.col]);
            let all = outlines(&ids, &CELL);
            let area: f64 = all.iter().map(|(_, o)| o.area.as_m2()).sum();
            prop_assert_eq!(area as usize, ids.values().iter().filter(|&&id| id != 0).count());
            // Every edge of one area is an edge of another, the other way round, or lies beside outside.
            let mut edges: std::collections::HashSet<[i64; 4]> = Default::default();
            for ring in all.iter().flat_map(|(_, o)| o.polygons.iter().flatten()) {
                for pair in ring.windows(2) {
                    let [a, b] = [pair[0], pair[1]].map(|p| [p[0] as i64, p[1] as i64]);
                    prop_assert!(edges.insert([a[0], a[1], b[0], b[1]]), "an edge is walked once");
                }
            }
            let beside = |x: f64, y: f64| {
                let (row, col) = ((-y).floor() as isize, x.floor() as isize);
                let inside = row >= 0 && col >= 0 && row < rows as isize && col < cols as isize;
                if inside { ids.values()[row as usize * cols + col as usize] } else { 0 }
            };
            for &[x0, y0, x1, y1] in &edges {
                let (mx, my) = ((x0 + x1) as f64 / 2.0, (y0 + y1) as f64 / 2.0);
                // Interiors lie to the left, so the other side is to the right.
                let (dx, dy) = ((x1 - x0).signum() as f64 * 0.25, (y1 - y0).signum() as f64 * 0.25);
                let right = beside(mx + dy + dx * 0.1, my - dx + dy * 0.1);
                prop_assert!(right == 0 || edges.contains(&[x1, y1, x0, y0]));
            }
        }
    }

    fn signed(ring: &[[f64; 2]]) -> f64 {
        ring.windows(2).map(|w| w[0][0] * w[1][1] - w[1][0] * w[0][1]).sum::<f64>() / 2.0
    }

    proptest! {
        #[test]
        fn polygons_are_simple_and_hold_the_area(rows in 1usize..9, cols in 1usize..9, seed in prop::collection::vec(any::<bool>(), 64)) {
            let mask = Grid::from_fn(rows, cols, |c| seed[c.row * 8 + c.col]);
            let got = outline(&mask, &CELL);
            let mut area = 0.0;
            for polygon in &got.polygons {
                for (i, ring) in polygon.iter().enumerate() {
                    let inside = signed(ring);
                    prop_assert!((inside > 0.0) == (i == 0), "one outer ring, first");
                    area += inside;
                    let mut corners: Vec<_> = ring[1..].iter().map(|p| (p[0] as i64, p[1] as i64)).collect();
                    let n = corners.len();
                    corners.sort_unstable();
                    corners.dedup();
                    prop_assert_eq!(corners.len(), n, "a ring passes a corner once");
                }
            }
            prop_assert_eq!(got.perimeter_m, perimeter_edges(&mask) as f64, "counted as it is walked");
            prop_assert_eq!(area, mask.values().iter().filter(|&&m| m).count() as f64);
        }
    }
}
