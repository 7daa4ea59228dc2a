//! Streams of divided flow have one thread, on eroded terrain.
#![allow(clippy::unwrap_used)]

use bothros_core::conditioning::fill;
use bothros_core::network::{Network, extract};
use bothros_core::routing::{Method, accumulate_by, flow_directions, single_threaded};
use bothros_core::{Frame, Grid, Silent, Threshold};
use bothros_demo::eroded_terrain;

/// Cells of the longest stretch that a reach runs within two cells of another, and which; what follows a reach or joins it is no neighbour.
fn longest_beside(network: &Network, cols: usize, rows: usize) -> usize {
    let mut of = vec![usize::MAX; rows * cols];
    for (at, reach) in network.reaches.iter().enumerate() {
        for &cell in &reach.cells {
            of[cell as usize] = at;
        }
    }
    let mut longest = 0;
    for (at, reach) in network.reaches.iter().enumerate() {
        let mut run = 0;
        for &cell in &reach.cells {
            let (row, col) = (cell as usize / cols, cell as usize % cols);
            let of = &of;
            let near = (row.saturating_sub(2)..=(row + 2).min(rows - 1))
                .flat_map(|r| {
                    (col.saturating_sub(2)..=(col + 2).min(cols - 1)).map(move |c| of[r * cols + c])
                })
                .any(|other| {
                    let next = |at: usize| network.reaches[at].joins.map(|cell| of[cell as usize]);
                    other != usize::MAX
                        && other != at
                        && next(other) != Some(at)
                        && next(at) != Some(other)
                        && (next(at).is_none() || next(other) != next(at))
                });
            run = if near { run + 1 } else { 0 };
            longest = longest.max(run);
        }
    }
    longest
}

#[test]
fn divided_flow_has_as_many_headwaters_as_d8_and_no_two_streams_side_by_side() {
    for seed in [1, 7] {
        let dem = eroded_terrain(220, seed).unwrap();
        let (rows, cols) = (dem.rows(), dem.cols());
        let frame = Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let surface = fill(&dem, &Silent).unwrap();
        let directions = flow_directions(&surface, &Silent).unwrap();
        let network = |streams: &Grid<u32>, cells: u32| -> Network {
            extract(&directions, streams, &surface, &frame, Threshold::cells(cells), &Silent).unwrap()
        };
        for cells in [60, 120, 300] {
            let by = |method| accumulate_by(method, &surface, &directions, &Silent).unwrap();
            let d8 = network(&by(Method::D8), cells);
            for method in [Method::DInfinity, Method::Mfd] {
                let streams = single_threaded(&directions, &by(method), &Silent).unwrap();
                let one = network(&streams, cells);
                let off = one.headwaters() as f64 / d8.headwaters() as f64 - 1.0;
                assert!(
                    off.abs() < 0.15,
                    "{seed} {cells} {method:?}: {} and {}",
                    one.headwaters(),
                    d8.headwaters()
                );
                // Where the valleys themselves run side by side, streams do so by D8 too.
                let (beside, by_d8) = (longest_beside(&one, cols, rows), longest_beside(&d8, cols, rows));
                assert!(beside <= by_d8.max(5), "{seed} {cells} {method:?}: {beside} cells, {by_d8} by D8");
            }
        }
    }
}
