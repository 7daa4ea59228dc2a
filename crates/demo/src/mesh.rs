//! A landscape carved by its rivers on an irregular mesh, so that channels do not follow rows and columns.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;

use bothros_core::Grid;
use delaunator::{EMPTY, Point, triangulate};
use rayon::prelude::*;

use crate::noise::Noise;

/// Points spread unevenly over a plane, joined to triangles (Delaunay).
pub struct Mesh {
    /// `[x, y]`, metres
    pub points: Vec<[f64; 2]>,
    triangles: Vec<[u32; 3]>,
    /// neighbours of each point, one after another, from `first[i]` to `first[i + 1]`
    neighbours: Vec<u32>,
    first: Vec<u32>,
    /// area that belongs to each point, square metres
    area: Vec<f64>,
    /// whether a point lies on the rim, where water leaves
    rim: Vec<bool>,
}

/// How land rises, wears off and creeps.
pub struct Forces<'a> {
    /// uplift of a point, metres a year
    pub uplift: &'a (dyn Fn([f64; 2]) -> f64 + Sync),
    /// erodibility K of a point, 1/a with a slope exponent of 1 and an area exponent of 0.5
    pub erodibility: &'a (dyn Fn([f64; 2]) -> f64 + Sync),
    /// share of the difference to the mean of its neighbours that creep takes off a point in a round
    pub creep: f64,
    /// rounds of creep in a step
    pub rounds: usize,
}

/// Points from `from` to `to` (`[x, y]`, metres), about `spacing(x, y)` apart, each off its place by up to two thirds of that.
///
/// # Source
/// Jittered grid, common practice; halved where the spacing wanted is less than three quarters of a square's.
pub fn scatter(
    from: [f64; 2],
    to: [f64; 2],
    coarse: f64,
    spacing: &(dyn Fn([f64; 2]) -> f64 + Sync),
    seed: u64,
) -> Vec<[f64; 2]> {
    let noise = Noise(seed);
    let (cols, rows) =
        (((to[0] - from[0]) / coarse).ceil() as i64, ((to[1] - from[1]) / coarse).ceil() as i64);
    let mut out = Vec::new();
    for row in 0..rows {
        for col in 0..cols {
            let corner = [from[0] + col as f64 * coarse, from[1] + row as f64 * coarse];
            let middle = [corner[0] + coarse / 2.0, corner[1] + coarse / 2.0];
            let parts = (coarse / spacing(middle)).round().max(1.0) as i64;
            let size = coarse / parts as f64;
            for r in 0..parts {
                for c in 0..parts {
                    let (x, y) = (col * 64 + c, row * 64 + r);
                    let off = |n: u64| 1.3 * (Noise(noise.0 ^ n).at(x, y) - 0.5) * size;
                    let at = [
                        corner[0] + (c as f64 + 0.5) * size + off(0x51),
                        corner[1] + (r as f64 + 0.5) * size + off(0xA7),
                    ];
                    if at[0] < to[0] && at[1] < to[1] {
                        out.push(at);
                    }
                }
            }
        }
    }
    out
}

/// Soil and scree rest on slopes of 0.4 m/m, and on none that is steeper (common practice).
const STEEPEST: f64 = 0.4;
/// What drains so much keeps a channel of its own across a floodplain.
const SIDE_STREAM_M2: f64 = 3e4;

