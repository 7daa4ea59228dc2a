//! Stream burning: the DEM is lowered along mapped streams, so that flow follows them.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::lines::Line;
use crate::{Connection, Frame, Grid, Monitor, NEIGHBOURS, Result, cells_along};

/// How streams are burned in.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "method")]
pub enum Burn {
    /// stream cells are lowered by a constant depth
    Trench {
        /// metres
        depth_m: f64,
    },
    /// a sharp trench with a smooth buffer: towards the stream the ground falls more and more, by
    /// `buffer_depth_m` beside it and nothing at a distance of `buffer_m`; the stream itself is
    /// lowered by both depths
    Graded {
        /// depth of the sharp trench, metres
        depth_m: f64,
        /// width of the buffer on either side, metres; three cells at least, as a narrower one lowers no bank
        buffer_m: f64,
        /// depth of the buffer at the stream, metres
        buffer_depth_m: f64,
    },
    /// streams lie a full relief of the DEM below where they were, everywhere; slopes stay as they are on land and along streams. For flow
    /// directions only
    Normalised,
    /// streams are lowered just enough to fall all the way to their lower end
    Carve,
}

/// The cells of mapped streams, by number in row order, ascending, each once; those without
/// elevation are left out. `lines` are in CRS units.
pub fn stream_cells(dem: &Grid<f32>, frame: &Frame, lines: &[Line]) -> Vec<u32> {
    let mut cells: Vec<u32> = lines
        .iter()
        .flat_map(|line| cells_along(line, frame, Connection::Eight))
        .map(|cell| dem.index(cell) as u32)
        .filter(|&i| !dem.values()[i as usize].is_nan())
        .collect();
    cells.sort_unstable();
    cells.dedup();
    cells
}

/// Burns `streams` (cell numbers in row order, ascending, as [`stream_cells`] gives them) into
/// `dem` (elevation, metres). The result serves as a routing surface: elevations for drops and
/// profiles are not taken from it.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Trench: textbook. Graded trench: after Hellweger 1997 (the buffer is ours: linear in the
/// distance, three cells wide at least). Normalised: (n - s) times the relief, where n is the elevation above the lowest as a share of the
/// relief, and s is 1 on streams and 0 elsewhere; common practice for large river basins. Carving: Soille 2004, International Journal of
/// Pattern Recognition 18, in the form of a flood along the streams.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::{Burn, burn}};
/// let dem = Grid::from_vec(1, 4, vec![4.0, 5.0, 3.0, 3.5]);
/// let frame = Frame { rows: 1, cols: 4, left: 0.0, top: 1.0, cell_size: 1.0, unit_m: 1.0 };
/// let trench = burn(&dem, &frame, &[1, 2], Burn::Trench { depth_m: 2.0 }, &Silent)?;
/// assert_eq!(trench.values(), [4.0, 3.0, 1.0, 3.5]);
/// let normalised = burn(&dem, &frame, &[1, 2], Burn::Normalised, &Silent)?;
/// assert_eq!(normalised.values(), [1.0, 0.0, -2.0, 0.5]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn burn(
    dem: &Grid<f32>,
    frame: &Frame,
    streams: &[u32],
    method: Burn,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let mut burned = dem.clone();
    match method {
        Burn::Trench { depth_m } => {
            for &cell in streams {
                burned.values_mut()[cell as usize] -= depth_m as f32;
            }
        }
        Burn::Graded { depth_m, buffer_m, buffer_depth_m } => {
            let buffer_m = buffer_m.max(LEAST_BUFFER * frame.cell_m());
            let away = distances(dem, streams, buffer_m / frame.cell_m(), monitor)?;
            burned.values_mut().par_iter_mut().zip(&away).filter(|(_, away)| away.is_finite()).for_each(
                |(z, &away)| {
                    let away_m = away as f64 * frame.cell_m();
                    let share = if buffer_m > 0.0 { 1.0 - away_m / buffer_m } else { 1.0 };
                    let sharp = if away == 0.0 { depth_m } else { 0.0 };
                    *z -= (buffer_depth_m * share + sharp) as f32;
                },
            );
        }
        Burn::Normalised => {
            let valid = || dem.values().iter().copied().filter(|z| !z.is_nan());
            let (low, high) = valid().fold((f32::MAX, f32::MIN), |(l, h), z| (l.min(z), h.max(z)));
            // (n - s) x relief with n = (z - low) / relief: what stands above the lowest, less a relief on streams.
            let relief = high as f64 - low as f64;
            for z in burned.values_mut() {
                *z = (*z as f64 - low as f64) as f32;
            }
            for &cell in streams {
                let z = &mut burned.values_mut()[cell as usize];
                *z = (*z as f64 - relief) as f32;
            }
        }
        Burn::Carve => carve(&mut burned, streams),
    }
    monitor.progress(1.0);
    crate::monitor::check(monitor)?;
    Ok(burned)
}

