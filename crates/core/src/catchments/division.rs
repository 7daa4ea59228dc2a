//! Sub-basins: how the land of catchments is divided, and what lies where.

use std::collections::{HashMap, HashSet};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::windows::{Window, windows};
use super::{Catchment, Labelled, label, outlets_of_footprint};
use crate::network::{Network, main_stem_of_cells};
use crate::routing::{DIRECTION_NODATA, is_cut};
use crate::{Cell, Frame, Grid, Monitor, Part, Result};

/// Where sub-basins end, beside pour points.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Division {
    /// nowhere else: they are the land between pour points
    PourPoints,
    /// at the lower end of every reach
    #[default]
    Reaches,
    /// where tributaries join the main stem of a catchment, and above each such junction on the stem itself
    Tributaries,
    /// where about this many km² have gathered
    TargetKm2(f64),
    /// where water leaves the footprint or stays, and nowhere else: basins of the whole footprint, whatever pour points there are
    Basins,
}

/// What sub-basins are drawn on.
#[derive(Clone, Copy)]
pub struct Divided<'a> {
    /// D8 codes without cycles
    pub directions: &'a Grid<u8>,
    /// cells upstream of each
    pub accumulation: &'a Grid<u32>,
    /// size and place
    pub frame: &'a Frame,
    /// the reaches; none where there is no network
    pub network: Option<&'a Network>,
    /// cells of the pour points, of two in one cell the first counts; the whole network is divided where there are none
    pub points: &'a [Cell],
}

/// What was changed by hand in a division, by outlet cells.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct DivisionEdits {
    /// outlets that were added: a sub-basin is split there
    pub split: Vec<Cell>,
    /// outlets that were taken away: the sub-basin is merged with the one it drains to
    pub merged: Vec<Cell>,
}

/// Sub-basins, numbered from upstream to downstream.
#[derive(Debug, Clone, PartialEq)]
pub struct SubBasins {
    /// their cells; the number of a sub-basin is its place from 1
    pub found: Labelled,
    /// their outlets
    pub outlets: Vec<Cell>,
    /// for each the reach that its outlet lies on
    pub reach: Vec<Option<u32>>,
    /// for each the place of the pour point that is its outlet, from 1
    pub point: Vec<Option<u32>>,
    /// for each how many stream junctions lie within it: streams that meet there are not told apart
    pub junctions: Vec<u32>,
}

