//! Where a network falls short of mapped streams: what it has and they have not, and the other way round.

use std::collections::HashSet;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::MappedStreams;
use super::around::Around;
use super::mapped::{in_cells, near};
use crate::conditioning::stream_fits;
use crate::grid::pieces_within;
use crate::monitor::check;
use crate::network::Network;
use crate::routing::downstream;
use crate::{Area, Cell, Frame, Grid, Monitor, Result, Threshold};

/// A line, `[x, y]` in CRS units.
type Line = Vec<[f64; 2]>;

/// Which of the two has a stream and the other has not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// modelled only
    Extra,
    /// mapped only
    Missed,
}

/// What probably lies behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reason {
    /// a barrier near by leads water elsewhere
    Barrier,
    /// at least half of it runs over level or filled ground, where directions are drawn by rule
    Flat,
    /// the mapped stream is lower down off its valley
    OffValley,
    /// the other kind runs beside it, farther away than the tolerance
    Beside,
    /// it begins at the edge of the DEM, beyond which nothing is known
    Edge,
    /// it lies above where the other begins, and would be right at another threshold
    Headwater,
    /// hardly anything drains there on this DEM: the water goes elsewhere, or a spring or ditch feeds it
    Dry,
    /// none of these
    Unknown,
}

/// A stretch of stream that only one of the two has.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shortfall {
    /// which
    pub side: Side,
    /// its line
    pub line: Line,
    /// its length, metres
    pub length_m: f64,
    /// the largest contributing area along it, within the tolerance
    pub gathers: Area,
    /// the reach that it is part of, where it is modelled
    pub reach: Option<u32>,
    /// why; only the longest are looked into
    pub reason: Option<Reason>,
}

/// A stretch of modelled stream that is matched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Matched {
    /// the reach that it is part of
    pub reach: u32,
    /// its line
    pub line: Line,
}

impl Shortfall {
    /// A place half-way along.
    pub fn middle(&self) -> [f64; 2] {
        self.line[self.line.len() / 2]
    }
}

/// A network against mapped streams.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Comparison {
    /// stretches of modelled stream that are matched
    pub matched: Vec<Matched>,
    /// what only one of the two has, the longest first
    pub shortfalls: Vec<Shortfall>,
}

/// What a comparison is made with.
#[derive(Debug, Clone, Copy)]
pub struct Compared<'a> {
    /// D8 codes
    pub directions: &'a Grid<u8>,
    /// cells upstream
    pub accumulation: &'a Grid<u32>,
    /// the ground surface, filled, metres
    pub ground: &'a Grid<f32>,
    /// where they lie
    pub frame: &'a Frame,
    /// mapped streams
    pub map: MappedStreams<'a>,
    /// crests of barriers that stand, in CRS units
    pub barriers: &'a [[f64; 2]],
}

/// Number of shortfalls examined, the longest first.
const LOOKED_INTO: usize = 500;
/// A stream of the other kind runs beside it within this many tolerances.
const BESIDE: f64 = 5.0;
/// A barrier is near within this, metres, or twice the tolerance.
const BARRIER_NEAR_M: f64 = 40.0;
/// Beyond the accuracy of the map the ground falls by so much where a mapped stream is off its valley, metres.
const OFF_M: f64 = 3.0;
/// Half of the cells or samples.
const HALF: f64 = 0.5;
/// Where less than this share of the threshold gathers, hardly anything drains there.
const DRY: f64 = 0.1;

