//! Areas that cover land without gaps or overlaps, as lines that neighbours share.

use std::collections::{HashMap, HashSet};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::polygon::{Corner, Heading, MultiPolygon, split_at, twice_area_of};
use super::soften;
use crate::{Frame, Grid};

/// How outlines are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OutlineKind {
    /// along the edges of cells
    #[default]
    Cells,
    /// fewer corners, nowhere farther than a cell from the edges of cells
    Simplified,
    /// simplified, with rounded corners
    Smoothed,
}

/// A line between two areas, from one point where three or more meet to the next; or the whole ring around an
/// area with a
/// single neighbour.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Arc {
    /// number of the area to its left, 0 outside all
    pub left: u32,
    /// number of the area to its right
    pub right: u32,
    /// where it begins
    pub start: Corner,
    /// where it ends
    pub end: Corner,
    /// headings of its first and last step
    pub headings: [Heading; 2],
    /// edges of cells along it
    pub edges: u32,
    /// its bends, ends included: column and row of corners between cells. One that closes ends where it begins.
    pub line: Vec<[f64; 2]>,
}

/// Areas of a raster of numbers, and the lines between them.
#[derive(Debug, Clone, PartialEq)]
pub struct Coverage {
    arcs: Vec<Arc>,
    /// cells of each number
    cells: HashMap<u32, u64>,
    frame: Frame,
}

/// Columns of the corners on the northern side of a row of cells, the last beyond them all, around which not all cells are of one
/// area.
fn bends(ids: &Grid<u32>, row: usize) -> Vec<u32> {
    let (rows, cols) = (ids.rows(), ids.cols());
    let line = |row: usize| &ids.values()[row * cols..(row + 1) * cols];
    let outside = vec![0; if row == 0 || row == rows { cols } else { 0 }];
    let above = if row == 0 { &outside[..] } else { line(row - 1) };
    let below = if row == rows { &outside[..] } else { line(row) };
    let mut found = Vec::new();
    let mut west = (0, 0);
    for (col, east) in above.iter().copied().zip(below.iter().copied()).chain([(0, 0)]).enumerate() {
        if east.0 != east.1 || west != east {
            found.push(col as u32);
        }
        west = east;
    }
    found
}