/// Divides the land of catchments, or of a whole network where there is no pour point, into sub-basins.
///
/// Sub-basins end at all pour points, where `division` says, and where `edits` add an outlet; those it takes away, other than
/// pour points, do not count. Numbers rise downstream, those along a branch follow each other. With
/// [`Division::TargetKm2`] an outlet is set where the land that has gathered since the last ones reaches the target; before a
/// junction, where the branches together would exceed it by a quarter, and a branch holds at least half of it.
/// What is left above a pour point, where it is less than half, goes with the land above it.
///
/// # Errors
/// Those of [`label`].
///
/// ```
/// use bothros_core::catchments::{Divided, Division, DivisionEdits, divide};
/// use bothros_core::{Cell, Frame, Grid, Silent};
/// let directions = Grid::from_vec(1, 6, vec![1, 1, 1, 1, 1, 0]);
/// let accumulation = Grid::from_vec(1, 6, vec![0, 1, 2, 3, 4, 5]);
/// let frame = Frame { rows: 1, cols: 6, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let points = [Cell { row: 0, col: 4 }, Cell { row: 0, col: 1 }];
/// let of = Divided { directions: &directions, accumulation: &accumulation, frame: &frame, network: None, points: &points };
/// let found = divide(&of, Division::PourPoints, &DivisionEdits::default(), &Silent)?;
/// assert_eq!(found.found.ids.values(), [1, 1, 2, 2, 2, 0]);
/// assert_eq!((found.found.within[0], found.point[0]), (Some(2), Some(2)));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn divide(
    of: &Divided<'_>,
    division: Division,
    edits: &DivisionEdits,
    monitor: &dyn Monitor,
) -> Result<SubBasins> {
    of.directions.same_shape(of.accumulation)?;
    let of = &match division {
        Division::Basins => Divided { points: &[], ..*of },
        _ => *of,
    };
    let grid = of.directions;
    let number = |cell: Cell| grid.index(cell) as u32;
    let pours: HashSet<u32> = of.points.iter().map(|&p| number(p)).collect();
    // Two points in one cell have the same catchment.
    let mut distinct = of.points.to_vec();
    distinct.sort_unstable_by_key(|&cell| number(cell));
    distinct.dedup();
    // Land outside the catchments is nobody's.
    let inside = match distinct.is_empty() {
        true => None,
        false => Some(label(grid, &distinct, &Part::new(monitor, 0.0, 0.4))?),
    };
    let counts = |cell: u32| inside.as_ref().is_none_or(|found| found.ids.values()[cell as usize] != 0);
    let reaches = of.network.map_or(&[][..], |n| &n.reaches);
    let mut ends: HashSet<u32> = match division {
        Division::PourPoints => HashSet::new(),
        Division::Basins => outlets_of_footprint(grid).into_iter().map(number).collect(),
        Division::Reaches => reaches.iter().filter_map(|r| r.cells.last().copied()).collect(),
        Division::Tributaries => tributaries(of, reaches)?,
        Division::TargetKm2(km2) => by_target(of, reaches, &pours, km2),
    };
    if of.points.is_empty() && division != Division::Basins {
        ends.extend(reaches.iter().filter(|r| r.downstream.is_none()).filter_map(|r| r.cells.last()));
    }
    ends.extend(edits.split.iter().filter(|&&cell| lies_on(grid, cell)).map(|&cell| number(cell)));
    for &cell in edits.merged.iter().filter(|&&cell| lies_on(grid, cell)) {
        ends.remove(&number(cell));
    }
    ends.retain(|&cell| counts(cell));
    ends.extend(&pours);
    let mut ends: Vec<u32> = ends.into_iter().collect();
    ends.sort_unstable();
    if let Division::TargetKm2(km2) = division {
        small_ends(of, &mut ends, &pours, km2);
    }
    let outlets: Vec<Cell> = ends.iter().map(|&cell| grid.cell(cell as usize)).collect();
    let found = label(grid, &outlets, &Part::new(monitor, 0.4, 0.9))?;
    let (found, outlets) = numbered_downstream(found, &outlets);
    let on_reach: HashMap<u32, u32> = {
        let wanted: HashSet<u32> = outlets.iter().map(|&o| number(o)).collect();
        let cells = reaches.iter().flat_map(|r| r.cells.iter().map(|&cell| (cell, r.id)));
        cells.filter(|(cell, _)| wanted.contains(cell)).collect()
    };
    let mut junctions = vec![HashSet::new(); outlets.len()];
    for reach in reaches {
        let (Some(&last), Some(joins)) = (reach.cells.last(), reach.joins) else { continue };
        let (above, below) = (found.ids.values()[last as usize], found.ids.values()[joins as usize]);
        if above == below && above != 0 {
            junctions[above as usize - 1].insert(joins);
        }
    }
    let mut places: HashMap<u32, u32> = HashMap::new();
    for (&point, at) in of.points.iter().zip(1u32..) {
        places.entry(number(point)).or_insert(at);
    }
    monitor.progress(1.0);
    Ok(SubBasins {
        reach: outlets.iter().map(|&o| on_reach.get(&number(o)).copied()).collect(),
        point: outlets.iter().map(|&o| places.get(&number(o)).copied()).collect(),
        junctions: junctions.iter().map(|j| j.len() as u32).collect(),
        found,
        outlets,
    })
}

/// Whether a cell has a direction.
fn lies_on(directions: &Grid<u8>, cell: Cell) -> bool {
    directions.get(cell).is_some_and(|&code| code != DIRECTION_NODATA)
}

type Reaches<'a> = &'a [crate::network::Reach];

/// Lower ends of the reaches of main stems, and of those that join them.
fn tributaries(of: &Divided<'_>, reaches: Reaches<'_>) -> Result<HashSet<u32>> {
    let Some(network) = of.network else { return Ok(HashSet::new()) };
    let streams = network.cells(of.frame);
    let is_stream = |index: usize| streams.values()[index];
    let mouths: Vec<Cell> = match of.points {
        [] => {
            let mouths = reaches.iter().filter(|r| r.downstream.is_none()).filter_map(|r| r.cells.last());
            mouths.map(|&cell| of.directions.cell(cell as usize)).collect()
        }
        points => points.to_vec(),
    };
    let mut stems: HashSet<u32> = HashSet::new();
    for mouth in mouths {
        stems.extend(main_stem_of_cells(of.directions, of.accumulation, &is_stream, mouth)?);
    }
    let joins = |r: &&crate::network::Reach| {
        let near = r.cells.last().copied().into_iter().chain(r.joins);
        near.into_iter().any(|cell| stems.contains(&cell))
    };
    Ok(reaches.iter().filter(joins).filter_map(|r| r.cells.last().copied()).collect())
}

