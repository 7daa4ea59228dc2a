//! From a threshold to reaches with order, length and drop.

use std::ops::Range;

use multiversion::multiversion;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::monitor::check;
use crate::routing::{DIRECTION_NODATA, downstream, step, upstream};
use crate::{Area, Frame, Grid, Monitor, Result, Threshold};

/// A piece of stream from one headwater or junction to the next junction or outlet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Reach {
    /// from 1, in row order of the upper ends
    pub id: u32,
    /// the reach it flows into; `None` at an outlet
    pub downstream: Option<u32>,
    /// Strahler order, 1 for a headwater reach
    pub strahler: u8,
    /// Shreve magnitude: the number of headwaters above, 1 for a headwater reach
    pub shreve: u32,
    /// its cells from the upper to the lower end, by number in row order; the junction cell that
    /// it flows into is not one of them
    pub cells: Vec<u32>,
    /// the first cell of the next reach, by number in row order
    pub joins: Option<u32>,
    /// along the cell centres to the junction cell, diagonals counted as such, metres
    pub length_m: f64,
    /// fall over that length on the ground surface, metres
    pub drop_m: f64,
    /// distance between its ends as the crow flies, metres
    pub straight_m: f64,
    /// contributing area at the lower end
    pub contributing: Area,
}

impl Reach {
    /// Fall over length, m/m; 0 for a reach of a single cell at an outlet.
    pub fn slope(&self) -> f64 {
        if self.length_m > 0.0 { self.drop_m / self.length_m } else { 0.0 }
    }
    /// Length over the straight distance between the ends; 1 for a reach of a single cell.
    pub fn sinuosity(&self) -> f64 {
        if self.straight_m > 0.0 { self.length_m / self.straight_m } else { 1.0 }
    }
    /// The line through the cell centres, to the junction cell included: cells by number.
    pub fn line(&self) -> impl Iterator<Item = u32> + '_ {
        self.cells.iter().copied().chain(self.joins)
    }
}

/// The stream network at one threshold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Network {
    /// the threshold it was drawn at; `None` where stream cells were given
    pub threshold: Option<Threshold>,
    /// the reaches by id; reach `id` stands at `id - 1`
    pub reaches: Vec<Reach>,
    /// number of stream cells
    pub stream_cells: u64,
}

impl Network {
    /// Number of reaches that begin at a headwater.
    pub fn headwaters(&self) -> usize {
        self.reaches.iter().filter(|r| r.shreve == 1).count()
    }
    /// Which cells of the grid at `frame` are part of it.
    pub fn cells(&self, frame: &Frame) -> Grid<bool> {
        let mut cells = Grid::filled(frame.rows, frame.cols, false);
        for &cell in self.reaches.iter().flat_map(|r| &r.cells) {
            cells.values_mut()[cell as usize] = true;
        }
        cells
    }
    /// Strahler orders of stream cells, 0 elsewhere, 255 where `directions` has no flow.
    pub fn orders(&self, directions: &Grid<u8>) -> Grid<u8> {
        let outside = |&code: &u8| if code == DIRECTION_NODATA { 255 } else { 0 };
        let mut out = Grid::from_vec(
            directions.rows(),
            directions.cols(),
            directions.values().par_iter().map(outside).collect(),
        );
        for reach in &self.reaches {
            for &cell in &reach.cells {
                out.values_mut()[cell as usize] = reach.strahler;
            }
        }
        out
    }
    /// Length of all reaches, metres.
    pub fn length_m(&self) -> f64 {
        self.reaches.iter().map(|r| r.length_m).sum()
    }
    /// The highest Strahler order; 0 without streams.
    pub fn highest_order(&self) -> u8 {
        self.reaches.iter().map(|r| r.strahler).max().unwrap_or(0)
    }
}