/// Least width of a graded trench's buffer on either side, in cells. (Ours.)
const LEAST_BUFFER: f64 = 3.0;

/// For each cell its distance from the streams over straight and diagonal steps, in cells; infinite where
/// that is `most` or more, and for cells without elevation.
///
/// Cells wait in lists by whole cells of distance: no step is shorter than one, so what lies in one list
/// cannot come nearer by another of it, and no order within is needed (Dial 1969, Communications of the ACM
/// 12, 632-633).
fn distances(dem: &Grid<f32>, streams: &[u32], most: f64, monitor: &dyn Monitor) -> Result<Vec<f32>> {
    let mut away = vec![f32::INFINITY; dem.len()];
    for &cell in streams {
        away[cell as usize] = 0.0;
    }
    // No way over the grid is longer than all of its cells.
    let most = most.clamp(0.0, 1.5 * dem.len() as f64);
    let mut lists: Vec<Vec<u32>> = vec![Vec::new(); most.ceil() as usize + 3];
    lists[0] = streams.to_vec();
    let mut seen = 0usize;
    for at in 0..lists.len() {
        for cell in std::mem::take(&mut lists[at]) {
            seen += 1;
            if seen.is_multiple_of(1 << 16) {
                crate::monitor::check(monitor)?;
            }
            let here = away[cell as usize];
            // It has come nearer since, and waited in an earlier list.
            if here as usize != at {
                continue;
            }
            for (k, n) in dem.neighbours(cell as usize) {
                let next = here + NEIGHBOURS[k].distance as f32;
                if (next as f64) < most && next < away[n] && !dem.values()[n].is_nan() {
                    away[n] = next;
                    lists[next as usize].push(n as u32);
                }
            }
        }
    }
    Ok(away)
}