/// Outlets so that about `km2` gather between them.
fn by_target(of: &Divided<'_>, reaches: Reaches<'_>, pours: &HashSet<u32>, km2: f64) -> HashSet<u32> {
    let target = (km2 / of.frame.cell_area().as_km2()).max(1.0);
    let area = |cell: u32| f64::from(of.accumulation.values()[cell as usize]) + 1.0;
    let mut order: Vec<usize> = (0..reaches.len()).filter(|&at| !reaches[at].cells.is_empty()).collect();
    // Downstream reaches have larger areas.
    let last = |at: usize| *reaches[at].cells.last().unwrap_or(&0);
    order.sort_unstable_by_key(|&at| (of.accumulation.values()[last(at) as usize], last(at)));
    let mut ends = HashSet::new();
    // For each reach those that flow into it, with the land that each hands on: it has not been cut off yet.
    let mut inflows: Vec<Vec<(f64, u32)>> = vec![Vec::new(); reaches.len()];
    for at in order {
        let reach = &reaches[at];
        let mut above = std::mem::take(&mut inflows[at]);
        above.sort_by(|a, b| a.0.total_cmp(&b.0).then(b.1.cmp(&a.1)));
        let first = reach.cells[0];
        // What reaches the first cell from its sides alone.
        let mut open = area(first) - above.iter().map(|a| area(a.1)).sum::<f64>();
        let mut sum: f64 = above.iter().map(|a| a.0).sum();
        while sum > 1.25 * target
            && let Some((branch, cell)) = above.pop()
            && branch >= 0.5 * target
        {
            ends.insert(cell);
            sum -= branch;
        }
        open += sum;
        let mut before = area(first);
        let end = area(last(at));
        for (i, &cell) in reach.cells.iter().enumerate() {
            if i > 0 {
                open += area(cell) - before;
                before = area(cell);
            }
            let left = end - area(cell);
            if pours.contains(&cell) {
                open = 0.0;
            } else if open >= target && left >= 0.5 * target {
                ends.insert(cell);
                open = 0.0;
            }
        }
        match reach.downstream {
            Some(next) => {
                // A pour point or a cut at the very end hands nothing on.
                inflows[next as usize - 1].push((open, last(at)));
            }
            None => {
                ends.insert(last(at));
            }
        }
    }
    ends
}

/// Takes outlets away below which less than half the target lies up to a pour point, or the mouth of a network: the one with
/// the least land of its own goes first. `ends` are sorted.
fn small_ends(of: &Divided<'_>, ends: &mut Vec<u32>, pours: &HashSet<u32>, km2: f64) {
    let target = (km2 / of.frame.cell_area().as_km2()).max(1.0);
    let area = |cell: u32| f64::from(of.accumulation.values()[cell as usize]) + 1.0;
    let is_end: HashSet<u32> = ends.iter().copied().collect();
    let next = |cell: u32| {
        let mut at = cell as usize;
        while let Some(below) = crate::routing::downstream(of.directions, at) {
            at = below;
            if is_end.contains(&(at as u32)) {
                return Some(at as u32);
            }
        }
        None
    };
    // For each outlet, those that drain to it next.
    let mut above: HashMap<u32, Vec<u32>> = HashMap::new();
    let mut lowest = Vec::new();
    for &end in ends.iter() {
        match next(end) {
            Some(below) => above.entry(below).or_default().push(end),
            None => lowest.push(end),
        }
    }
    let none = Vec::new();
    let upstream = |end: &u32| above.get(end).unwrap_or(&none);
    let own = |end: u32| area(end) - upstream(&end).iter().map(|&up| area(up)).sum::<f64>();
    let fixed: HashSet<u32> = lowest.iter().chain(pours).copied().collect();
    let mut gone = HashSet::new();
    for &end in &fixed {
        let left = own(end);
        if left >= 0.5 * target {
            continue;
        }
        let branches = upstream(&end).iter().copied().filter(|up| !fixed.contains(up));
        let least = branches.map(|up| (own(up), up)).min_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        if let Some((land, up)) = least
            && land + left <= 1.5 * target
        {
            gone.insert(up);
        }
    }
    ends.retain(|end| !gone.contains(end));
}