/// Cuts modelled and mapped streams where they begin or cease to agree, as
/// [`agreement`](super::agreement()) measures it, and says of the longest stretches that only one of the
/// two has why that may be. What is no longer than twice the tolerance belongs to the crossing of a buffer,
/// and is left out.
///
/// `network` is that of `threshold`. A reason is the first that holds in the order barrier, flat, off the
/// valley, beside, edge, headwater, dry. The rules are ours; each points to what can be done about it.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
pub fn compare(
    with: &Compared<'_>,
    network: &Network,
    threshold: Threshold,
    monitor: &dyn Monitor,
) -> Result<Comparison> {
    with.directions.same_shape(with.accumulation)?;
    with.directions.same_shape(with.ground)?;
    let tolerance = with.map.tolerance_m / with.frame.cell_m();
    let lines = in_cells(with.map.lines, with.frame);
    let near = near(&lines, with.frame, tolerance, monitor)?;
    let mut out = Comparison::default();
    for reach in &network.reaches {
        let cells: Vec<u32> = reach.line().collect();
        // A step belongs to what both its ends are; where they differ, to what is not matched. Where the map does not look it is neither.
        let step = |a: u32, b: u32| {
            let both = |is: &dyn Fn(usize) -> bool| is(a as usize) && is(b as usize);
            both(&|cell| with.map.looks_at(cell)).then(|| both(&|cell| near.values()[cell]))
        };
        for (matched, cells) in runs(&cells, step) {
            match matched {
                Some(true) => out.matched.push(Matched { reach: reach.id, line: with.line(cells) }),
                Some(false) => out.shortfalls.push(with.extra(reach.id, cells)),
                None => {}
            }
        }
    }
    check(monitor)?;
    monitor.progress(0.5);
    let around = Around { directions: with.directions, cells: with.accumulation, tolerance };
    // The network's own cells: it may have been edited, so that the threshold alone does not tell.
    let own = network.cells(with.frame);
    let streams = Around { directions: with.directions, cells: &own, tolerance };
    let missed: Vec<Vec<Shortfall>> = lines
        .par_iter()
        .map(|line| {
            check(monitor)?;
            Ok(with.missed(line, &around, &streams))
        })
        .collect::<Result<_>>()?;
    out.shortfalls.extend(missed.into_iter().flatten());
    let least = 2.0 * with.map.tolerance_m;
    out.shortfalls.retain(|s| s.length_m > least);
    out.shortfalls.sort_by(|a, b| {
        let (x, y) = (a.middle(), b.middle());
        b.length_m.total_cmp(&a.length_m).then(x[0].total_cmp(&y[0])).then(x[1].total_cmp(&y[1]))
    });
    monitor.progress(0.7);
    let reasons = Reasons::new(with, network, threshold, &out.shortfalls);
    let found: Vec<Reason> = out
        .shortfalls
        .par_iter()
        .take(LOOKED_INTO)
        .map(|shortfall| {
            check(monitor)?;
            Ok(reasons.of(shortfall))
        })
        .collect::<Result<_>>()?;
    for (shortfall, reason) in out.shortfalls.iter_mut().zip(found) {
        shortfall.reason = Some(reason);
    }
    monitor.progress(1.0);
    Ok(out)
}

/// Cuts a path into runs of steps that are alike; each run begins with the last cell of the one before.
fn runs<Kind: PartialEq>(cells: &[u32], of: impl Fn(u32, u32) -> Kind) -> Vec<(Kind, &[u32])> {
    let mut out: Vec<(Kind, &[u32])> = Vec::new();
    let mut from = 0;
    for step in 1..cells.len() {
        let kind = of(cells[step - 1], cells[step]);
        let goes_on = cells.get(step + 1).is_some_and(|&next| of(cells[step], next) == kind);
        if !goes_on {
            out.push((kind, &cells[from..=step]));
            from = step;
        }
    }
    out
}

