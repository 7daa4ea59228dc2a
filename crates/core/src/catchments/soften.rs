//! Lines that areas share, with fewer corners or rounded ones; no two come to cross.
//!
//! A corner may be taken away where the triangle of it and its two neighbours holds no other corner of any line: then no
//! line can cross the new side, since it would have to cross one of the two old ones.

use std::cmp::Ordering;
use std::collections::{BinaryHeap, HashMap, HashSet};

use super::coverage::Arc;

/// A place in columns and rows.
type Place = [f64; 2];

/// Share of its area by which an area may change.
const AREA_KEPT: f64 = 0.001;

/// By how much areas have changed, and may.
pub(super) struct Room {
    /// for each number: most change, and change so far, cells; nothing where areas may change freely
    areas: Option<HashMap<u32, (f64, f64)>>,
}

impl Room {
    pub(super) fn of(cells: &HashMap<u32, u64>) -> Self {
        // A little is kept for the digits of files.
        let most = |cells: u64| 0.9 * AREA_KEPT * cells as f64;
        Self { areas: Some(cells.iter().map(|(&id, &cells)| (id, (most(cells), 0.0))).collect()) }
    }

    pub(super) fn free() -> Self {
        Self { areas: None }
    }

    /// Hands land from the right to the left side of a line, where both keep to their room.
    fn hand_over(&mut self, left: u32, right: u32, cells: f64) -> bool {
        let Some(areas) = &mut self.areas else { return true };
        let fits = |id: u32, change: f64| match areas.get(&id) {
            Some((most, so_far)) => (so_far + change).abs() <= *most,
            None => true,
        };
        if !fits(left, cells) || !fits(right, -cells) {
            return false;
        }
        for (id, change) in [(left, cells), (right, -cells)] {
            if let Some(area) = areas.get_mut(&id) {
                area.1 += change;
            }
        }
        true
    }
}

/// Land, in cells, that the left side of a line gains where `b` on the way from `a` to `c` is left out. Rows count southwards.
fn gained_left(a: Place, b: Place, c: Place) -> f64 {
    ((b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])) / 2.0
}

/// Corners by where they lie.
struct Nearby {
    buckets: HashMap<(i32, i32), Vec<Place>>,
}

/// Cells along a side of a bucket.
const BUCKET: f64 = 8.0;

impl Nearby {
    fn of(arcs: &[Arc]) -> Self {
        let mut buckets: HashMap<(i32, i32), Vec<Place>> = HashMap::new();
        // Ends are shared.
        let mut seen = HashSet::new();
        for arc in arcs {
            let inner = arc.line.get(1..arc.line.len() - 1).unwrap_or(&[]);
            let ends = [arc.start, arc.end].into_iter().filter(|&end| seen.insert(end));
            let ends = ends.map(|c| [f64::from(c.col), f64::from(c.row)]);
            for place in inner.iter().copied().chain(ends) {
                buckets.entry(Self::bucket(place)).or_default().push(place);
            }
        }
        Self { buckets }
    }

    fn bucket(place: Place) -> (i32, i32) {
        ((place[0] / BUCKET).floor() as i32, (place[1] / BUCKET).floor() as i32)
    }

    fn remove(&mut self, place: Place) {
        if let Some(bucket) = self.buckets.get_mut(&Self::bucket(place))
            && let Some(at) = bucket.iter().position(|&p| p == place)
        {
            bucket.swap_remove(at);
        }
    }

    /// Whether a triangle, its sides included, holds no corner but `own`.
    fn is_empty(&self, triangle: [Place; 3], own: [Place; 3]) -> bool {
        let [a, b, c] = triangle;
        let side =
            |p: Place, q: Place, r: Place| (q[0] - p[0]) * (r[1] - p[1]) - (r[0] - p[0]) * (q[1] - p[1]);
        let inside = |p: Place| {
            let s = [side(a, b, p), side(b, c, p), side(c, a, p)];
            (s.iter().all(|&s| s >= 0.0) || s.iter().all(|&s| s <= 0.0)) && !own.contains(&p)
        };
        let least = [a[0].min(b[0]).min(c[0]), a[1].min(b[1]).min(c[1])];
        let most = [a[0].max(b[0]).max(c[0]), a[1].max(b[1]).max(c[1])];
        let (from, to) = (Self::bucket(least), Self::bucket(most));
        let within = |p: &Place| p[0] >= least[0] && p[0] <= most[0] && p[1] >= least[1] && p[1] <= most[1];
        (from.0..=to.0).all(|x| {
            (from.1..=to.1).all(|y| {
                let bucket = self.buckets.get(&(x, y)).map_or(&[][..], Vec::as_slice);
                !bucket.iter().any(|p| within(p) && inside(*p))
            })
        })
    }
}

/// A corner that may go: the smaller its triangle, the sooner.
struct Corner {
    area: f64,
    arc: u32,
    at: u32,
    /// its neighbours when this was found
    between: (u32, u32),
}

