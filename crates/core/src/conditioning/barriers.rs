//! Barriers: narrow raised lines that hold a sink in the DEM and let water pass in the field.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::hierarchy::Depression;
use super::lines::Line;
use super::way_out::{WayLimits, WayOut};
use crate::grid::share_within;
use crate::monitor::SharedPace;
use crate::routing::ACCUMULATION_NODATA;
use crate::{Area, Cell, Frame, Grid, Monitor, Result};

/// Search parameters and evidence for [`find_barriers`].
#[derive(Debug, Clone, PartialEq)]
pub struct BarrierSearch {
    /// standard deviation of the DEM's error, metres: what stands out by less than twice as much is noise, and so are sinks that are no deeper
    pub vertical_error_m: f64,
    /// where less gathers, no crossing is built
    pub least_area: Area,
    /// how far lower ground may lie from a sink's bottom, metres
    pub reach_m: f64,
    /// the widest line that is taken for a barrier, metres
    pub widest_m: f64,
    /// lower scores are left out, from 0 to 1
    pub least_score: f64,
    /// number of sinks examined, the largest by volume
    pub most_sinks: usize,
    /// how many barriers are proposed
    pub most_barriers: usize,
    /// mapped streams
    pub streams: Vec<Line>,
    /// culverts and bridges that somebody has seen, `[x, y]` in CRS units
    pub culverts: Vec<[f64; 2]>,
    /// how near a culvert or a mapped stream must be to count, metres
    pub near_m: f64,
}

/// Width of cells up to which crossings can be seen, metres: an embankment fills a cell or two of it. (Ours.)
pub const CROSSINGS_SEEN_M: f64 = 10.0;

impl BarrierSearch {
    /// What is no more than the DEM's error, metres.
    fn noise_m(&self) -> f64 {
        2.0 * self.vertical_error_m
    }

    /// How far a height counts, from 0 to 1.
    fn height_share(&self, height_m: f64) -> f64 {
        share(height_m, self.noise_m(), self.noise_m() + HIGH_M)
    }
}

/// A barrier that stands so much above the noise counts in full, metres.
const HIGH_M: f64 = 1.5;

impl Default for BarrierSearch {
    fn default() -> Self {
        Self {
            vertical_error_m: 0.15,
            least_area: Area::km2(0.05),
            reach_m: 200.0,
            widest_m: 60.0,
            least_score: 0.55,
            most_sinks: 20_000,
            most_barriers: 500,
            streams: Vec::new(),
            culverts: Vec::new(),
            near_m: 40.0,
        }
    }
}

/// A place where water probably passes a barrier, with the evidence for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Barrier {
    /// the proposed breach line, from the sink's bottom to lower ground, `[x, y]` in CRS units
    pub line: Line,
    /// the highest place on it, `[x, y]` in CRS units
    pub crest: [f64; 2],
    /// the deepest cell of the sink that is held
    pub bottom: Cell,
    /// depth of that sink, metres
    pub sink_depth_m: f64,
    /// its area
    pub sink_area: Area,
    /// its volume, cubic metres
    pub sink_volume_m3: f64,
    /// what drains to that sink once all are filled
    pub contributing: Area,
    /// how far the crest stands above the higher of its two feet, metres
    pub height_m: f64,
    /// deepest cut along the line, metres
    pub cut_m: f64,
    /// width of what stands above a quarter of its height, metres
    pub width_m: f64,
    /// share of the crest, looked at on both sides of the line, that stands out as a raised line does,
    /// from 0 to 1
    pub straightness: f64,
    /// elevation of the crest less the mean around it, metres: its topographic position
    pub position_m: f64,
    /// how much lower the ground is that the line leads to than the sink's bottom, metres
    pub drop_m: f64,
    /// distance from the crest to the nearest culvert, metres, where one is near
    pub culvert_m: Option<f64>,
    /// distance from the crest to the nearest mapped stream, metres, where one is near
    pub stream_m: Option<f64>,
    /// how much speaks for it, from 0 to 1
    pub score: f64,
}