impl Mesh {
    /// Joins points to triangles.
    pub fn new(points: Vec<[f64; 2]>) -> Self {
        let placed: Vec<Point> = points.iter().map(|p| Point { x: p[0], y: p[1] }).collect();
        let made = triangulate(&placed);
        let triangles: Vec<[u32; 3]> =
            made.triangles.chunks_exact(3).map(|t| [t[0] as u32, t[1] as u32, t[2] as u32]).collect();
        let mut area = vec![0.0; points.len()];
        for t in &triangles {
            let [a, b, c] = t.map(|i| points[i as usize]);
            let size = ((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])).abs() / 2.0;
            for &i in t {
                area[i as usize] += size / 3.0;
            }
        }
        let mut rim = vec![false; points.len()];
        for &i in &made.hull {
            rim[i] = true;
        }
        // Each edge once; those of the hull have one side only.
        let mut edges: Vec<(u32, u32)> = Vec::new();
        for (e, &twin) in made.halfedges.iter().enumerate() {
            let next = if e % 3 == 2 { e - 2 } else { e + 1 };
            if twin == EMPTY || e < twin {
                edges.push((made.triangles[e] as u32, made.triangles[next] as u32));
            }
        }
        let mut first = vec![0u32; points.len() + 1];
        for &(a, b) in &edges {
            first[a as usize + 1] += 1;
            first[b as usize + 1] += 1;
        }
        for i in 0..points.len() {
            first[i + 1] += first[i];
        }
        let mut at = first.clone();
        let mut neighbours = vec![0u32; edges.len() * 2];
        for &(a, b) in &edges {
            for (from, to) in [(a, b), (b, a)] {
                neighbours[at[from as usize] as usize] = to;
                at[from as usize] += 1;
            }
        }
        Self { points, triangles, neighbours, first, area, rim }
    }

    fn around(&self, i: usize) -> &[u32] {
        &self.neighbours[self.first[i] as usize..self.first[i + 1] as usize]
    }

    fn apart(&self, a: usize, b: usize) -> f64 {
        let ([ax, ay], [bx, by]) = (self.points[a], self.points[b]);
        ((ax - bx) * (ax - bx) + (ay - by) * (ay - by)).sqrt()
    }

    /// Fills hollows to their spill levels, and tells where each point drains to (itself on the rim) and the points from
    /// the rim upstream.
    fn drain(&self, z: &mut [f64]) -> (Vec<u32>, Vec<u32>) {
        #[derive(PartialEq)]
        struct Level(f64);
        impl Eq for Level {}
        impl PartialOrd for Level {
            fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
                Some(self.cmp(other))
            }
        }
        impl Ord for Level {
            fn cmp(&self, other: &Self) -> Ordering {
                self.0.total_cmp(&other.0)
            }
        }
        let mut receiver: Vec<u32> = (0..z.len() as u32).collect();
        let mut seen = self.rim.clone();
        let mut order = Vec::with_capacity(z.len());
        let mut open: BinaryHeap<Reverse<(Level, u32)>> = BinaryHeap::new();
        open.extend((0..z.len()).filter(|&i| self.rim[i]).map(|i| Reverse((Level(z[i]), i as u32))));
        while let Some(Reverse((Level(level), at))) = open.pop() {
            order.push(at);
            for &n in self.around(at as usize) {
                let n = n as usize;
                if std::mem::replace(&mut seen[n], true) {
                    continue;
                }
                if z[n] <= level {
                    z[n] = level + 1e-4;
                }
                receiver[n] = at;
                open.push(Reverse((Level(z[n]), n as u32)));
            }
        }
        // Where the ground falls, water goes the steepest way.
        for i in (0..z.len()).filter(|&i| !self.rim[i]) {
            let fall = |n: usize| (z[i] - z[n]) / self.apart(i, n);
            let steepest =
                self.around(i).iter().max_by(|&&a, &&b| fall(a as usize).total_cmp(&fall(b as usize)));
            if let Some(&n) = steepest.filter(|&&n| z[n as usize] < z[i]) {
                receiver[i] = n;
            }
        }
        (receiver, order)
    }

    /// What drains to each point, square metres, itself counted.
    fn gathered(&self, receiver: &[u32], z: &[f64]) -> Vec<f64> {
        let mut order: Vec<u32> = (0..z.len() as u32).collect();
        order.sort_by(|&a, &b| z[b as usize].total_cmp(&z[a as usize]).then(a.cmp(&b)));
        let mut gathered = self.area.clone();
        for &i in &order {
            let to = receiver[i as usize];
            if to != i {
                gathered[to as usize] += gathered[i as usize];
            }
        }
        gathered
    }

    /// Moves the land on by `steps` of `years` each: uplift, erosion by the stream-power law, solved implicitly from the
    /// rim upstream so that steps may be long, and creep. The rim keeps its elevation.
    ///
    /// # Source
    /// Braun and Willett 2013, Geomorphology 180, 170-179.
    pub fn evolve(&self, z: &mut Vec<f64>, forces: &Forces<'_>, years: f64, steps: usize) {
        let uplift: Vec<f64> = self.points.par_iter().map(|&p| (forces.uplift)(p) * years).collect();
        let erodibility: Vec<f64> =
            self.points.par_iter().map(|&p| (forces.erodibility)(p) * years).collect();
        for _ in 0..steps {
            let (receiver, _) = self.drain(z);
            let gathered = self.gathered(&receiver, z);
            let mut order: Vec<u32> = (0..z.len() as u32).collect();
            order.par_sort_by(|&a, &b| z[a as usize].total_cmp(&z[b as usize]).then(a.cmp(&b)));
            for &i in &order {
                let i = i as usize;
                let to = receiver[i] as usize;
                if to == i {
                    continue;
                }
                let apart = self.apart(i, to);
                let factor = erodibility[i] * gathered[i].sqrt() / apart;
                z[i] = (z[i] + uplift[i] + factor * z[to]) / (1.0 + factor);
                // Steeper ground slides.
                z[i] = z[i].min(z[to] + STEEPEST * apart);
            }
            for _ in 0..forces.rounds {
                self.creep(z, forces.creep, &gathered);
            }
        }
        self.drain(z);
    }

    /// Soil creep: a round of linear diffusion. Streams carry off what creeps into them.
    fn creep(&self, z: &mut Vec<f64>, share: f64, gathered: &[f64]) {
        let before = std::mem::take(z);
        let crept = |i: usize| {
            let around = self.around(i);
            if self.rim[i] || around.is_empty() || gathered[i] >= SIDE_STREAM_M2 {
                return before[i];
            }
            let mean = around.iter().map(|&n| before[n as usize]).sum::<f64>() / around.len() as f64;
            before[i] + share * (mean - before[i])
        };
        *z = (0..before.len()).into_par_iter().map(crept).collect();
    }

    /// Lays floodplains along rivers that drain `from_m2` and more: within a width that grows with the root of the area,
    /// ground that stands less than `most_m` above the river is brought down to a gentle apron beside it.
    pub fn floodplains(&self, z: &mut [f64], from_m2: f64, most_m: f64) {
        let (receiver, _) = self.drain(z);
        let gathered = self.gathered(&receiver, z);
        // Nearest river point of each point near one: distance, and its number.
        let mut near: Vec<Option<(f64, u32)>> = vec![None; z.len()];
        let mut open: BinaryHeap<Reverse<(u64, u32, u32)>> = BinaryHeap::new();
        let millimetres = |m: f64| (m * 1000.0) as u64;
        for i in (0..z.len()).filter(|&i| gathered[i] >= from_m2) {
            open.push(Reverse((0, i as u32, i as u32)));
        }
        while let Some(Reverse((away, at, river))) = open.pop() {
            if near[at as usize].is_some() {
                continue;
            }
            near[at as usize] = Some((away as f64 / 1000.0, river));
            let width = 9.0 * (gathered[river as usize] / 1e6).sqrt();
            for &n in self.around(at as usize) {
                let next = away + millimetres(self.apart(at as usize, n as usize));
                if near[n as usize].is_none() && (next as f64) < width * 1000.0 {
                    open.push(Reverse((next, n, river)));
                }
            }
        }
        let before = z.to_vec();
        for (i, of) in near.iter().enumerate() {
            let Some((away, river)) = *of else { continue };
            let above = before[i] - before[river as usize];
            if away > 0.0 && (0.0..most_m).contains(&above) {
                // Side streams cut through the apron.
                let (bank, fall) = if gathered[i] >= SIDE_STREAM_M2 { (0.1, 0.006) } else { (0.7, 0.012) };
                z[i] = before[river as usize] + (bank + fall * away).min(above) + 0.06 * above;
            }
        }
        self.drain(z);
    }

    /// Elevations at other points, between those of this mesh.
    pub fn at(&self, z: &[f64], points: &[[f64; 2]], spacing: f64) -> Vec<f64> {
        let (mut low, mut high) = ([f64::INFINITY; 2], [f64::NEG_INFINITY; 2]);
        for p in &self.points {
            for k in 0..2 {
                low[k] = low[k].min(p[k]);
                high[k] = high[k].max(p[k]);
            }
        }
        let (cols, rows) = (
            ((high[0] - low[0]) / spacing).ceil() as usize + 1,
            ((high[1] - low[1]) / spacing).ceil() as usize + 1,
        );
        let grid = self.grid(z, rows, cols, [low[0], high[1]], spacing);
        points
            .par_iter()
            .map(|p| {
                let (col, row) = ((p[0] - low[0]) / spacing - 0.5, (high[1] - p[1]) / spacing - 0.5);
                crate::erosion::sample(&grid, row, col)
            })
            .collect()
    }

    /// Elevations at the centres of cells, along the planes of the triangles; beyond them that of the nearest cell which
    /// has one. `corner` is the north-west one.
    pub fn grid(&self, z: &[f64], rows: usize, cols: usize, corner: [f64; 2], cell: f64) -> Grid<f32> {
        let mut values = vec![f32::NAN; rows * cols];
        let place = |p: [f64; 2]| [(p[0] - corner[0]) / cell - 0.5, (corner[1] - p[1]) / cell - 0.5];
        for t in &self.triangles {
            let [a, b, c] = t.map(|i| place(self.points[i as usize]));
            let heights = t.map(|i| z[i as usize]);
            let twice = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]);
            if twice == 0.0 {
                continue;
            }
            let span = |k: usize, most: usize| {
                let low = a[k].min(b[k]).min(c[k]).ceil().max(0.0) as usize;
                let high = a[k].max(b[k]).max(c[k]).floor().min(most as f64 - 1.0);
                low..(if high < 0.0 { low } else { high as usize + 1 })
            };
            for row in span(1, rows) {
                for col in span(0, cols) {
                    let p = [col as f64, row as f64];
                    let part = |u: [f64; 2], v: [f64; 2]| {
                        ((u[0] - p[0]) * (v[1] - p[1]) - (u[1] - p[1]) * (v[0] - p[0])) / twice
                    };
                    let (wa, wb, wc) = (part(b, c), part(c, a), part(a, b));
                    if wa >= -1e-9 && wb >= -1e-9 && wc >= -1e-9 {
                        values[row * cols + col] =
                            (wa * heights[0] + wb * heights[1] + wc * heights[2]) as f32;
                    }
                }
            }
        }
        // Cells beyond the outermost triangles.
        for row in 0..rows {
            spread(&mut values[row * cols..(row + 1) * cols]);
        }
        for col in 0..cols {
            let mut column: Vec<f32> = (0..rows).map(|row| values[row * cols + col]).collect();
            spread(&mut column);
            for (row, v) in column.into_iter().enumerate() {
                values[row * cols + col] = v;
            }
        }
        Grid::from_vec(rows, cols, values)
    }
}