impl Compared<'_> {
    fn line(&self, cells: &[u32]) -> Line {
        let centre = |&cell: &u32| self.frame.centre(self.directions.cell(cell as usize));
        cells.iter().map(centre).map(|(x, y)| [x, y]).collect()
    }

    fn length_m(&self, line: &[[f64; 2]]) -> f64 {
        line.windows(2).map(|p| (p[1][0] - p[0][0]).hypot(p[1][1] - p[0][1])).sum::<f64>() * self.frame.unit_m
    }

    fn area(&self, cells: u32) -> Area {
        self.frame.area_of(cells as u64)
    }

    fn extra(&self, reach: u32, cells: &[u32]) -> Shortfall {
        let line = self.line(cells);
        let largest = cells.iter().map(|&c| self.accumulation.values()[c as usize].saturating_add(1)).max();
        Shortfall {
            side: Side::Extra,
            length_m: self.length_m(&line),
            line,
            gathers: self.area(largest.unwrap_or(0)),
            reach: Some(reach),
            reason: None,
        }
    }

    /// The stretches of a mapped line (in cells) by which no stream runs.
    fn missed(
        &self,
        line: &[[f64; 2]],
        around: &Around<'_, u32>,
        streams: &Around<'_, bool>,
    ) -> Vec<Shortfall> {
        let mut out = Vec::new();
        let mut run: Vec<[f64; 2]> = Vec::new();
        let mut areas = Vec::new();
        let (mut most, mut last) = (0u32, None);
        let mut end = |run: &mut Vec<[f64; 2]>, most: &mut u32, last: Option<[f64; 2]>| {
            run.extend(last.filter(|p| run.last() != Some(p)));
            if run.len() > 1 {
                let place = |p: &[f64; 2]| {
                    [
                        self.frame.left + p[0] * self.frame.cell_size,
                        self.frame.top - p[1] * self.frame.cell_size,
                    ]
                };
                let line: Line = run.iter().map(place).collect();
                let (length_m, gathers) = (self.length_m(&line), self.area(*most));
                out.push(Shortfall {
                    side: Side::Missed,
                    line,
                    length_m,
                    gathers,
                    reach: None,
                    reason: None,
                });
            }
            run.clear();
            *most = 0;
        };
        for pair in line.windows(2) {
            let (dx, dy) = (pair[1][0] - pair[0][0], pair[1][1] - pair[0][1]);
            let pieces = (dx.hypot(dy) * 4.0).ceil().max(1.0);
            let near = pieces_within(pair[0], pair[1], pieces, (self.frame.rows, self.frame.cols));
            if near.start > 0 || near.is_empty() {
                // It comes from beyond the grid.
                end(&mut run, &mut most, last.take());
            }
            for at in near {
                let point = |share: f64| [pair[0][0] + dx * share / pieces, pair[0][1] + dy * share / pieces];
                let [x, y] = point(at as f64 + 0.5);
                let looked_at = || self.map.looks_at(y as usize * self.frame.cols + x as usize);
                if !around.holds(x, y) || !looked_at() || streams.any([x, y]) {
                    end(&mut run, &mut most, last.take());
                    continue;
                }
                if run.is_empty() {
                    run.push(point(at as f64));
                }
                around.areas(&[[x, y]], &mut areas);
                most = most.max(areas[0]);
                last = Some(point(at as f64 + 1.0));
                // One point a cell is enough, and the line's own corners.
                if at % 4 == 3 || at + 1 == pieces as u64 {
                    run.push(point(at as f64 + 1.0));
                }
            }
        }
        end(&mut run, &mut most, last);
        out
    }
}

/// Data used to find the reason for a shortfall.
struct Reasons<'a> {
    with: &'a Compared<'a>,
    threshold: Threshold,
    /// upper ends of headwater reaches
    heads: HashSet<[u64; 2]>,
    /// squares that each side passes, as wide as what counts as beside
    extra: HashSet<(i64, i64)>,
    missed: HashSet<(i64, i64)>,
    square: f64,
}

fn bits(p: [f64; 2]) -> [u64; 2] {
    p.map(f64::to_bits)
}

impl<'a> Reasons<'a> {
    fn new(with: &'a Compared<'a>, network: &Network, threshold: Threshold, all: &[Shortfall]) -> Self {
        let square = BESIDE * with.map.tolerance_m / with.frame.unit_m;
        let squares = |side: Side| {
            let points = all.iter().filter(|s| s.side == side).flat_map(|s| s.line.iter());
            points.map(|p| place(p, square)).collect()
        };
        let heads = network.reaches.iter().filter(|r| r.shreve == 1);
        let heads = heads.flat_map(|r| with.line(&r.cells[..1])).map(bits).collect();
        Self { with, threshold, heads, extra: squares(Side::Extra), missed: squares(Side::Missed), square }
    }

