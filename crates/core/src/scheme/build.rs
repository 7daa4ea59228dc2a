//! The scheme of sub-basins.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap, HashMap, HashSet};

use super::{Flowpath, Nexus, NexusKind, Part, Scheme};
use crate::catchments::SubBasins;
use crate::routing::{downstream, step};
use crate::{Cell, Frame, Grid, Result};

/// A lake or reservoir that holds water back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Storage {
    /// the cell that its water leaves by; it counts where a sub-basin ends there
    pub outlet: Cell,
}

/// A flowpath while the scheme is put together: its ends are cells.
struct Way {
    from: u32,
    to: u32,
    subbasin: u32,
    cells: Vec<u32>,
    length_m: f64,
}

/// Builds the scheme of sub-basins.
///
/// A sub-basin drains to the nexus at the cell that its outlet drains to, or, at a final outlet, to one at the outlet itself. From each
/// nexus a flowpath follows the water through the next sub-basin to its nexus; where several enter one sub-basin, a nexus stands where
/// they meet. Flowpaths shorter than `shortest_m` metres are not routed: the nexus at their upper end becomes one with that at their lower
/// end, unless a pour point or a storage is there. Numbers rise downstream.
///
/// `directions` are those that the sub-basins were found on, `ground` the elevations, metres, at `frame`.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
pub fn from_subbasins(
    basins: &SubBasins,
    directions: &Grid<u8>,
    ground: &Grid<f32>,
    frame: &Frame,
    storages: &[Storage],
    shortest_m: f64,
) -> Result<Scheme> {
    directions.same_shape(ground)?;
    directions.same_shape(&basins.found.ids)?;
    let outlet = |at: usize| directions.index(basins.outlets[at]) as u32;
    // The cell of the nexus that each sub-basin drains to.
    let end_of: Vec<u32> = (0..basins.outlets.len())
        .map(|at| match (basins.found.within[at], downstream(directions, outlet(at) as usize)) {
            (Some(_), Some(next)) => next as u32,
            _ => outlet(at),
        })
        .collect();
    let mut entries: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
    for (at, next) in basins.found.within.iter().enumerate() {
        if let Some(next) = next {
            entries.entry(*next).or_default().push(end_of[at]);
        }
    }
    let mut ways = Vec::new();
    for (subbasin, cells) in entries {
        through(&mut ways, subbasin, cells, end_of[subbasin as usize - 1], directions, frame);
    }

    // What stands at each nexus.
    let mut point_at: HashMap<u32, u32> = HashMap::new();
    let mut storage_at: HashMap<u32, usize> = HashMap::new();
    for (&end, (point, outlet)) in end_of.iter().zip(basins.point.iter().zip(&basins.outlets)) {
        if let Some(point) = point {
            point_at.entry(end).or_insert(*point);
        }
        if let Some(storage) = storages.iter().position(|s| s.outlet == *outlet) {
            storage_at.entry(end).or_insert(storage);
        }
    }
    let named = |cell: u32| point_at.contains_key(&cell) || storage_at.contains_key(&cell);
    let mut becomes: HashMap<u32, u32> = HashMap::new();
    let before = ways.len();
    ways.retain(|way| {
        let short = way.length_m < shortest_m && !named(way.from);
        if short {
            becomes.insert(way.from, way.to);
        }
        !short
    });
    let merged = before - ways.len();
    let of = |cell: u32| {
        let mut at = cell;
        while let Some(&next) = becomes.get(&at) {
            at = next;
        }
        at
    };
    let ends: Vec<u32> = end_of.iter().map(|&cell| of(cell)).collect();
    for way in &mut ways {
        way.to = of(way.to);
    }

    let numbers = numbered(&ends, &ways);
    let kind = |cell: u32, goes_on: bool| match (storage_at.contains_key(&cell), point_at.contains_key(&cell))
    {
        (true, _) => NexusKind::Storage,
        _ if !goes_on => NexusKind::Terminal,
        (_, true) => NexusKind::Station,
        _ => NexusKind::Junction,
    };
    ways.sort_by_key(|way| (numbers[&way.from], way.subbasin));
    let z = |cell: u32| f64::from(ground.values()[cell as usize]);
    let flowpaths: Vec<Flowpath> = ways
        .into_iter()
        .zip(1u32..)
        .map(|(way, id)| Flowpath {
            id,
            from: numbers[&way.from],
            to: numbers[&way.to],
            subbasin: way.subbasin,
            length_m: way.length_m,
            drop_m: match (way.cells.first(), way.cells.last()) {
                (Some(&first), Some(&last)) => z(first) - z(last),
                _ => 0.0,
            },
            cells: way.cells,
        })
        .collect();
    let next: HashMap<u32, u32> = flowpaths.iter().map(|f| (f.from, f.id)).collect();
    let mut cells: Vec<(u32, u32)> = numbers.iter().map(|(&cell, &id)| (id, cell)).collect();
    cells.sort_unstable();
    let nexuses = cells.into_iter().map(|(id, cell)| Nexus {
        id,
        kind: kind(cell, next.contains_key(&id)),
        cell,
        point: point_at.get(&cell).copied(),
        storage: storage_at.get(&cell).copied(),
        flowpath: next.get(&id).copied(),
    });
    let parts = ends.iter().enumerate().map(|(at, end)| Part {
        id: at as u32 + 1,
        nexus: numbers[end],
        cells: basins.found.own_cells[at],
    });
    Ok(Scheme { nexuses: nexuses.collect(), subbasins: parts.collect(), flowpaths, merged })
}