/// Finds what holds each of `sinks`, the [hierarchy](super::sink_hierarchy()) of `dem` (elevation in
/// metres, `NaN` for nodata, at `frame`); the highest score first. `accumulation` is the flow
/// accumulation of `dem` with all sinks filled.
///
/// From the bottom of each sink that is deep enough (of two that join, the shallower counts up to where
/// it joins) the way to lower ground that is cheapest to cut is sought, as in
/// [`breach`](super::breach()). What it cuts through is a barrier if it is narrow, stands above both
/// its feet, and goes on to both sides as a raised line. The score weighs
///
/// | evidence | weight |
/// | --- | --- |
/// | height above twice the vertical error, up to 1.5 m | 0.35 |
/// | straightness | 0.3 |
/// | what drains there, from the least area that counts to 1 km² (by its logarithm) | 0.2 |
/// | width, against the widest that counts | 0.15 |
/// | a culvert near, a mapped stream near | 0.15 and 0.1 more, as far as the height counts |
///
/// and is 1 at most. The weights are our own choice, and a score is no probability: how many proposals of a score were true on generated landscapes
/// is told by [`share_true`]. Two that cross the same place are one.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Ways out as in Lindsay and Dhun 2015, International Journal of Geographical Information Science 29,
/// 1243-1257; topographic position after Weiss 2001, Topographic
/// position and landforms analysis (a conference poster).
///
/// ```
/// use bothros_core::{Area, Frame, Grid, Silent, conditioning::{BarrierSearch, fill, find_barriers, sink_hierarchy}};
/// use bothros_core::routing::{flow_accumulation, flow_directions};
/// // A valley that falls to the south, and a bank across it.
/// let dem = Grid::from_fn(60, 41, |c| {
///     let ground = 50.0 - 0.2 * c.row as f32 + 0.3 * (c.col as f32 - 20.0).abs();
///     if (30..33).contains(&c.row) { ground.max(48.0) } else { ground }
/// });
/// let frame = Frame { rows: 60, cols: 41, left: 0.0, top: 240.0, cell_size: 4.0, unit_m: 1.0 };
/// let sinks = sink_hierarchy(&dem, &frame, &[], &Silent)?;
/// let accumulation = flow_accumulation(&flow_directions(&fill(&dem, &Silent)?, &Silent)?, &Silent)?;
/// let search = BarrierSearch { least_area: Area::m2(10_000.0), ..Default::default() };
/// let found = find_barriers(&dem, &accumulation, &frame, &sinks, &search, &Silent)?;
/// assert_eq!(found.len(), 1);
/// assert_eq!(frame.cell_at(found[0].crest[0], found[0].crest[1]).map(|c| c.col), Some(20));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn find_barriers(
    dem: &Grid<f32>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    sinks: &[Depression],
    search: &BarrierSearch,
    monitor: &dyn Monitor,
) -> Result<Vec<Barrier>> {
    let mut deep: Vec<&Depression> = sinks
        .iter()
        .filter(|sink| {
            let goes_on =
                sink.parent.and_then(|p| sinks.get(p as usize)).is_some_and(|p| p.bottom == sink.bottom);
            !goes_on && sink.depth_m as f64 >= search.noise_m()
        })
        .collect();
    // What matters is large; on the roughest terrain there are more of them than anybody could review.
    deep.sort_by(|a, b| b.volume_m3.total_cmp(&a.volume_m3).then(a.id.cmp(&b.id)));
    deep.truncate(search.most_sinks);
    let near = Nearby::new(search, frame);
    let pace = SharedPace::new(monitor, deep.len());
    let limits = WayLimits { reach_m: search.reach_m, widest_m: search.widest_m };
    let ways = || WayOut::new(dem, frame, limits);
    let mut found: Vec<Barrier> = deep
        .par_iter()
        .map_init(ways, |ways, sink| {
            pace.advance(1)?;
            let barrier = look_at(dem, accumulation, frame, sink, search, ways, monitor)?;
            Ok(barrier.map(|barrier| near.weigh(barrier)).filter(|b| b.score >= search.least_score))
        })
        .collect::<Result<Vec<_>>>()?
        .into_iter()
        .flatten()
        .collect();
    found.sort_by(|a, b| b.score.total_cmp(&a.score).then(a.bottom.cmp(&b.bottom)));
    let apart = search.widest_m / 2.0 / frame.unit_m;
    let mut kept: Vec<Barrier> = Vec::new();
    for barrier in found {
        let same = |k: &Barrier| distance(k.crest, barrier.crest) < apart;
        if !kept.iter().any(same) {
            kept.push(barrier);
        }
        if kept.len() == search.most_barriers {
            break;
        }
    }
    Ok(kept)
}