    fn of(&self, shortfall: &Shortfall) -> Reason {
        let w = self.with;
        if self.by_a_barrier(shortfall) {
            return Reason::Barrier;
        }
        match shortfall.side {
            Side::Extra if self.level_share(shortfall) >= HALF => return Reason::Flat,
            Side::Missed if self.off_valley(shortfall) => return Reason::OffValley,
            _ => {}
        }
        let other = match shortfall.side {
            Side::Extra => &self.missed,
            Side::Missed => &self.extra,
        };
        let (col, row) = place(&shortfall.middle(), self.square);
        if (-1..=1).any(|r| (-1..=1).any(|c| other.contains(&(col + c, row + r)))) {
            return Reason::Beside;
        }
        if self.at_edge(shortfall) {
            return Reason::Edge;
        }
        match shortfall.side {
            Side::Extra if self.heads.contains(&bits(shortfall.line[0])) => Reason::Headwater,
            Side::Extra => Reason::Unknown,
            Side::Missed => {
                let enough = self.threshold.as_area(w.frame).as_m2() * DRY;
                if shortfall.gathers.as_m2() >= enough { Reason::Headwater } else { Reason::Dry }
            }
        }
    }

    fn by_a_barrier(&self, shortfall: &Shortfall) -> bool {
        let near = BARRIER_NEAR_M.max(2.0 * self.with.map.tolerance_m) / self.with.frame.unit_m;
        let close = |p: &[f64; 2], b: &[f64; 2]| (p[0] - b[0]).hypot(p[1] - b[1]) <= near;
        self.with.barriers.iter().any(|b| shortfall.line.iter().any(|p| close(p, b)))
    }

    /// Share of the cells that do not fall to the next.
    fn level_share(&self, shortfall: &Shortfall) -> f64 {
        let (z, w) = (self.with.ground.values(), self.with);
        let cells: Vec<Cell> = shortfall.line.iter().filter_map(|p| w.frame.cell_at(p[0], p[1])).collect();
        let level = |cell: &&Cell| {
            let at = w.directions.index(**cell);
            downstream(w.directions, at).is_some_and(|next| z[next] >= z[at])
        };
        cells.iter().filter(level).count() as f64 / cells.len().max(1) as f64
    }

    fn off_valley(&self, shortfall: &Shortfall) -> bool {
        let w = self.with;
        let near_m = w.map.tolerance_m.max(2.0 * w.frame.cell_m());
        let fits = stream_fits(w.ground, w.frame, std::slice::from_ref(&shortfall.line), near_m, OFF_M);
        fits.first().is_some_and(|fit| fit.off_share >= HALF)
    }

    /// Whether an end lies within two cells, and the tolerance, of where nothing is known.
    fn at_edge(&self, shortfall: &Shortfall) -> bool {
        let w = self.with;
        let reach = 2 + (w.map.tolerance_m / w.frame.cell_m()) as isize;
        let ends = [shortfall.line[0], shortfall.line[shortfall.line.len() - 1]];
        ends.iter().any(|p| {
            let Some(cell) = w.frame.cell_at(p[0], p[1]) else { return true };
            let around = Around { directions: w.directions, cells: w.accumulation, tolerance: 0.0 };
            let (row, col) = (cell.row as isize, cell.col as isize);
            [(-reach, 0), (reach, 0), (0, -reach), (0, reach)]
                .iter()
                .any(|(r, c)| !around.is_inside(row + r, col + c))
        })
    }
}