impl Coverage {
    /// Finds the lines between the areas of equal number in `ids` (0 is outside all), which lies at `frame`.
    ///
    /// ```
    /// use bothros_core::{Frame, Grid, catchments::{Coverage, OutlineKind}};
    /// let frame = Frame { rows: 2, cols: 2, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
    /// let all = Coverage::of(&Grid::from_vec(2, 2, vec![1, 2, 1, 3]), &frame);
    /// let west = all.outline(&|id| id == 1);
    /// assert_eq!(west.len(), 1);
    /// assert_eq!(all.outline(&|id| id > 1)[0][0].len(), 5 + 2, "with the ends of what lies between its parts");
    /// ```
    pub fn of(ids: &Grid<u32>, frame: &Frame) -> Self {
        let (rows, cols) = (ids.rows(), ids.cols());
        let at =
            |row: isize, col: isize| match row >= 0 && col >= 0 && row < rows as isize && col < cols as isize
            {
                true => ids.values()[row as usize * cols + col as usize],
                false => 0,
            };
        let sides = |c: Corner, heading: Heading| heading.cells_ahead(c).map(|(row, col)| at(row, col));
        let is_line = |c: Corner, heading: Heading| {
            let [left, right] = sides(c, heading);
            left != right
        };
        let headings = [0, 1, 2, 3].map(Heading);
        let is_node = |c: Corner| headings.iter().filter(|&&h| is_line(c, h)).count() > 2;
        // Edges that have been walked: each by its western or northern end.
        let mut walked = vec![0u8; (rows + 1) * (cols + 1)];
        let mark = |c: Corner, heading: Heading| {
            let to = heading.ahead(c);
            let (from, bit) = match heading.0 {
                0 => (c, 1),
                3 => (c, 2),
                2 => (to, 1),
                _ => (to, 2),
            };
            (from.row as usize * (cols + 1) + from.col as usize, bit)
        };
        let mut arcs = Vec::new();
        let mut walk = |start: Corner, heading: Heading, walked: &mut Vec<u8>| {
            let [left, right] = sides(start, heading);
            let place = |c: Corner| [f64::from(c.col), f64::from(c.row)];
            let (mut here, mut towards) = (start, heading);
            let mut line = vec![place(start)];
            let mut edges = 0;
            loop {
                let (edge, bit) = mark(here, towards);
                walked[edge] |= bit;
                edges += 1;
                here = towards.ahead(here);
                if here == start || is_node(here) {
                    line.push(place(here));
                    let headings = [heading, towards];
                    arcs.push(Arc { left, right, start, end: here, headings, edges, line });
                    return;
                }
                let ahead =
                    [towards.left(), towards, towards.right()].into_iter().find(|&h| is_line(here, h));
                let Some(next) = ahead else { return };
                if next != towards {
                    line.push(place(here));
                }
                towards = next;
            }
        };
        // Corners with a line, by row and column; those where lines meet have more than two.
        let with_lines = (0..=rows).into_par_iter().map(|row| bends(ids, row));
        let with_lines: Vec<Vec<u32>> = with_lines.collect();
        // Lines between nodes first; what is left runs around an area by itself, from its north-western bend.
        for only_nodes in [true, false] {
            for (row, cols) in with_lines.iter().enumerate() {
                for &col in cols {
                    let corner = Corner { row: row as u32, col };
                    if only_nodes && !is_node(corner) {
                        continue;
                    }
                    for heading in headings.into_iter().filter(|&h| is_line(corner, h)) {
                        let (edge, bit) = mark(corner, heading);
                        if walked[edge] & bit == 0 {
                            walk(corner, heading, &mut walked);
                        }
                    }
                }
            }
        }
        let count = |line: &[u32]| {
            let mut cells = HashMap::new();
            for run in line.chunk_by(|a, b| a == b) {
                *cells.entry(run[0]).or_insert(0) += run.len() as u64;
            }
            cells
        };
        let both = |mut all: HashMap<u32, u64>, more: HashMap<u32, u64>| {
            more.into_iter().for_each(|(id, n)| *all.entry(id).or_insert(0) += n);
            all
        };
        let mut cells = ids.values().par_chunks(1 << 18).map(count).reduce(HashMap::new, both);
        cells.remove(&0);
        Self { arcs, cells, frame: *frame }
    }

    /// The same areas with softer outlines: neighbours still share them, no two cross, and no area changes by more than a
    /// thousandth.
    pub fn soft(&self, kind: OutlineKind) -> Self {
        let mut soft = self.clone();
        if kind != OutlineKind::Cells {
            let mut room = soften::Room::of(&soft.cells);
            soften::simplify(&mut soft.arcs, &mut room, 1.0);
            if kind == OutlineKind::Smoothed {
                soften::round(&mut soft.arcs, &mut room);
                soften::round(&mut soft.arcs, &mut room);
            }
        }
        soft
    }

    /// Fewer corners for a picture, nowhere farther than so many cells from the edges of cells. Areas are only about right.
    pub fn coarse(&self, tolerance_cells: f64) -> Self {
        let mut coarse = self.clone();
        soften::simplify(&mut coarse.arcs, &mut soften::Room::free(), tolerance_cells);
        coarse
    }

    /// Number of corners of all lines.
    pub fn corners(&self) -> usize {
        self.arcs.iter().map(|arc| arc.line.len()).sum()
    }

    /// Pairs of areas that share a line, each once, the smaller number first.
    pub fn neighbours(&self) -> HashSet<(u32, u32)> {
        let pairs = self.arcs.iter().map(|arc| (arc.left.min(arc.right), arc.left.max(arc.right)));
        pairs.filter(|pair| pair.0 != 0).collect()
    }

    /// Length along the edges of cells of the outline of all areas whose number is `inside`, metres; softer lines do not change
    /// it.
    pub fn perimeter_m(&self, inside: &dyn Fn(u32) -> bool) -> f64 {
        let holds = |id: u32| id != 0 && inside(id);
        let around = self.arcs.iter().filter(|arc| holds(arc.left) != holds(arc.right));
        around.map(|arc| f64::from(arc.edges)).sum::<f64>() * self.frame.cell_m()
    }