/// Draws the network of cells whose contributing area reaches the threshold.
///
/// `directions` (D8 codes), `accumulation` (cells upstream) and `ground` (the ground surface,
/// metres, for drops) lie on one grid, at `frame`.
///
/// A reach begins at a headwater (a stream cell that no stream cell drains to) or at a junction
/// (a stream cell that two or more drain to), and runs to the next junction or the outlet.
/// Strahler's order rises by one where two or more reaches of the highest order meet; Shreve's
/// magnitudes add up.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
/// A threshold that gives no stream is no error: the network is empty.
///
/// # Source
/// Strahler 1957, Transactions of the American Geophysical Union 38, 913-920; Shreve 1966,
/// Journal of Geology 74, 17-37.
pub fn extract(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    frame: &Frame,
    threshold: Threshold,
    monitor: &dyn Monitor,
) -> Result<Network> {
    extract_edited(directions, accumulation, accumulation, ground, frame, threshold, monitor)
}

/// As [`extract`], where `streams` tells stream cells instead of `accumulation`: one with edits in it (see
/// [`edited_accumulation`](super::edited_accumulation)).
///
/// # Errors
/// Those of [`extract`].
pub fn extract_edited(
    directions: &Grid<u8>,
    streams: &Grid<u32>,
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    frame: &Frame,
    threshold: Threshold,
    monitor: &dyn Monitor,
) -> Result<Network> {
    directions.same_shape(streams)?;
    let is_stream = |index: usize| threshold.is_stream(streams.values()[index]);
    let among = |cells: Range<usize>, found: &mut Vec<u32>| {
        for (first, values) in cells.clone().step_by(PIECE).zip(streams.values()[cells].chunks(PIECE)) {
            // Most pieces hold no stream.
            if any_reaches(values, threshold.as_cells()) {
                let stream = values.iter().zip(first as u32..).filter(|(v, _)| threshold.is_stream(**v));
                found.extend(stream.map(|(_, index)| index));
            }
        }
    };
    let area = |index: usize| frame.area_of(accumulation.values()[index] as u64 + 1);
    let which = Which { is_stream: &is_stream, among: &among };
    let (reaches, stream_cells) = reaches(directions, accumulation, ground, frame, &which, &area, monitor)?;
    Ok(Network { threshold: Some(threshold), reaches, stream_cells })
}

/// Draws the network of given stream cells: those of a mask, or those that another routing method
/// finds.
///
/// `is_stream` marks stream cells; every cell downstream of one, along `directions`, becomes stream
/// too, so that no stream ends on land. `accumulation` is that of `directions`. `contributing` gives
/// the contributing area of the reaches in cells, the cell itself not counted, where it is not
/// `accumulation` (with D-infinity or MFD). Else as [`extract`].
///
/// # Errors
/// Those of [`extract`].
pub fn extract_cells(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    contributing: Option<&Grid<f64>>,
    ground: &Grid<f32>,
    frame: &Frame,
    is_stream: &Grid<bool>,
    monitor: &dyn Monitor,
) -> Result<Network> {
    directions.same_shape(is_stream)?;
    if let Some(contributing) = contributing {
        directions.same_shape(contributing)?;
    }
    let mut stream = is_stream.clone();
    for start in 0..stream.len() {
        let mut at = start;
        if !is_stream.values()[start] || directions.values()[start] == DIRECTION_NODATA {
            stream.values_mut()[start] &= directions.values()[start] != DIRECTION_NODATA;
            continue;
        }
        while let Some(next) = downstream(directions, at) {
            if std::mem::replace(&mut stream.values_mut()[next], true) {
                break;
            }
            at = next;
        }
    }
    let cell_m2 = frame.cell_area().as_m2();
    let area = |index: usize| match contributing {
        Some(real) => Area::m2((real.values()[index] + 1.0) * cell_m2),
        None => frame.area_of(accumulation.values()[index] as u64 + 1),
    };
    let is_stream = |index: usize| stream.values()[index];
    let among = |cells: Range<usize>, found: &mut Vec<u32>| {
        found.extend(cells.filter(|&index| is_stream(index)).map(|index| index as u32));
    };
    let which = Which { is_stream: &is_stream, among: &among };
    let (reaches, stream_cells) = reaches(directions, accumulation, ground, frame, &which, &area, monitor)?;
    Ok(Network { threshold: None, reaches, stream_cells })
}