/// Adds the flowpaths through a sub-basin, from the cells where others enter it to the nexus at the cell `end`.
fn through(
    ways: &mut Vec<Way>,
    subbasin: u32,
    mut entries: Vec<u32>,
    end: u32,
    directions: &Grid<u8>,
    frame: &Frame,
) {
    entries.sort_unstable();
    entries.dedup();
    let mut stops: HashSet<u32> = entries.iter().copied().chain([end]).collect();
    // Where ways meet, a nexus stands.
    let mut passed: HashSet<u32> = HashSet::new();
    for &entry in &entries {
        let mut at = Some(entry).filter(|&cell| cell != end);
        while let Some(cell) = at {
            if !passed.insert(cell) {
                stops.insert(cell);
                break;
            }
            at = downstream(directions, cell as usize).map(|next| next as u32).filter(|&next| next != end);
        }
    }
    let mut begins: Vec<u32> = stops.iter().copied().filter(|&cell| cell != end).collect();
    begins.sort_unstable();
    for from in begins {
        let (mut cells, mut steps) = (vec![from], 0.0);
        let mut at = from;
        while let Some(next) = downstream(directions, at as usize) {
            steps += step(directions, at as usize);
            at = next as u32;
            cells.push(at);
            if stops.contains(&at) {
                break;
            }
        }
        ways.push(Way { from, to: at, subbasin, cells, length_m: steps * frame.cell_m() });
    }
}