/// Numbers sub-basins so that each comes after those that drain to it, and those along a branch follow each other: the
/// branch with the most land first.
fn numbered_downstream(found: Labelled, outlets: &[Cell]) -> (Labelled, Vec<Cell>) {
    let count = outlets.len();
    let mut above: Vec<Vec<u32>> = vec![Vec::new(); count];
    let mut lowest: Vec<u32> = Vec::new();
    for (at, within) in found.within.iter().enumerate() {
        match within {
            Some(below) => above[*below as usize - 1].push(at as u32),
            None => lowest.push(at as u32),
        }
    }
    let most_first = |list: &mut Vec<u32>| {
        list.sort_by_key(|&at| (std::cmp::Reverse(found.cells[at as usize]), at));
    };
    most_first(&mut lowest);
    above.iter_mut().for_each(most_first);
    let mut order = Vec::with_capacity(count);
    // A sub-basin is left once all above it have been.
    for &mouth in &lowest {
        let mut open = vec![(mouth, 0usize)];
        while let Some((at, done)) = open.pop() {
            match above[at as usize].get(done) {
                Some(&up) => open.extend([(at, done + 1), (up, 0)]),
                None => order.push(at as usize),
            }
        }
    }
    let mut number = vec![0u32; count + 1];
    for (new, &old) in order.iter().enumerate() {
        number[old + 1] = new as u32 + 1;
    }
    let pick = |list: &[u64]| order.iter().map(|&at| list[at]).collect();
    let labelled = Labelled {
        within: order.iter().map(|&at| found.within[at].map(|w| number[w as usize])).collect(),
        own_cells: pick(&found.own_cells),
        cells: pick(&found.cells),
        touches_edge: order.iter().map(|&at| found.touches_edge[at]).collect(),
        ids: {
            let (rows, cols) = (found.ids.rows(), found.ids.cols());
            let ids: Vec<u32> = found.ids.values().par_iter().map(|&id| number[id as usize]).collect();
            Grid::from_vec(rows, cols, ids)
        },
    };
    (labelled, order.iter().map(|&at| outlets[at]).collect())
}