fn distance(a: [f64; 2], b: [f64; 2]) -> f64 {
    (a[0] - b[0]).hypot(a[1] - b[1])
}

/// What holds one sink, scored by its shape alone.
fn look_at(
    dem: &Grid<f32>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    sink: &Depression,
    search: &BarrierSearch,
    ways: &mut WayOut<'_>,
    monitor: &dyn Monitor,
) -> Result<Option<Barrier>> {
    let pond = ways.pond_of(sink);
    let upstream = pond.iter().map(|&i| accumulation.values()[i as usize]);
    let upstream = upstream.filter(|&cells| cells != ACCUMULATION_NODATA).max().unwrap_or(0);
    let contributing = frame.area_of(upstream as u64 + 1);
    if contributing < search.least_area {
        return Ok(None);
    }
    let Some(path) = ways.search(sink, monitor)? else {
        return Ok(None);
    };
    let z: Vec<f64> = path.iter().map(|&c| dem.get(c).copied().unwrap_or(f32::NAN) as f64).collect();
    let cell_m = frame.cell_m();
    // Distance along the path, metres.
    let mut along = vec![0.0];
    for pair in path.windows(2) {
        let diagonal = pair[0].row != pair[1].row && pair[0].col != pair[1].col;
        along.push(along[along.len() - 1] + cell_m * if diagonal { std::f64::consts::SQRT_2 } else { 1.0 });
    }
    let crest = (0..z.len()).max_by(|&a, &b| z[a].total_cmp(&z[b]).then(b.cmp(&a))).unwrap_or(0);
    let within = |i: usize| (along[i] - along[crest]).abs() <= search.widest_m;
    let lowest =
        |range: std::ops::Range<usize>| range.filter(|&i| within(i)).min_by(|&a, &b| z[a].total_cmp(&z[b]));
    let (Some(up), Some(down)) = (lowest(0..crest), lowest(crest + 1..z.len())) else {
        return Ok(None);
    };
    let height = z[crest] - z[up].max(z[down]);
    if height <= 0.0 {
        return Ok(None);
    }
    let quarter = z[up].max(z[down]) + 0.25 * height;
    let stands = |i: &usize| z[*i] > quarter;
    let first = (up..=crest).rev().take_while(stands).last().unwrap_or(crest);
    let last = (crest..=down).take_while(stands).last().unwrap_or(crest);
    let width_m = along[last] - along[first] + cell_m;
    if width_m > search.widest_m {
        return Ok(None);
    }
    let level = |i: usize| z[0] + (z[z.len() - 1] - z[0]) * along[i] / along[along.len() - 1];
    let cut_m = (0..z.len()).map(|i| z[i] - level(i)).fold(0.0, f64::max);
    let ridge = Ridge {
        dem,
        cell_m,
        centre: path[crest],
        from: path[up],
        to: path[down],
        width_m,
        height,
        noise_m: search.noise_m(),
    };
    let straightness = ridge.straightness();
    let position_m = ridge.position(search.widest_m);
    let score = 0.3 * straightness
        + 0.15 * (1.0 - width_m / search.widest_m)
        + 0.35 * search.height_share(height)
        + 0.2 * share(contributing.as_km2().log10(), search.least_area.as_km2().log10(), 0.0);
    let place = |cell: Cell| {
        let (x, y) = frame.centre(cell);
        [x, y]
    };
    Ok(Some(Barrier {
        line: without_straight_points(path.iter().map(|&c| place(c)).collect()),
        crest: place(path[crest]),
        bottom: sink.bottom,
        sink_depth_m: sink.depth_m as f64,
        sink_area: sink.area,
        sink_volume_m3: sink.volume_m3,
        contributing,
        height_m: height,
        cut_m,
        width_m,
        straightness,
        position_m,
        drop_m: z[0] - z[z.len() - 1],
        culvert_m: None,
        stream_m: None,
        score,
    }))
}