/// Numbers for the cells of nexuses, from 1: each comes after all that lead to it, and otherwise in the order of the cells.
fn numbered(ends: &[u32], ways: &[Way]) -> HashMap<u32, u32> {
    let mut waiting: BTreeMap<u32, usize> = ends.iter().map(|&cell| (cell, 0)).collect();
    let mut next: HashMap<u32, u32> = HashMap::new();
    for way in ways {
        waiting.entry(way.from).or_default();
        *waiting.entry(way.to).or_default() += 1;
        next.insert(way.from, way.to);
    }
    let mut ready: BinaryHeap<Reverse<u32>> =
        waiting.iter().filter(|(_, n)| **n == 0).map(|(&cell, _)| Reverse(cell)).collect();
    let mut numbers = HashMap::new();
    while let Some(Reverse(cell)) = ready.pop() {
        numbers.insert(cell, numbers.len() as u32 + 1);
        if let Some(after) = next.get(&cell)
            && let Some(left) = waiting.get_mut(after)
        {
            *left -= 1;
            if *left == 0 {
                ready.push(Reverse(*after));
            }
        }
    }
    numbers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catchments::{Divided, Division, DivisionEdits, divide};
    use crate::conditioning::fill;
    use crate::network::extract;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::scheme::flaws;
    use crate::terrain::tests_support::any_terrain;
    use crate::{Silent, Threshold};
    use proptest::prelude::*;

    fn scheme_of(
        dem: &Grid<f32>,
        division: Division,
        shortest_m: f64,
        points: &[Cell],
    ) -> (Scheme, SubBasins) {
        let ground = fill(dem, &Silent).unwrap();
        let directions = flow_directions(&ground, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let frame =
            Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let threshold = Threshold::cells(3);
        let network = extract(&directions, &accumulation, &ground, &frame, threshold, &Silent).unwrap();
        let of = Divided {
            directions: &directions,
            accumulation: &accumulation,
            frame: &frame,
            network: Some(&network),
            points,
        };
        let basins = divide(&of, division, &DivisionEdits::default(), &Silent).unwrap();
        let scheme = from_subbasins(&basins, &directions, &ground, &frame, &[], shortest_m).unwrap();
        (scheme, basins)
    }

    proptest! {
        #[test]
        fn every_sub_basin_has_one_way_to_a_final_outlet(
            dem in any_terrain(18),
            shortest in prop::sample::select(vec![0.0, 15.0, 60.0]),
            kind in 0usize..3,
        ) {
            let division = [Division::Reaches, Division::Tributaries, Division::TargetKm2(0.002)][kind];
            let (scheme, basins) = scheme_of(&dem, division, shortest, &[]);
            prop_assert_eq!(scheme.subbasins.len(), basins.outlets.len());
            // Numbers rise downstream, so nothing runs in circles.
            for f in &scheme.flowpaths {
                prop_assert!(f.to > f.from, "{:?}", f);
                prop_assert!(f.length_m >= shortest && f.cells.len() > 1);
                prop_assert!(f.drop_m >= 0.0, "on filled ground nothing rises");
            }
            for part in &scheme.subbasins {
                let mut at = part.nexus;
                for _ in 0..=scheme.nexuses.len() {
                    match scheme.after(at) {
                        Some(next) => at = next,
                        None => break,
                    }
                }
                prop_assert_eq!(scheme.nexuses[at as usize - 1].kind, NexusKind::Terminal);
            }
            // Each nexus stands at the end of something, and one flowpath at most leads on.
            let mut froms: Vec<u32> = scheme.flowpaths.iter().map(|f| f.from).collect();
            froms.sort_unstable();
            prop_assert!(froms.windows(2).all(|w| w[0] < w[1]));
            // What drains through a nexus is what the accumulation says, where nothing was merged.
            let mut gathered = vec![0u64; scheme.nexuses.len() + 1];
            for part in &scheme.subbasins {
                gathered[part.nexus as usize] += part.cells;
            }
            for nexus in &scheme.nexuses {
                if let Some(next) = scheme.after(nexus.id) {
                    gathered[next as usize] += gathered[nexus.id as usize];
                }
            }
            let ends: u64 = scheme.nexuses.iter().filter(|n| n.flowpath.is_none()).map(|n| gathered[n.id as usize]).sum();
            prop_assert_eq!(ends, scheme.subbasins.iter().map(|p| p.cells).sum::<u64>());
            let found = flaws(&scheme);
            prop_assert!(found.iter().all(|f| !f.is_error()), "{:?}", found);
        }
    }

    #[test]
    fn pour_points_and_storages_stay_where_they_are() {
        // A channel that falls to the south.
        let dem = Grid::from_fn(30, 9, |c| 100.0 - c.row as f32 + 2.0 * (c.col as f32 - 4.0).abs());
        let points = [Cell { row: 20, col: 4 }, Cell { row: 22, col: 4 }];
        let (scheme, basins) = scheme_of(&dem, Division::PourPoints, 500.0, &points);
        // Two cells apart, and far shorter than what is routed: both are kept, as stations must be.
        assert_eq!((scheme.subbasins.len(), scheme.flowpaths.len(), scheme.merged), (2, 1, 0), "{scheme:?}");
        assert_eq!(scheme.nexuses[0].point, basins.point[0]);
        assert_eq!(scheme.nexuses[0].kind, NexusKind::Station);
        let ground = fill(&dem, &Silent).unwrap();
        let directions = flow_directions(&ground, &Silent).unwrap();
        let frame = Frame { rows: 30, cols: 9, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let storages = [Storage { outlet: points[0] }];
        let scheme = from_subbasins(&basins, &directions, &ground, &frame, &storages, 0.0).unwrap();
        assert_eq!((scheme.nexuses[0].kind, scheme.nexuses[0].storage), (NexusKind::Storage, Some(0)));
    }
}