impl SubBasins {
    /// Each sub-basin as a piece of land of its own, in their order. `directions` are those it was found on.
    pub fn pieces(&self, directions: &Grid<u8>) -> Vec<Catchment> {
        let ids = &self.found.ids;
        let piece = |(id, w): (u32, Window)| {
            let (rows, cols) = (w.bottom - w.top + 1, w.right - w.left + 1);
            let (mut mask, mut edge_cells) = (Vec::with_capacity(rows * cols), 0);
            for row in w.top..=w.bottom {
                let first = row * ids.cols() + w.left;
                let line = &ids.values()[first..first + cols];
                mask.extend(line.iter().map(|&own| own == id));
                let inside = (w.left..).zip(line).filter(|(_, own)| **own == id);
                edge_cells += inside.filter(|(col, _)| is_cut(directions, row, *col)).count() as u64;
            }
            let mask = Grid::from_vec(rows, cols, mask);
            let at = id as usize - 1;
            let (outlet, cells) = (self.outlets[at], self.found.own_cells[at]);
            Catchment { outlet, cells, edge_cells, row: w.top, col: w.left, mask }
        };
        windows(ids).into_par_iter().map(piece).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::Threshold;
    use crate::catchments::{Measured, delineate, measure, measure_part};
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{downstream, flow_accumulation, flow_directions};
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    struct Land {
        ground: Grid<f32>,
        directions: Grid<u8>,
        accumulation: Grid<u32>,
        frame: Frame,
        network: Network,
    }

    impl Land {
        fn of(dem: &Grid<f32>, cells: u32) -> Self {
            let ground = fill(dem, &Silent).unwrap();
            let directions = flow_directions(&ground, &Silent).unwrap();
            let accumulation = flow_accumulation(&directions, &Silent).unwrap();
            let frame = Frame {
                rows: dem.rows(),
                cols: dem.cols(),
                left: 0.0,
                top: 0.0,
                cell_size: 1000.0,
                unit_m: 1.0,
            };
            let network =
                extract(&directions, &accumulation, &ground, &frame, Threshold::cells(cells), &Silent)
                    .unwrap();
            Self { ground, directions, accumulation, frame, network }
        }

        fn divided(&self, points: &[Cell], division: Division, edits: &DivisionEdits) -> SubBasins {
            let of = Divided {
                directions: &self.directions,
                accumulation: &self.accumulation,
                frame: &self.frame,
                network: Some(&self.network),
                points,
            };
            divide(&of, division, edits, &Silent).unwrap()
        }

        /// Cells that leave the land, the largest first.
        fn mouths(&self) -> Vec<Cell> {
            let mut mouths: Vec<&crate::network::Reach> =
                self.network.reaches.iter().filter(|r| r.downstream.is_none()).collect();
            mouths.sort_by(|a, b| b.contributing.as_m2().total_cmp(&a.contributing.as_m2()));
            mouths.iter().map(|r| self.directions.cell(*r.cells.last().unwrap() as usize)).collect()
        }
    }

    /// A rough slope that falls to the south and gathers in a valley.
    fn slope() -> Land {
        let rough = |r: usize, c: usize| ((r * 7919 + c * 104_729) % 97) as f32 * 0.02;
        let dem = Grid::from_fn(90, 70, |c| {
            200.0 - c.row as f32 + (c.col as f32 - 35.0).abs() * 0.6 + rough(c.row, c.col)
        });
        Land::of(&dem, 20)
    }

    const DIVISIONS: [Division; 5] = [
        Division::PourPoints,
        Division::Reaches,
        Division::Tributaries,
        Division::TargetKm2(150.0),
        Division::Basins,
    ];

    #[test]
    fn tributaries_are_whole_and_the_stem_is_cut_above_each_junction() {
        let land = slope();
        let mouth = land.mouths()[0];
        let found = land.divided(&[mouth], Division::Tributaries, &DivisionEdits::default());
        let streams = land.network.cells(&land.frame);
        let stem: HashSet<u32> =
            main_stem_of_cells(&land.directions, &land.accumulation, &|i| streams.values()[i], mouth)
                .unwrap()
                .into_iter()
                .collect();
        let beside = found.outlets.iter().filter(|&&o| !stem.contains(&(land.directions.index(o) as u32)));
        let mut count = 0;
        for &outlet in beside {
            let at = land.directions.index(outlet);
            assert!(stem.contains(&(downstream(&land.directions, at).unwrap() as u32)), "it joins the stem");
            let own = found.outlets.iter().position(|&o| o == outlet).unwrap();
            assert_eq!(found.found.own_cells[own], found.found.cells[own], "a tributary is not cut");
            count += 1;
        }
        assert!(count > 3, "{count}");
    }

    #[test]
    fn a_target_is_met_by_most() {
        for km2 in [60.0, 150.0, 400.0] {
            check_target(km2);
        }
    }

    fn check_target(km2: f64) {
        let land = slope();
        let mouth = land.mouths()[0];
        let found = land.divided(&[mouth], Division::TargetKm2(km2), &DivisionEdits::default());
        let own: Vec<f64> = found.found.own_cells.iter().map(|&c| c as f64).collect();
        let all: f64 = own.iter().sum();
        let last = own.len() - 1;
        for &land in &own[..last] {
            assert!(land >= 0.5 * km2 && land <= 2.0 * km2, "{land} of {km2}: {own:?}");
        }
        let mean = all / own.len() as f64;
        assert!(mean > 0.5 * km2 && mean < 1.6 * km2, "{mean} of {km2}");
        assert!(found.junctions.iter().sum::<u32>() > 0, "some join streams, and say so");
    }

    #[test]
    fn what_is_merged_goes_downstream_and_what_is_split_stands_apart() {
        let land = slope();
        let mouth = land.mouths()[0];
        let plain = land.divided(&[mouth], Division::Reaches, &DivisionEdits::default());
        let gone = plain.outlets[0];
        let below = plain.found.within[0].unwrap() as usize - 1;
        let edits = DivisionEdits { merged: vec![gone, mouth], split: vec![] };
        let merged = land.divided(&[mouth], Division::Reaches, &edits);
        assert_eq!(merged.outlets.len(), plain.outlets.len() - 1, "a pour point stays");
        let at = merged.outlets.iter().position(|&o| o == plain.outlets[below]).unwrap();
        assert_eq!(merged.found.own_cells[at], plain.found.own_cells[below] + plain.found.own_cells[0]);
        assert_eq!(merged.junctions[at], 1);
        // In the middle of the longest reach.
        let reach = land.network.reaches.iter().max_by_key(|r| r.cells.len()).unwrap();
        let middle = land.directions.cell(reach.cells[reach.cells.len() / 2] as usize);
        let outside = Cell { row: 1000, col: 0 };
        let edits = DivisionEdits { split: vec![middle, outside], merged: vec![outside] };
        let split = land.divided(&[mouth], Division::Reaches, &edits);
        assert_eq!(split.outlets.len(), plain.outlets.len() + 1);
        let at = split.outlets.iter().position(|&o| o == middle).unwrap();
        assert_eq!(split.reach[at], Some(reach.id));
    }

    proptest! {
        #[test]
        fn no_gap_no_overlap_and_numbers_rise_downstream(
            dem in any_terrain(16), cells in 1u32..9, picks in prop::collection::vec(0usize..256, 0..4), which in 0usize..5,
        ) {
            let land = Land::of(&dem, cells);
            let mut points: Vec<Cell> = picks.into_iter()
                .filter(|&i| i < dem.len() && !dem.values()[i].is_nan()).map(|i| dem.cell(i)).collect();
            points.sort_unstable_by_key(|c| (c.row, c.col));
            points.dedup();
            let division = match DIVISIONS[which] { Division::TargetKm2(_) => Division::TargetKm2(10.0), other => other };
            let found = land.divided(&points, division, &DivisionEdits::default());
            let inside: usize = (0..dem.len()).filter(|&i| {
                if division == Division::Basins { !dem.values()[i].is_nan() }
                else if points.is_empty() { found.found.ids.values()[i] != 0 }
                else { points.iter().any(|&p| delineate(&land.directions, p).unwrap().contains(dem.cell(i))) }
            }).count();
            prop_assert_eq!(found.found.own_cells.iter().sum::<u64>() as usize, inside);
            for (at, within) in found.found.within.iter().enumerate() {
                prop_assert!(within.is_none_or(|w| w as usize > at + 1), "numbers rise downstream");
            }
            for &point in points.iter().filter(|_| division != Division::Basins) {
                prop_assert!(found.outlets.contains(&point));
            }
            if division == Division::Reaches {
                prop_assert!(found.junctions.iter().all(|&n| n == 0), "no sub-basin of a reach holds a junction");
            }
            // Pieces are what the labels say, and their figures add up to the whole.
            let is_stream = |i: usize| Threshold::cells(cells).is_stream(land.accumulation.values()[i]);
            let order = |i: usize| land.network.reaches.iter().find(|r| r.cells.contains(&(i as u32))).map_or(0, |r| r.strahler);
            let of = Measured {
                ground: &land.ground, directions: &land.directions, accumulation: &land.accumulation,
                frame: &land.frame, is_stream: &is_stream, order: &order,
            };
            let pieces = found.pieces(&land.directions);
            prop_assert_eq!(pieces.len(), found.outlets.len());
            let mut length = vec![0.0; pieces.len()];
            for (at, piece) in pieces.iter().enumerate() {
                prop_assert_eq!(piece.cells, found.found.own_cells[at]);
                let got = measure_part(&of, piece, (&found.found.ids, at as u32 + 1)).unwrap();
                prop_assert!((got.area_km2 - piece.cells as f64).abs() < 1e-9);
                prop_assert!(got.longest_path_drop_m >= -1e-6);
                length[at] = got.stream_length_km;
            }
            for (at, &outlet) in found.outlets.iter().enumerate() {
                let mut above = 0.0;
                for (other, length) in length.iter().enumerate() {
                    let mut up = Some(other as u32 + 1);
                    while let Some(id) = up.filter(|&id| id as usize != at + 1) {
                        up = found.found.within[id as usize - 1];
                    }
                    if up.is_some() { above += length; }
                }
                let whole = measure(&of, &delineate(&land.directions, outlet).unwrap()).unwrap();
                let below = if is_stream(land.directions.index(outlet)) {
                    crate::routing::step(&land.directions, land.directions.index(outlet))
                } else { 0.0 };
                prop_assert!((above - below - whole.stream_length_km).abs() < 1e-6, "{} {}", above - below, whole.stream_length_km);
            }
        }
    }
}