/// Replaces missing values by the nearest one before or after them.
fn spread(values: &mut [f32]) {
    let known: Vec<usize> = (0..values.len()).filter(|&i| !values[i].is_nan()).collect();
    let (Some(&first), Some(&last)) = (known.first(), known.last()) else { return };
    let (head, tail) = (values[first], values[last]);
    values[..first].fill(head);
    values[last + 1..].fill(tail);
    let mut before = head;
    for v in &mut values[first..last] {
        if v.is_nan() {
            *v = before;
        }
        before = *v;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(spacing: f64) -> Mesh {
        Mesh::new(scatter([0.0, 0.0], [1000.0, 800.0], spacing, &|_| spacing, 5))
    }

    #[test]
    fn points_have_neighbours_and_share_the_area() {
        let mesh = square(40.0);
        let degree = mesh.neighbours.len() as f64 / mesh.points.len() as f64;
        // Euler: six on the mean, but for the rim.
        assert!((5.0..6.0).contains(&degree), "{degree}");
        let all: f64 = mesh.area.iter().sum();
        assert!((0.85..1.0).contains(&(all / 800_000.0)), "{all}");
        for i in 0..mesh.points.len() {
            assert!(mesh.around(i).iter().all(|&n| mesh.around(n as usize).contains(&(i as u32))));
        }
    }

    #[test]
    fn a_plane_comes_back_on_the_grid_and_at_other_points() {
        let mesh = square(40.0);
        let plane = |p: [f64; 2]| 3.0 + 0.2 * p[0] - 0.1 * p[1];
        let z: Vec<f64> = mesh.points.iter().map(|&p| plane(p)).collect();
        let grid = mesh.grid(&z, 60, 80, [100.0, 700.0], 10.0);
        for (row, col) in [(0, 0), (30, 40), (59, 79)] {
            let at = [100.0 + (col as f64 + 0.5) * 10.0, 700.0 - (row as f64 + 0.5) * 10.0];
            assert!((f64::from(grid.values()[row * 80 + col]) - plane(at)).abs() < 1e-3);
        }
        let there = [[333.0, 444.0], [612.5, 250.0]];
        for (v, p) in mesh.at(&z, &there, 10.0).into_iter().zip(there) {
            assert!((v - plane(p)).abs() < 0.05, "{v} at {p:?}");
        }
    }

    /// At a steady state a river's slope is uplift / (K sqrt(A)): erosion balances uplift.
    #[test]
    fn rivers_reach_the_steady_slope() {
        let mesh = square(25.0);
        let (uplift, erodibility) = (1e-3, 2e-5);
        let forces = Forces { uplift: &|_| uplift, erodibility: &|_| erodibility, creep: 0.0, rounds: 0 };
        let mut z: Vec<f64> = mesh.points.iter().map(|p| p[0] * 0.01 + p[1] * 0.003).collect();
        mesh.evolve(&mut z, &forces, 2e4, 400);
        let (receiver, _) = mesh.drain(&mut z);
        let gathered = mesh.gathered(&receiver, &z);
        let mut seen = 0;
        for i in (0..z.len()).filter(|&i| gathered[i] > 2e4 && receiver[i] as usize != i) {
            let to = receiver[i] as usize;
            let slope = (z[i] - z[to]) / mesh.apart(i, to);
            let steady = uplift / (erodibility * gathered[i].sqrt());
            assert!((slope / steady - 1.0).abs() < 0.05, "{slope} against {steady}");
            seen += 1;
        }
        assert!(seen > 20, "{seen}");
    }

    #[test]
    fn every_point_drains_to_the_rim() {
        let mesh = square(30.0);
        let mut z: Vec<f64> =
            mesh.points.iter().map(|p| Noise(3).smooth(p[0] / 90.0, p[1] / 90.0) * 20.0).collect();
        let (receiver, order) = mesh.drain(&mut z);
        assert_eq!(order.len(), z.len());
        for start in 0..z.len() {
            let mut at = start;
            for _ in 0..z.len() {
                if receiver[at] as usize == at {
                    break;
                }
                assert!(z[receiver[at] as usize] < z[at]);
                at = receiver[at] as usize;
            }
            assert!(mesh.rim[at], "{start} ends inside");
        }
    }
}