/// Lower ends of classes of scores, and the share of proposals in each that were true crossings on twenty generated landscapes (cells of 2 to 10 m, errors of 0.05 to 0.5 m,
/// known crossings and natural dams that hold water), without mapped streams or culverts. Counted by a test of the crate `demo`.
pub const TRUE_BY_SCORE: [(f64, f64); 3] = [(0.55, 0.26), (0.65, 0.44), (0.75, 0.51)];

/// Share of proposals with about such a score that were true crossings on generated landscapes; see [`TRUE_BY_SCORE`].
pub fn share_true(score: f64) -> Option<f64> {
    TRUE_BY_SCORE.iter().rev().find(|(from, _)| score >= *from).map(|(_, share)| *share)
}

/// 0 where something is `none` or less, 1 where it is `all` or more.
fn share(value: f64, none: f64, all: f64) -> f64 {
    ((value - none) / (all - none)).clamp(0.0, 1.0)
}

/// Leaves out points where a line does not turn.
fn without_straight_points(line: Line) -> Line {
    let mut out: Line = Vec::with_capacity(line.len());
    for p in line {
        if let [.., a, b] = out[..]
            && ((b[0] - a[0]) * (p[1] - b[1]) - (b[1] - a[1]) * (p[0] - b[0])).abs() < 1e-9
        {
            out.pop();
        }
        out.push(p);
    }
    out
}

/// What a path crosses, examined on both sides.
struct Ridge<'a> {
    dem: &'a Grid<f32>,
    cell_m: f64,
    centre: Cell,
    /// its feet along the path
    from: Cell,
    to: Cell,
    width_m: f64,
    height: f64,
    noise_m: f64,
}