fn place(p: &[f64; 2], square: f64) -> (i64, i64) {
    ((p[0] / square).floor() as i64, (p[1] / square).floor() as i64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::calibration::agreement;
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        /// What is matched, extra and missed adds up to what the scores say, but for what is too short.
        #[test]
        fn pieces_add_up(
            dem in any_terrain(20), cells in 2u32..20,
            line in prop::collection::vec((0.0f64..20.0, 0.0f64..20.0), 2..5),
        ) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: dem.rows() as f64, cell_size: 1.0, unit_m: 1.0 };
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let mapped = vec![line.iter().map(|&(x, y)| [x, y]).collect::<Vec<_>>()];
            let threshold = Threshold::cells(cells);
            let network = extract(&directions, &accumulation, &filled, &frame, threshold, &Silent).unwrap();
            let with = Compared { directions: &directions, accumulation: &accumulation, ground: &filled, frame: &frame, map: MappedStreams::everywhere(&mapped, 0.01), barriers: &[] };
            let found = compare(&with, &network, threshold, &Silent).unwrap();
            let scores = agreement(&directions, &accumulation, &frame, &with.map, &[threshold], &Silent).unwrap()[0];
            let of = |side: Side| found.shortfalls.iter().filter(|s| s.side == side).map(|s| s.length_m).sum::<f64>();
            let matched: f64 = found.matched.iter().map(|m| with.length_m(&m.line)).sum();
            prop_assert!((matched + of(Side::Extra) - scores.modelled_m).abs() < 1e-6 * (1.0 + scores.modelled_m));
            prop_assert!((of(Side::Missed) - (scores.mapped_m - scores.found_m)).abs() < 0.01 * (1.0 + scores.mapped_m), "{} of {:?}", of(Side::Missed), scores);
            prop_assert!(found.shortfalls.windows(2).all(|w| w[0].length_m >= w[1].length_m));
            prop_assert!(found.shortfalls.iter().all(|s| s.reason.is_some()));
        }
    }

    /// Two valleys side by side that fall to the south; the map knows the western one, and one on the ridge.
    #[test]
    fn reasons_of_a_made_up_place() {
        let frame = Frame { rows: 60, cols: 81, left: 0.0, top: 600.0, cell_size: 10.0, unit_m: 1.0 };
        let dem = Grid::from_fn(60, 81, |c| {
            let (west, east) = (c.col.abs_diff(20) as f32, c.col.abs_diff(60) as f32);
            100.0 - 0.5 * c.row as f32 + west.min(east) * 2.0
        });
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let threshold = Threshold::cells(400);
        let network = extract(&directions, &accumulation, &dem, &frame, threshold, &Silent).unwrap();
        let mapped = vec![vec![[205.0, 595.0], [205.0, 5.0]], vec![[405.0, 400.0], [405.0, 100.0]]];
        let with = Compared {
            directions: &directions,
            accumulation: &accumulation,
            ground: &dem,
            frame: &frame,
            map: MappedStreams::everywhere(&mapped, 20.0),
            barriers: &[],
        };
        let found = compare(&with, &network, threshold, &Silent).unwrap();
        let told: Vec<_> = found.shortfalls.iter().map(|s| (s.side, s.reason.unwrap())).collect();
        assert!(told.contains(&(Side::Missed, Reason::OffValley)), "the line on the ridge: {told:?}");
        assert!(told.iter().any(|t| t.0 == Side::Extra), "the eastern valley: {told:?}");
        let western =
            found.shortfalls.iter().find(|s| s.side == Side::Missed && s.middle()[0] < 300.0).unwrap();
        assert_eq!(western.reason, Some(Reason::Edge), "its head lies at the northern edge");
        // Where the map does not look, nothing is extra or missed.
        let west = Grid::from_fn(60, 81, |c| c.col < 40);
        let seen = Compared { map: MappedStreams { covers: Some(&west), ..with.map }, ..with };
        let half = compare(&seen, &network, threshold, &Silent).unwrap();
        assert!(half.shortfalls.iter().all(|s| s.middle()[0] < 400.0), "{:?}", half.shortfalls);
        assert!(!half.matched.is_empty());
        // With a barrier beside it, that is what comes first.
        let with = Compared { barriers: &[[605.0, 300.0]], ..with };
        let found = compare(&with, &network, threshold, &Silent).unwrap();
        let eastern = found.shortfalls.iter().find(|s| s.side == Side::Extra).unwrap();
        assert_eq!(eastern.reason, Some(Reason::Barrier));
    }
}