impl PartialEq for Corner {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Corner {}
impl PartialOrd for Corner {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Corner {
    fn cmp(&self, other: &Self) -> Ordering {
        other.area.total_cmp(&self.area).then_with(|| (other.arc, other.at).cmp(&(self.arc, self.at)))
    }
}

/// Distance of a place from a piece of line.
fn away(p: Place, a: Place, b: Place) -> f64 {
    let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
    let square = dx * dx + dy * dy;
    let t =
        if square > 0.0 { (((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / square).clamp(0.0, 1.0) } else { 0.0 };
    (p[0] - a[0] - t * dx).hypot(p[1] - a[1] - t * dy)
}

/// Leaves out corners, those of the smallest triangles first (Visvalingam and Whyatt 1993, The Cartographic Journal 30,
/// 46-51), while all that were left out between two that stay lie within `tolerance` cells of the line between those.
pub(super) fn simplify(arcs: &mut [Arc], room: &mut Room, tolerance: f64) {
    let mut nearby = Nearby::of(arcs);
    // Straight lines between two ends: a second one would lie on the first.
    let ends = |arc: &Arc| {
        let (a, b) = ((arc.start.row, arc.start.col), (arc.end.row, arc.end.col));
        (a.min(b), a.max(b))
    };
    let mut straight: HashSet<_> = arcs.iter().filter(|arc| arc.line.len() == 2).map(ends).collect();
    let mut before: Vec<Vec<u32>> = Vec::with_capacity(arcs.len());
    let mut after: Vec<Vec<u32>> = Vec::with_capacity(arcs.len());
    let mut count: Vec<usize> = arcs.iter().map(|arc| arc.line.len()).collect();
    let mut queue = BinaryHeap::new();
    let found = |arcs: &[Arc], arc: usize, at: u32, between: (u32, u32)| {
        let line = &arcs[arc].line;
        let (a, b, c) = (line[between.0 as usize], line[at as usize], line[between.1 as usize]);
        Corner { area: gained_left(a, b, c).abs(), arc: arc as u32, at, between }
    };
    for (at, arc) in arcs.iter().enumerate() {
        let last = arc.line.len() as u32 - 1;
        before.push((0..=last).map(|i| i.saturating_sub(1)).collect());
        after.push((0..=last).map(|i| (i + 1).min(last)).collect());
        queue.extend((1..last).map(|i| found(arcs, at, i, (i - 1, i + 1))));
    }
    while let Some(corner) = queue.pop() {
        let (arc, at) = (corner.arc as usize, corner.at as usize);
        let (from, to) = (before[arc][at], after[arc][at]);
        // One that is gone has no neighbours; one whose neighbours changed stands in the queue again.
        if corner.between != (from, to) || from == to {
            continue;
        }
        let closes = arcs[arc].start == arcs[arc].end;
        // A ring keeps three corners and its end.
        if closes && count[arc] <= 4 {
            continue;
        }
        let becomes_straight = count[arc] == 3;
        if becomes_straight && straight.contains(&ends(&arcs[arc])) {
            continue;
        }
        let line = &arcs[arc].line;
        let (a, b, c) = (line[from as usize], line[at], line[to as usize]);
        let near = line[from as usize + 1..to as usize].iter().all(|&p| away(p, a, c) <= tolerance);
        if !near || !nearby.is_empty([a, b, c], [a, b, c]) {
            continue;
        }
        if !room.hand_over(arcs[arc].left, arcs[arc].right, gained_left(a, b, c)) {
            continue;
        }
        nearby.remove(b);
        if becomes_straight {
            straight.insert(ends(&arcs[arc]));
        }
        count[arc] -= 1;
        after[arc][from as usize] = to;
        before[arc][to as usize] = from;
        (before[arc][at], after[arc][at]) = (0, 0);
        for beside in [from, to] {
            let between = (before[arc][beside as usize], after[arc][beside as usize]);
            let inner = beside != 0 && beside as usize != arcs[arc].line.len() - 1;
            if inner {
                queue.push(found(arcs, arc, beside, between));
            }
        }
    }
    for (at, arc) in arcs.iter_mut().enumerate() {
        let last = arc.line.len() - 1;
        let mut kept = vec![arc.line[0]];
        let mut here = 0usize;
        while here != last {
            here = after[at][here] as usize;
            kept.push(arc.line[here]);
        }
        arc.line = kept;
    }
}

/// Cells from a corner at which it is cut, at most.
const CUT: f64 = 2.0;

/// Cuts corners a quarter of the way to their neighbours (Chaikin 1974, Computer Graphics and Image Processing 3, 346-349), but
/// no farther than two cells.
pub(super) fn round(arcs: &mut [Arc], room: &mut Room) {
    let nearby = Nearby::of(arcs);
    for arc in arcs.iter_mut() {
        let line = &arc.line;
        let mut rounded = vec![line[0]];
        for w in line.windows(3) {
            let (a, b, c) = (w[0], w[1], w[2]);
            let towards = |q: Place| {
                let far = (q[0] - b[0]).hypot(q[1] - b[1]);
                let share = (CUT / far).min(0.25);
                [b[0] + share * (q[0] - b[0]), b[1] + share * (q[1] - b[1])]
            };
            let (p, q) = (towards(a), towards(c));
            let fits = nearby.is_empty([p, b, q], [a, b, c])
                && room.hand_over(arc.left, arc.right, gained_left(p, b, q));
            if fits { rounded.extend([p, q]) } else { rounded.push(b) }
        }
        rounded.extend(line.last().copied());
        arc.line = rounded;
    }
}