impl Ridge<'_> {
    fn z(&self, row: f64, col: f64) -> f64 {
        let inside = row >= 0.0 && col >= 0.0;
        let cell = Cell { row: row.round() as usize, col: col.round() as usize };
        self.dem.get(cell).filter(|_| inside).map_or(f64::NAN, |&z| z as f64)
    }

    /// The share of places along the crest, out to 48 m or six cells on each side, that stand above
    /// the ground before and behind by at least three tenths of the barrier's height.
    fn straightness(&self) -> f64 {
        let (dr, dc) = (self.to.row as f64 - self.from.row as f64, self.to.col as f64 - self.from.col as f64);
        let length = dr.hypot(dc).max(1e-9);
        let (ur, uc) = (dr / length, dc / length);
        let half = self.width_m / 2.0 / self.cell_m;
        let beside = half + 2.0;
        let reach = (48.0 / self.cell_m).max(6.0);
        let step = (reach / 8.0).max(1.0);
        let mut share = 0.0;
        let crest = self.z(self.centre.row as f64, self.centre.col as f64);
        for sign in [-1.0, 1.0] {
            // The crest may bend: it is looked for beside where it was.
            let (mut shift, mut places, mut raised) = (0.0, 0, 0);
            let mut away = step;
            while away <= reach + 1e-9 {
                let at = |t: f64| {
                    self.z(
                        self.centre.row as f64 - uc * sign * away + ur * t,
                        self.centre.col as f64 + ur * sign * away + uc * t,
                    )
                };
                let search = (-4..=4).map(|i| shift + i as f64 * (0.25 * step).max(0.5));
                let best = search.filter(|&t| !at(t).is_nan()).max_by(|&a, &b| at(a).total_cmp(&at(b)));
                let Some(t) = best else { break };
                let (before, behind) = (at(t - beside), at(t + beside));
                if before.max(behind) >= crest {
                    // It has met the side of the valley.
                    break;
                }
                places += 1;
                if at(t) - before.max(behind) >= (0.3 * self.height).max(self.noise_m) {
                    raised += 1;
                    shift = t;
                }
                away += step;
            }
            // Where it meets the side of the valley at once, nothing speaks for or against it.
            share += if places == 0 { 0.5 } else { raised as f64 / places as f64 } / 2.0;
        }
        share
    }

    /// The crest's elevation less the mean within a radius, metres.
    fn position(&self, radius_m: f64) -> f64 {
        let reach = (radius_m / self.cell_m).round().max(2.0) as usize;
        let Cell { row, col } = self.centre;
        let (mut sum, mut count) = (0.0, 0);
        for r in row.saturating_sub(reach)..=row + reach {
            for c in col.saturating_sub(reach)..=col + reach {
                let away = (r.abs_diff(row).pow(2) + c.abs_diff(col).pow(2)) as f64;
                match self.dem.get(Cell { row: r, col: c }) {
                    Some(z) if !z.is_nan() && away <= (reach * reach) as f64 => {
                        sum += *z as f64;
                        count += 1;
                    }
                    _ => {}
                }
            }
        }
        self.z(row as f64, col as f64) - sum / count.max(1) as f64
    }
}

/// Culverts and mapped streams, by places as large as the distance that counts as near.
struct Nearby<'a> {
    search: &'a BarrierSearch,
    unit_m: f64,
    near: f64,
    culverts: std::collections::HashMap<(i64, i64), Vec<[f64; 2]>>,
    streams: std::collections::HashMap<(i64, i64), Vec<[[f64; 2]; 2]>>,
}

impl<'a> Nearby<'a> {
    fn new(search: &'a BarrierSearch, frame: &Frame) -> Self {
        let near = (search.near_m / frame.unit_m).max(frame.cell_size);
        let mut all = Self {
            search,
            unit_m: frame.unit_m,
            near,
            culverts: Default::default(),
            streams: Default::default(),
        };
        for &culvert in &search.culverts {
            all.culverts.entry(all.place(culvert)).or_default().push(culvert);
        }
        for line in &search.streams {
            for ends in line.windows(2) {
                // Only what lies near the grid: a line may come from the other end of the world.
                let Some((from, to)) = all.near_the_grid(ends, frame) else { continue };
                for place in all.places_along(from, to) {
                    all.streams.entry(place).or_default().push([ends[0], ends[1]]);
                }
            }
        }
        all
    }