/// Cells that are examined at once.
const PIECE: usize = 64;

/// Whether one of the cells has so many cells upstream that it reaches a threshold, in cells.
#[multiversion(targets("x86_64+avx2"))]
fn any_reaches(upstream: &[u32], threshold: u32) -> bool {
    let mut any = false;
    // A loop, since closures are not compiled for the wider registers. Nodata wraps to 0.
    for cells in upstream {
        any |= cells.wrapping_add(1) >= threshold;
    }
    any
}

/// Which cells are stream.
struct Which<'a, S, A> {
    /// whether a cell, by number in row order, is
    is_stream: &'a S,
    /// adds those of a range that are to a list, in their order
    among: &'a A,
}

fn reaches(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    frame: &Frame,
    which: &Which<'_, impl Fn(usize) -> bool + Sync, impl Fn(Range<usize>, &mut Vec<u32>) + Sync>,
    area: &(impl Fn(usize) -> Area + Sync),
    monitor: &dyn Monitor,
) -> Result<(Vec<Reach>, u64)> {
    directions.same_shape(accumulation)?;
    directions.same_shape(ground)?;
    let tributaries = |index: usize| upstream(directions, index).filter(|&n| (which.is_stream)(n)).count();

    // Upper ends of reaches, in row order.
    let rows_at_once = directions.cols().max(1) * 64;
    let parts: Vec<(u64, Vec<u32>)> = accumulation
        .values()
        .par_chunks(rows_at_once)
        .enumerate()
        .map(|(part, values)| {
            check(monitor)?;
            let first = part * rows_at_once;
            let mut starts = Vec::new();
            (which.among)(first..first + values.len(), &mut starts);
            let cells = starts.len() as u64;
            starts.retain(|&index| tributaries(index as usize) != 1);
            Ok((cells, starts))
        })
        .collect::<Result<_>>()?;
    monitor.progress(0.5);
    let stream_cells: u64 = parts.iter().map(|(cells, _)| cells).sum();
    let starts: Vec<u32> = parts.into_iter().flat_map(|(_, starts)| starts).collect();
    // Where the upper ends of each row begin in the list: a row has few.
    let cols = directions.cols().max(1);
    let mut first = vec![0u32; directions.rows() + 1];
    for &start in &starts {
        first[start as usize / cols + 1] += 1;
    }
    for row in 0..directions.rows() {
        first[row + 1] += first[row];
    }
    // Few cells are upper ends: a bit for each tells most apart.
    let mut is_start = vec![0u64; directions.len() / 64 + 1];
    for &start in &starts {
        is_start[start as usize / 64] |= 1 << (start % 64);
    }
    let id_of = |cell: usize| {
        if is_start[cell / 64] >> (cell % 64) & 1 == 0 {
            return None;
        }
        let row = cell / cols;
        let (from, to) = (first[row] as usize, first[row + 1] as usize);
        starts[from..to].binary_search(&(cell as u32)).ok().map(|at| (from + at) as u32 + 1)
    };
    let reach = |(at, &start): (usize, &u32)| {
        let mut cells = vec![start];
        let (mut steps, mut joins, mut last) = (0.0, None, start as usize);
        while let Some(next) = downstream(directions, last) {
            steps += step(directions, last);
            if let Some(id) = id_of(next) {
                joins = Some((next as u32, id));
                break;
            }
            cells.push(next as u32);
            last = next;
        }
        let end = joins.map_or(last, |j| j.0 as usize);
        Reach {
            id: at as u32 + 1,
            downstream: joins.map(|j| j.1),
            strahler: 1,
            shreve: 1,
            joins: joins.map(|j| j.0),
            length_m: steps * frame.cell_m(),
            // Exact, so that drops of reaches add up to that of the whole.
            drop_m: ground.values()[start as usize] as f64 - ground.values()[end] as f64,
            straight_m: {
                let (from, to) = (directions.cell(start as usize), directions.cell(end));
                let (rows, cols) = (from.row.abs_diff(to.row) as f64, from.col.abs_diff(to.col) as f64);
                rows.hypot(cols) * frame.cell_m()
            },
            contributing: area(last),
            cells,
        }
    };
    const AT_ONCE: usize = 256;
    let parts: Vec<Vec<Reach>> = starts
        .par_chunks(AT_ONCE)
        .enumerate()
        .map(|(part, starts)| {
            check(monitor)?;
            Ok(starts.iter().enumerate().map(|(at, start)| reach((part * AT_ONCE + at, start))).collect())
        })
        .collect::<Result<_>>()?;
    let mut reaches: Vec<Reach> = parts.into_iter().flatten().collect();
    set_orders(&mut reaches);
    monitor.progress(1.0);
    Ok((reaches, stream_cells))
}