    /// The outline of all areas whose number is `inside`, as one. Rings neither cross nor pass a place twice.
    pub fn outline(&self, inside: &dyn Fn(u32) -> bool) -> MultiPolygon {
        let sides = |arc: &Arc| (arc.left != 0 && inside(arc.left), arc.right != 0 && inside(arc.right));
        let around = self.arcs.iter().enumerate().filter_map(|(at, arc)| match sides(arc) {
            (true, false) => Some(Way { at, back: false }),
            (false, true) => Some(Way { at, back: true }),
            _ => None,
        });
        self.polygons(around.collect())
    }

    /// The outline of each area, in ascending order of the numbers.
    pub fn outlines(&self) -> Vec<(u32, MultiPolygon)> {
        let mut around: std::collections::BTreeMap<u32, Vec<Way>> = Default::default();
        for (at, arc) in self.arcs.iter().enumerate() {
            for (id, back) in [(arc.left, false), (arc.right, true)] {
                if id != 0 {
                    around.entry(id).or_default().push(Way { at, back });
                }
            }
        }
        let all: Vec<_> = around.into_iter().collect();
        all.into_par_iter().map(|(id, ways)| (id, self.polygons(ways))).collect()
    }

    /// Joins lines that have the inside to their left.
    fn polygons(&self, ways: Vec<Way>) -> MultiPolygon {
        let mut from: HashMap<Corner, Vec<Way>> = HashMap::new();
        for &way in &ways {
            from.entry(way.start(&self.arcs)).or_default().push(way);
        }
        let mut used: HashSet<Way> = HashSet::new();
        let (mut outer, mut holes) = (Vec::new(), Vec::new());
        for &first in &ways {
            if !used.insert(first) {
                continue;
            }
            let mut ring = vec![first];
            let mut at = first;
            loop {
                let (end, heading) = (at.end(&self.arcs), at.heading(&self.arcs, false));
                let there = from.get(&end).map_or(&[][..], Vec::as_slice);
                // Left first: areas that meet at a corner only stay apart.
                let turns = [heading.left(), heading, heading.right()];
                let leaves =
                    |turn: &Heading| there.iter().copied().find(|way| way.heading(&self.arcs, true) == *turn);
                match turns.iter().find_map(leaves) {
                    Some(next) if used.insert(next) => {
                        ring.push(next);
                        at = next;
                    }
                    // Back at the first.
                    _ => break,
                }
            }
            for ring in split_at(ring, |way| way.start(&self.arcs)) {
                let points = self.points(&ring);
                if twice_area_of(&points) > 0.0 { outer.push(points) } else { holes.push(points) }
            }
        }
        gathered(outer, holes)
    }

    /// Coordinates of a ring, closed.
    fn points(&self, ring: &[Way]) -> Vec<[f64; 2]> {
        let mut points = Vec::new();
        for way in ring {
            let line = &self.arcs[way.at].line;
            let place = |p: &[f64; 2]| {
                [self.frame.left + p[0] * self.frame.cell_size, self.frame.top - p[1] * self.frame.cell_size]
            };
            match way.back {
                false => points.extend(line[..line.len() - 1].iter().map(place)),
                true => points.extend(line[1..].iter().rev().map(place)),
            }
        }
        points.extend(points.first().copied());
        points
    }
}

/// A line, walked from one end or the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct Way {
    at: usize,
    back: bool,
}

impl Way {
    fn start(self, arcs: &[Arc]) -> Corner {
        if self.back { arcs[self.at].end } else { arcs[self.at].start }
    }
    fn end(self, arcs: &[Arc]) -> Corner {
        if self.back { arcs[self.at].start } else { arcs[self.at].end }
    }
    /// Heading of the first or last step.
    fn heading(self, arcs: &[Arc], first: bool) -> Heading {
        let [a, b] = arcs[self.at].headings;
        match (self.back, first) {
            (false, true) => a,
            (false, false) => b,
            (true, true) => b.left().left(),
            (true, false) => a.left().left(),
        }
    }
}