    /// The part of a segment that lies within the grid, or near it.
    fn near_the_grid(&self, ends: &[[f64; 2]], frame: &Frame) -> Option<([f64; 2], [f64; 2])> {
        let in_cells =
            |p: [f64; 2]| [(p[0] - frame.left) / frame.cell_size, (frame.top - p[1]) / frame.cell_size];
        let margin = 2.0 * self.near / frame.cell_size;
        let (a, b) = (ends[0], ends[1]);
        let (from, to) = share_within(in_cells(a), in_cells(b), (frame.rows, frame.cols), margin)?;
        let on = |t: f64| [a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1])];
        Some((on(from), on(to)))
    }

    /// The places that a segment passes: as many as it is long.
    fn places_along(&self, from: [f64; 2], to: [f64; 2]) -> Vec<(i64, i64)> {
        let (a, b) = if from[0] <= to[0] { (from, to) } else { (to, from) };
        let (first, last) = (self.place(a).0, self.place(b).0);
        let slope = (b[1] - a[1]) / (b[0] - a[0]);
        let y_at = |x: f64| {
            if x <= a[0] {
                a[1]
            } else if x >= b[0] {
                b[1]
            } else {
                a[1] + (x - a[0]) * slope
            }
        };
        let mut passed = Vec::new();
        for i in first..=last {
            let (y0, y1) = (y_at(i as f64 * self.near), y_at((i + 1) as f64 * self.near));
            let (j0, j1) = ((y0.min(y1) / self.near).floor() as i64, (y0.max(y1) / self.near).floor() as i64);
            passed.extend((j0..=j1).map(|j| (i, j)));
        }
        passed
    }

    fn place(&self, p: [f64; 2]) -> (i64, i64) {
        ((p[0] / self.near).floor() as i64, (p[1] / self.near).floor() as i64)
    }

    /// The shortest of the distances that `of` gives for what lies around a place, metres, if near.
    fn nearest<T>(
        &self,
        all: &std::collections::HashMap<(i64, i64), Vec<T>>,
        at: [f64; 2],
        of: impl Fn(&T) -> f64,
    ) -> Option<f64> {
        let (i, j) = self.place(at);
        let around = (i - 1..=i + 1).flat_map(|i| (j - 1..=j + 1).map(move |j| (i, j)));
        let distances = around.filter_map(|place| all.get(&place)).flatten().map(of);
        distances.map(|d| d * self.unit_m).filter(|&d| d <= self.search.near_m).min_by(f64::total_cmp)
    }

    /// Adds evidence from culverts and mapped streams to a barrier's score.
    fn weigh(&self, mut barrier: Barrier) -> Barrier {
        let at = barrier.crest;
        barrier.culvert_m = self.nearest(&self.culverts, at, |&c| distance(c, at));
        barrier.stream_m = self.nearest(&self.streams, at, |ends| to_segment(at, ends));
        let more = if barrier.culvert_m.is_some() { 0.15 } else { 0.0 }
            + if barrier.stream_m.is_some() { 0.1 } else { 0.0 };
        // A stream passes by many a pit of a survey's noise: it counts as far as there is a barrier.
        let more = more * self.search.height_share(barrier.height_m);
        barrier.score = (barrier.score + more).min(1.0);
        barrier
    }
}