/// Lowers stream cells until each has a way along streams that never rises, to the lowest cell of
/// its connected streams or to the edge of the footprint.
fn carve(dem: &mut Grid<f32>, streams: &[u32]) {
    let place = |cell: usize| streams.binary_search(&(cell as u32)).ok();
    const NOBODY: u32 = u32::MAX;
    let mut part = vec![NOBODY; streams.len()];
    let mut mouths: Vec<u32> = Vec::new();
    let mut stack = Vec::new();
    // Connected streams, each with its lowest cell.
    for start in 0..streams.len() {
        if part[start] != NOBODY {
            continue;
        }
        let mut lowest = start;
        part[start] = mouths.len() as u32;
        stack.push(start);
        while let Some(at) = stack.pop() {
            let z = |at: usize| dem.values()[streams[at] as usize];
            if z(at).total_cmp(&z(lowest)).then(at.cmp(&lowest)).is_lt() {
                lowest = at;
            }
            for (_, n) in dem.neighbours(streams[at] as usize) {
                if let Some(n) = place(n).filter(|&n| part[n] == NOBODY) {
                    part[n] = part[start];
                    stack.push(n);
                }
            }
        }
        mouths.push(lowest as u32);
    }
    // Where a stream leaves the footprint is a mouth too; where one comes in is not.
    let leaves = |at: usize| {
        let cell = streams[at] as usize;
        let lower = |n: usize| dem.values()[n] < dem.values()[cell] && place(n).is_some();
        dem.is_edge(cell) && !dem.neighbours(cell).any(|(_, n)| lower(n))
    };
    mouths.extend((0..streams.len()).filter(|&at| leaves(at)).map(|at| at as u32));
    // A flood from the mouths, lowest first, tells for each cell the one it drains to.
    let mut into = vec![NOBODY; streams.len()];
    let mut seen = vec![false; streams.len()];
    let mut order = Vec::with_capacity(streams.len());
    let key = |dem: &Grid<f32>, at: usize| {
        let bits = dem.values()[streams[at] as usize].to_bits();
        if bits >> 31 == 1 { !bits } else { bits | 0x8000_0000 }
    };
    let mut open = BinaryHeap::new();
    for &mouth in &mouths {
        if !std::mem::replace(&mut seen[mouth as usize], true) {
            open.push(Reverse((key(dem, mouth as usize), mouth)));
        }
    }
    while let Some(Reverse((_, at))) = open.pop() {
        order.push(at);
        for (_, n) in dem.neighbours(streams[at as usize] as usize) {
            if let Some(n) = place(n)
                && !std::mem::replace(&mut seen[n], true)
            {
                into[n] = at;
                open.push(Reverse((key(dem, n), n as u32)));
            }
        }
    }
    for &at in order.iter().rev() {
        let below = into[at as usize];
        if below != NOBODY {
            let z = dem.values()[streams[at as usize] as usize];
            let below = streams[below as usize] as usize;
            if dem.values()[below] > z {
                dem.values_mut()[below] = z;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    fn frame(dem: &Grid<f32>) -> Frame {
        Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 5.0, unit_m: 1.0 }
    }

    #[test]
    fn a_graded_trench_falls_towards_the_stream() {
        let dem = Grid::filled(1, 9, 100.0f32);
        let method = Burn::Graded { depth_m: 10.0, buffer_m: 20.0, buffer_depth_m: 2.0 };
        let burned = burn(&dem, &frame(&dem), &[4], method, &Silent).unwrap();
        assert_eq!(burned.values(), [100.0, 99.5, 99.0, 98.5, 88.0, 98.5, 99.0, 99.5, 100.0]);
    }

    #[test]
    fn distances_are_those_of_a_heap() {
        // Against the textbook way (Dijkstra 1959) on ground with holes.
        let dem = Grid::from_fn(40, 50, |c| if (c.row * 31 + c.col * 17) % 11 == 0 { f32::NAN } else { 1.0 });
        let valid = |i: &u32| !dem.values()[*i as usize].is_nan();
        let streams: Vec<u32> = [3, 777, 778, 1500].into_iter().filter(valid).collect();
        let found = distances(&dem, &streams, 12.5, &Silent).unwrap();
        let mut away = vec![f32::INFINITY; dem.len()];
        let mut open: BinaryHeap<_> = streams.iter().map(|&s| Reverse((0u32, s))).collect();
        streams.iter().for_each(|&s| away[s as usize] = 0.0);
        while let Some(Reverse((bits, cell))) = open.pop() {
            let here = f32::from_bits(bits);
            for (k, n) in dem.neighbours(cell as usize) {
                let next = here + NEIGHBOURS[k].distance as f32;
                if next < 12.5 && next < away[n] && !dem.values()[n].is_nan() {
                    away[n] = next;
                    open.push(Reverse((next.to_bits(), n as u32)));
                }
            }
        }
        assert_eq!(found, away);
    }

    #[test]
    fn carving_lowers_only_what_stands_in_the_way() {
        let dem = Grid::from_vec(
            3,
            6,
            vec![9.0, 9.0, 9.0, 9.0, 9.0, 9.0, 7.0, 5.0, 8.0, 6.0, 4.0, 2.0, 9.0, 9.0, 9.0, 9.0, 9.0, 9.0f32],
        );
        let streams: Vec<u32> = (6..12).collect();
        let carved = burn(&dem, &frame(&dem), &streams, Burn::Carve, &Silent).unwrap();
        assert_eq!(&carved.values()[6..12], [7.0, 5.0, 5.0, 5.0, 4.0, 2.0]);
    }

    #[test]
    fn normalised_terrain_below_sea_level() {
        let dem = Grid::from_vec(1, 4, vec![-30.0, -10.0, 10.0, 0.0]);
        let burned = burn(&dem, &frame(&dem), &[1, 3], Burn::Normalised, &Silent).unwrap();
        assert_eq!(burned.values(), [0.0, -20.0, 40.0, -10.0]);
    }

    #[test]
    fn a_normalised_dem_keeps_slopes_and_lowers_streams_by_the_relief() {
        let dem = Grid::from_fn(9, 9, |c| 100.0 - 3.0 * c.row as f32 + 2.0 * c.col.abs_diff(4) as f32);
        let streams: Vec<u32> = (0..9).map(|row| row * 9 + 4).collect();
        let burned = burn(&dem, &frame(&dem), &streams, Burn::Normalised, &Silent).unwrap();
        let relief = 24.0 + 8.0;
        for row in 0..9 {
            let at = |col: usize| burned.values()[row * 9 + col];
            // A full relief between stream and bank from the head to the mouth, beside the fall of the bank itself.
            assert_eq!(at(3) - at(4), relief + 2.0);
            if row > 0 {
                assert_eq!(burned.values()[(row - 1) * 9 + 4] - at(4), 3.0);
                assert_eq!(burned.values()[(row - 1) * 9] - at(0), 3.0);
            }
        }
    }

    #[test]
    fn a_graded_buffer_is_three_cells_wide_at_least() {
        let dem = Grid::filled(1, 9, 100.0f32);
        let wide = |buffer_m| {
            let method = Burn::Graded { depth_m: 10.0, buffer_m, buffer_depth_m: 3.0 };
            burn(&dem, &frame(&dem), &[4], method, &Silent).unwrap()
        };
        assert_eq!(wide(2.0), wide(15.0));
        assert_eq!(&wide(2.0).values()[1..5], [100.0, 99.0, 98.0, 87.0]);
    }

    proptest! {
        #[test]
        fn carved_streams_have_a_way_down(dem in any_terrain(14), picks in prop::collection::vec(any::<bool>(), 196)) {
            let streams: Vec<u32> = (0..dem.len() as u32)
                .filter(|&i| picks[i as usize] && !dem.values()[i as usize].is_nan()).collect();
            prop_assume!(!streams.is_empty());
            let carved = burn(&dem, &frame(&dem), &streams, Burn::Carve, &Silent).unwrap();
            for i in 0..dem.len() as u32 {
                let (old, new) = (dem.values()[i as usize], carved.values()[i as usize]);
                prop_assert!(old.is_nan() || new <= old, "never raised");
                prop_assert!(streams.contains(&i) || old.to_bits() == new.to_bits(), "only along streams");
            }
            // Raising along streams from each cell reaches the lowest of its connected cells or the edge.
            for &start in &streams {
                let mut reached = vec![start];
                let mut at = 0;
                while at < reached.len() {
                    let here = reached[at] as usize;
                    at += 1;
                    for (_, n) in dem.neighbours(here) {
                        let n = n as u32;
                        if streams.contains(&n) && !reached.contains(&n)
                            && carved.values()[n as usize] <= carved.values()[here] {
                            reached.push(n);
                        }
                    }
                }
                let mut connected = vec![start];
                let mut at = 0;
                while at < connected.len() {
                    let here = connected[at] as usize;
                    at += 1;
                    for (_, n) in dem.neighbours(here) {
                        if streams.contains(&(n as u32)) && !connected.contains(&(n as u32)) {
                            connected.push(n as u32);
                        }
                    }
                }
                let lowest = connected.iter().map(|&i| dem.values()[i as usize]).fold(f32::INFINITY, f32::min);
                prop_assert!(reached.iter().any(|&i| dem.is_edge(i as usize) || carved.values()[i as usize] <= lowest));
            }
        }
    }
}