/// Puts holes into the polygons that hold them.
fn gathered(outer: Vec<Vec<[f64; 2]>>, holes: Vec<Vec<[f64; 2]>>) -> MultiPolygon {
    let areas: Vec<f64> = outer.iter().map(|ring| twice_area_of(ring)).collect();
    let mut polygons: MultiPolygon = outer.into_iter().map(|ring| vec![ring]).collect();
    for hole in holes {
        // The smallest that holds it; a hole may touch the ring around it in a corner.
        let holds = |at: &usize| {
            let ring = &polygons[*at][0];
            let inside = hole.iter().filter(|p| !ring.contains(p)).map(|p| contains(ring, p)).next();
            inside.unwrap_or(true)
        };
        let at = (0..polygons.len()).filter(holds).min_by(|&a, &b| areas[a].total_cmp(&areas[b]));
        if let Some(at) = at {
            polygons[at].push(hole);
        }
    }
    polygons
}

/// Whether a closed ring holds a point, by the number of its sides to the east.
fn contains(ring: &[[f64; 2]], [x, y]: &[f64; 2]) -> bool {
    let crosses = |w: &[[f64; 2]]| {
        let ([x0, y0], [x1, y1]) = (w[0], w[1]);
        (y0 > *y) != (y1 > *y) && *x < x0 + (y - y0) / (y1 - y0) * (x1 - x0)
    };
    ring.windows(2).filter(|w| crosses(w)).count() % 2 == 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::outlines;
    use proptest::prelude::*;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 }
    }

    fn area(polygons: &MultiPolygon) -> f64 {
        polygons.iter().flatten().map(|ring| twice_area_of(ring) / 2.0).sum()
    }

    /// Rings from their least corner on, in an order of their own, without corners on straight lines.
    fn plain(polygons: &MultiPolygon) -> Vec<Vec<[i64; 2]>> {
        let mut rings: Vec<Vec<[i64; 2]>> = polygons
            .iter()
            .flatten()
            .map(|ring| {
                let ring: Vec<[i64; 2]> = ring[1..].iter().map(|p| [p[0] as i64, p[1] as i64]).collect();
                let n = ring.len();
                let bends = |i: &usize| {
                    let (a, b) = (ring[(i + n - 1) % n], ring[(i + 1) % n]);
                    a[0] != b[0] && a[1] != b[1]
                };
                let mut ring: Vec<[i64; 2]> = (0..n).filter(bends).map(|i| ring[i]).collect();
                let least = (0..ring.len()).min_by_key(|&i| ring[i]).unwrap();
                ring.rotate_left(least);
                ring
            })
            .collect();
        rings.sort();
        rings
    }

    /// Sides of all rings, each way once.
    fn sides(all: &[(u32, MultiPolygon)]) -> Vec<[[f64; 2]; 2]> {
        let mut seen = HashSet::new();
        let mut found = Vec::new();
        for w in all.iter().flat_map(|(_, p)| p.iter().flatten()).flat_map(|ring| ring.windows(2)) {
            let key =
                |a: [f64; 2], b: [f64; 2]| [a[0].to_bits(), a[1].to_bits(), b[0].to_bits(), b[1].to_bits()];
            if !seen.contains(&key(w[1], w[0])) {
                assert!(seen.insert(key(w[0], w[1])), "no two areas lie on the same side of a line");
                found.push([w[0], w[1]]);
            }
        }
        found
    }

    /// Whether two pieces of line have more in common than an end.
    fn cross([a, b]: [[f64; 2]; 2], [c, d]: [[f64; 2]; 2]) -> bool {
        let side = |p: [f64; 2], q: [f64; 2], r: [f64; 2]| {
            ((q[0] - p[0]) * (r[1] - p[1]) - (r[0] - p[0]) * (q[1] - p[1])).signum()
        };
        let between = |p: [f64; 2], q: [f64; 2], r: [f64; 2]| {
            (q[0] - p[0]) * (r[1] - p[1]) == (r[0] - p[0]) * (q[1] - p[1])
                && r != p
                && r != q
                && (r[0] - p[0]) * (r[0] - q[0]) <= 0.0
                && (r[1] - p[1]) * (r[1] - q[1]) <= 0.0
        };
        if between(a, b, c) || between(a, b, d) || between(c, d, a) || between(c, d, b) {
            return true;
        }
        let shared = a == c || a == d || b == c || b == d;
        !shared && side(a, b, c) * side(a, b, d) < 0.0 && side(c, d, a) * side(c, d, b) < 0.0
    }

    fn any_areas() -> impl Strategy<Value = Grid<u32>> {
        // Some of cells alone, some of areas that hang together.
        let noise = (1usize..9, 1usize..9, prop::collection::vec(0u32..4, 64))
            .prop_map(|(r, c, seed)| Grid::from_fn(r, c, |at| seed[at.row * 8 + at.col]));
        let land = prop::collection::vec((0usize..26, 0usize..26), 1..12).prop_map(|seeds| {
            Grid::from_fn(26, 26, |c| {
                let away = |s: &(usize, usize)| {
                    let (r, l) = (s.0.abs_diff(c.row) as f64, s.1.abs_diff(c.col) as f64);
                    r.hypot(l) + ((c.row * 7 + c.col * 13) % 5) as f64 * 0.4
                };
                let nearest = (0..seeds.len()).min_by(|&a, &b| away(&seeds[a]).total_cmp(&away(&seeds[b])));
                if c.row + c.col < 6 { 0 } else { nearest.unwrap() as u32 + 1 }
            })
        });
        prop_oneof![noise, land]
    }

    proptest! {
        #[test]
        fn lines_that_are_shared_give_the_outlines_of_cells(ids in any_areas()) {
            let coverage = Coverage::of(&ids, &frame(ids.rows(), ids.cols()));
            let mine = coverage.outlines();
            let known = outlines(&ids, &frame(ids.rows(), ids.cols()));
            prop_assert_eq!(mine.len(), known.len());
            for ((id, mine), (other, known)) in mine.iter().zip(&known) {
                prop_assert_eq!(id, other);
                prop_assert_eq!(plain(mine), plain(&known.polygons));
                prop_assert_eq!(mine.len(), known.polygons.len());
            }
            // Several areas as one.
            let odd = Grid::from_vec(ids.rows(), ids.cols(), ids.values().iter().map(|id| id % 2).collect());
            let known = outlines(&odd, &frame(ids.rows(), ids.cols()));
            let mine = coverage.outline(&|id| id % 2 == 1);
            prop_assert_eq!(plain(&mine), known.first().map_or(Vec::new(), |(_, o)| plain(&o.polygons)));
        }

        #[test]
        fn soft_outlines_leave_no_gap_and_do_not_cross(ids in any_areas(), smooth in any::<bool>()) {
            let kind = if smooth { OutlineKind::Smoothed } else { OutlineKind::Simplified };
            let coverage = Coverage::of(&ids, &frame(ids.rows(), ids.cols()));
            let soft = coverage.soft(kind);
            let (before, after) = (coverage.outlines(), soft.outlines());
            prop_assert_eq!(before.len(), after.len());
            for ((_, a), (_, b)) in before.iter().zip(&after) {
                prop_assert!((area(a) - area(b)).abs() <= 0.001 * area(a) + 1e-9, "{} {}", area(a), area(b));
                prop_assert_eq!(a.iter().map(Vec::len).collect::<Vec<_>>(), b.iter().map(Vec::len).collect::<Vec<_>>());
            }
            let all = sides(&after);
            for (at, &one) in all.iter().enumerate() {
                for &other in &all[at + 1..] {
                    prop_assert!(!cross(one, other), "{:?} {:?}", one, other);
                }
            }
        }

        #[test]
        fn coarse_lines_do_not_cross_either(ids in any_areas(), tolerance in 0.5f64..6.0) {
            let coverage = Coverage::of(&ids, &frame(ids.rows(), ids.cols()));
            let coarse = coverage.coarse(tolerance);
            prop_assert!(coarse.corners() <= coverage.corners());
            let all = sides(&coarse.outlines());
            for (at, &one) in all.iter().enumerate() {
                for &other in &all[at + 1..] {
                    prop_assert!(!cross(one, other), "{:?} {:?}", one, other);
                }
            }
        }
    }

    #[test]
    fn a_slanting_divide_loses_its_steps() {
        // A line that falls one row in three columns, through a large area.
        let ids = Grid::from_fn(90, 90, |c| if 3 * c.row > c.col + 90 { 1 } else { 2 });
        let coverage = Coverage::of(&ids, &frame(90, 90));
        let soft = coverage.soft(OutlineKind::Simplified);
        assert!(soft.corners() * 3 < coverage.corners(), "{} of {}", soft.corners(), coverage.corners());
        let smooth = coverage.soft(OutlineKind::Smoothed);
        assert!(smooth.corners() > soft.corners());
    }
}