/// Orders and magnitudes, from the headwaters down.
fn set_orders(reaches: &mut [Reach]) {
    let mut waiting = vec![0u32; reaches.len()];
    for next in reaches.iter().filter_map(|r| r.downstream) {
        waiting[next as usize - 1] += 1;
    }
    let mut ready: Vec<usize> = (0..reaches.len()).filter(|&at| waiting[at] == 0).collect();
    // Per reach: highest order that flows in, how many have it, sum of magnitudes.
    let mut inflow = vec![(0u8, 0u32, 0u32); reaches.len()];
    while let Some(at) = ready.pop() {
        let (highest, with_it, magnitudes) = inflow[at];
        let reach = &mut reaches[at];
        if with_it > 0 {
            reach.strahler = highest + u8::from(with_it > 1);
            reach.shreve = magnitudes;
        }
        if let Some(next) = reach.downstream.map(|id| id as usize - 1) {
            let into = &mut inflow[next];
            match reach.strahler.cmp(&into.0) {
                std::cmp::Ordering::Greater => (into.0, into.1) = (reach.strahler, 1),
                std::cmp::Ordering::Equal => into.1 += 1,
                std::cmp::Ordering::Less => {}
            }
            into.2 += reach.shreve;
            waiting[next] -= 1;
            if waiting[next] == 0 {
                ready.push(next);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditioning::fill;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use crate::{Cell, Silent};
    use proptest::prelude::*;

    const FRAME: Frame = Frame { rows: 5, cols: 5, left: 0.0, top: 50.0, cell_size: 10.0, unit_m: 1.0 };

    /// Codes with a Y: two arms from the northern corners meet in the centre and flow south.
    fn y_shape() -> Grid<u8> {
        #[rustfmt::skip]
        let codes = vec![
            2, 4, 4, 4, 8,
            1, 2, 4, 8, 16,
            1, 1, 4, 16, 16,
            1, 1, 4, 16, 16,
            1, 1, 0, 16, 16,
        ];
        Grid::from_vec(5, 5, codes)
    }

    #[test]
    fn a_y_has_three_reaches() {
        let directions = y_shape();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let ground = Grid::from_fn(5, 5, |c| 20.0 - 2.0 * c.row as f32);
        // The arms carry 4 cells each where they leave row 1; nothing else does above the centre.
        let network =
            extract(&directions, &accumulation, &ground, &FRAME, Threshold::cells(4), &Silent).unwrap();
        let arms: Vec<_> = network.reaches.iter().filter(|r| r.strahler == 1).collect();
        assert_eq!((network.reaches.len(), arms.len()), (3, 2));
        for arm in arms {
            assert!((arm.length_m - 10.0 * 2f64.sqrt()).abs() < 1e-9);
            assert_eq!((arm.drop_m, arm.shreve, arm.downstream), (2.0, 1, Some(3)));
        }
        let stem = &network.reaches[2];
        assert_eq!((stem.strahler, stem.shreve, stem.downstream, stem.length_m), (2, 2, None, 20.0));
        assert_eq!(stem.contributing, Area::m2(2500.0));
        assert_eq!((network.headwaters(), network.highest_order(), network.stream_cells), (2, 2, 5));
    }

    #[test]
    fn stream_cells_lead_on_to_the_outlet() {
        let directions = y_shape();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let ground = Grid::filled(5, 5, 0.0);
        let mut mask = Grid::filled(5, 5, false);
        mask.values_mut()[6] = true;
        let network =
            extract_cells(&directions, &accumulation, None, &ground, &FRAME, &mask, &Silent).unwrap();
        assert_eq!((network.reaches.len(), network.stream_cells, network.threshold), (1, 4, None));
        let reach = &network.reaches[0];
        assert!((reach.straight_m - 10.0 * 10f64.sqrt()).abs() < 1e-9);
        assert!((reach.sinuosity() - (2.0 + 2f64.sqrt()) / 10f64.sqrt()).abs() < 1e-9);
        // The same cells as those above a threshold give the same network.
        let by_threshold =
            extract(&directions, &accumulation, &ground, &FRAME, Threshold::cells(4), &Silent).unwrap();
        let mask = Grid::from_fn(5, 5, |c| accumulation.values()[c.row * 5 + c.col] >= 3);
        let by_mask =
            extract_cells(&directions, &accumulation, None, &ground, &FRAME, &mask, &Silent).unwrap();
        assert_eq!(by_mask.reaches, by_threshold.reaches);
    }

    #[test]
    fn a_threshold_above_everything_gives_an_empty_network() {
        let directions = y_shape();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let ground = Grid::filled(5, 5, 0.0);
        let network =
            extract(&directions, &accumulation, &ground, &FRAME, Threshold::cells(26), &Silent).unwrap();
        assert_eq!((network.reaches.len(), network.length_m(), network.highest_order()), (0, 0.0, 0));
    }

    /// Strahler 1957, figure 1 in words: two first-order streams make a second-order one, two
    /// second-order ones a third; a lower order that joins changes nothing.
    #[test]
    fn orders_of_a_hand_made_tree() {
        let reach = |id: u32, downstream: Option<u32>| Reach {
            id,
            downstream,
            strahler: 1,
            shreve: 1,
            cells: vec![id - 1],
            joins: None,
            length_m: 1.0,
            drop_m: 0.0,
            straight_m: 1.0,
            contributing: Area::m2(1.0),
        };
        let mut reaches = vec![
            reach(1, Some(5)),
            reach(2, Some(5)),
            reach(3, Some(6)),
            reach(4, Some(6)),
            reach(5, Some(8)),
            reach(6, Some(8)),
            reach(7, Some(9)),
            reach(8, Some(9)),
            reach(9, None),
        ];
        set_orders(&mut reaches);
        assert_eq!(reaches.iter().map(|r| r.strahler).collect::<Vec<_>>(), [1, 1, 1, 1, 2, 2, 1, 3, 3]);
        assert_eq!(reaches.iter().map(|r| r.shreve).collect::<Vec<_>>(), [1, 1, 1, 1, 2, 2, 1, 4, 5]);
    }

    /// Every topologically distinct network of this many headwaters: two networks joined in all ways, left and
    /// right told apart. Each is a list of reaches by what they flow into, the outlet's last.
    fn all_networks(headwaters: usize) -> Vec<Vec<Option<usize>>> {
        if headwaters == 1 {
            return vec![vec![None]];
        }
        let mut all = Vec::new();
        for left in 1..headwaters {
            for a in all_networks(left) {
                for b in all_networks(headwaters - left) {
                    let outlet = a.len() + b.len();
                    let shifted = b.iter().map(|next| next.map(|n| n + a.len()));
                    let joined = a.iter().copied().chain(shifted).map(|next| next.or(Some(outlet)));
                    all.push(joined.chain([None]).collect());
                }
            }
        }
        all
    }

    /// Shreve 1966, Journal of Geology 74, 17-37: how many topologically distinct networks have given numbers of
    /// streams of each Strahler order. (The formula from memory.)
    fn by_shreve(streams: &[u64]) -> u64 {
        let choose = |n: u64, k: u64| (1..=k).fold(1, |c, i| c * (n - k + i) / i);
        let step = |pair: &[u64]| (1 << (pair[0] - 2 * pair[1])) * choose(pair[0] - 2, pair[0] - 2 * pair[1]);
        streams.windows(2).map(step).product()
    }

    #[test]
    fn orders_of_all_networks_are_as_many_as_shreve_counted() {
        for headwaters in 1..=9 {
            let mut found = std::collections::BTreeMap::<Vec<u64>, u64>::new();
            for network in all_networks(headwaters) {
                let reach = |(at, next): (usize, &Option<usize>)| Reach {
                    id: at as u32 + 1,
                    downstream: next.map(|n| n as u32 + 1),
                    strahler: 1,
                    shreve: 1,
                    cells: vec![at as u32],
                    joins: None,
                    length_m: 1.0,
                    drop_m: 0.0,
                    straight_m: 1.0,
                    contributing: Area::m2(1.0),
                };
                let mut reaches: Vec<Reach> = network.iter().enumerate().map(reach).collect();
                set_orders(&mut reaches);
                assert_eq!(reaches.last().unwrap().shreve as usize, headwaters);
                let network = Network { threshold: None, reaches, stream_cells: 0 };
                let streams = crate::network::totals_by_order(&network);
                *found.entry(streams.iter().map(|t| t.streams).collect()).or_default() += 1;
            }
            // In all, the numbers of Catalan.
            let all = [1, 1, 2, 5, 14, 42, 132, 429, 1430];
            assert_eq!(found.values().sum::<u64>(), all[headwaters - 1]);
            for (streams, count) in found {
                assert_eq!(count, by_shreve(&streams), "{streams:?}");
            }
        }
    }

    proptest! {
        #[test]
        fn laws_of_networks(dem in any_terrain(16), cells in 1u32..30) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), ..FRAME };
            let threshold = Threshold::cells(cells);
            let network = extract(&directions, &accumulation, &filled, &frame, threshold, &Silent).unwrap();
            // Every stream cell is in exactly one reach.
            let mut listed: Vec<u32> = network.reaches.iter().flat_map(|r| r.cells.clone()).collect();
            listed.sort_unstable();
            let streams: Vec<u32> = (0..dem.len() as u32)
                .filter(|&i| threshold.is_stream(accumulation.values()[i as usize]))
                .collect();
            prop_assert_eq!(&listed, &streams);
            prop_assert_eq!(network.stream_cells as usize, streams.len());
            let mut at_outlets = 0;
            for reach in &network.reaches {
                prop_assert!(reach.drop_m >= 0.0);
                match reach.downstream {
                    Some(next) => {
                        let next = &network.reaches[next as usize - 1];
                        prop_assert!(next.strahler >= reach.strahler);
                        prop_assert_eq!(reach.joins, Some(next.cells[0]));
                    }
                    None => at_outlets += reach.shreve as usize,
                }
            }
            prop_assert_eq!(at_outlets, network.headwaters());
        }
    }

    #[test]
    fn cells_are_found_by_number() {
        let grid = y_shape();
        assert_eq!(grid.cell(7), Cell { row: 1, col: 2 });
    }
}