fn to_segment(p: [f64; 2], [a, b]: &[[f64; 2]; 2]) -> f64 {
    let (dx, dy) = (b[0] - a[0], b[1] - a[1]);
    let squared = dx * dx + dy * dy;
    let t = if squared > 0.0 { ((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / squared } else { 0.0 };
    let t = t.clamp(0.0, 1.0);
    distance(p, [a[0] + t * dx, a[1] + t * dy])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::{fill, lower_along, sink_hierarchy};
    use crate::routing::{flow_accumulation, flow_directions};

    const FRAME: Frame = Frame { rows: 80, cols: 61, left: 1000.0, top: 2320.0, cell_size: 4.0, unit_m: 1.0 };

    fn valley(row: usize, col: usize) -> f32 {
        60.0 - 0.1 * row as f32 + 0.25 * (col as f32 - 30.0).abs()
    }

    /// The valley is small.
    fn small() -> BarrierSearch {
        BarrierSearch { least_area: Area::m2(10_000.0), ..Default::default() }
    }

    fn found(dem: &Grid<f32>, search: &BarrierSearch) -> Vec<Barrier> {
        let sinks = sink_hierarchy(dem, &FRAME, &[], &Silent).unwrap();
        let directions = flow_directions(&fill(dem, &Silent).unwrap(), &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        find_barriers(dem, &accumulation, &FRAME, &sinks, search, &Silent).unwrap()
    }

    #[test]
    fn a_bank_across_a_valley_is_found_and_its_line_drains_it() {
        // It runs aslant, 12 m wide and 3 m above the channel.
        let dem = Grid::from_fn(80, 61, |c| {
            let bank = (c.row as f32 - 40.0 - 0.4 * (c.col as f32 - 30.0)).abs() < 1.6;
            let z = valley(c.row, c.col);
            if bank { z.max(59.0) } else { z }
        });
        let barriers = found(&dem, &small());
        assert_eq!(barriers.len(), 1, "{barriers:?}");
        let b = &barriers[0];
        assert!((2.5..3.5).contains(&b.height_m) && (8.0..25.0).contains(&b.width_m), "{b:?}");
        assert!(b.straightness >= 0.5 && b.score > 0.65, "{b:?}");
        let (cut, _) = lower_along(&dem, &FRAME, std::slice::from_ref(&b.line));
        // It begins a twentieth of the sink's depth above its bottom at most.
        assert!(sink_hierarchy(&cut, &FRAME, &[], &Silent).unwrap().iter().all(|s| s.depth_m < 0.05 * 3.1));
        // What is known of the place makes it likelier.
        let known = BarrierSearch {
            culverts: vec![[b.crest[0] + 12.0, b.crest[1]], [5000.0, 5000.0]],
            streams: vec![vec![
                [b.crest[0] - 400.0, b.crest[1] + 30.0],
                [b.crest[0] + 400.0, b.crest[1] + 30.0],
            ]],
            ..small()
        };
        let b2 = &found(&dem, &known)[0];
        assert_eq!((b2.culvert_m, b2.stream_m), (Some(12.0), Some(30.0)));
        assert!(b2.score > b.score || b2.score == 1.0);
    }

    #[test]
    fn a_line_across_the_world_costs_no_more_than_the_grid() {
        let across = vec![[FRAME.left + 100.0, FRAME.top - 100.0], [-3e8, 9e8], [4e8, -7e8], [0.0, 0.0]];
        let search = BarrierSearch { streams: vec![across.clone(); 50], ..small() };
        let nearby = Nearby::new(&search, &FRAME);
        assert!(nearby.streams.len() < 500, "{} places", nearby.streams.len());
        // What passes a place is known there, as by looking at all of it.
        let line = vec![[FRAME.left - 900.0, FRAME.top + 70.0], [FRAME.left + 600.0, FRAME.top - 500.0]];
        let search = BarrierSearch { streams: vec![line.clone()], ..small() };
        let nearby = Nearby::new(&search, &FRAME);
        for (x, y) in [(3.0, 5.0), (100.0, 320.0), (250.0, 360.0), (151.0, 299.0)] {
            let at = [FRAME.left + x, FRAME.top - y];
            let far = to_segment(at, &[line[0], line[1]]) * FRAME.unit_m;
            let known = nearby.nearest(&nearby.streams, at, |ends| to_segment(at, ends));
            assert_eq!(known, Some(far).filter(|&m| m <= search.near_m), "{x} {y}");
        }
    }

    #[test]
    fn pits_hollows_and_broad_sills_are_none() {
        let mut dem = Grid::from_fn(80, 61, |c| valley(c.row, c.col));
        for (row, col) in [(20, 40), (20, 41), (21, 40), (21, 41), (50, 30), (51, 30)] {
            dem.values_mut()[row * 61 + col] -= 1.0;
        }
        assert!(found(&dem, &small()).is_empty(), "pits of a survey");
        let sill = Grid::from_fn(80, 61, |c| {
            let z = valley(c.row, c.col);
            if (30..55).contains(&c.row) { z.max(60.0) } else { z }
        });
        assert!(!fill(&sill, &Silent).unwrap().values().eq(sill.values()));
        assert!(found(&sill, &small()).is_empty(), "100 m of high ground");
    }
}
