//! Calibration against references: agreement against buffers of GEOS, constant drop and distances against SciPy.

use crate::support::python;
use crate::walk::SCENARIO;
use bothros_core::calibration::{MappedStreams, agreement, constant_drop};
use bothros_core::network::{Network, extract};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Cell, Connection, Frame, Grid, Silent, Threshold, cells_along, conditioning};
use bothros_demo::{Noise, eroded_terrain, fractal_terrain, mapped_streams};
use serde_json::json;

type Line = Vec<[f64; 2]>;

/// A terrain with its flow.
struct Routed {
    frame: Frame,
    filled: Grid<f32>,
    directions: Grid<u8>,
    accumulation: Grid<u32>,
}

impl Routed {
    fn new(dem: &Grid<f32>, frame: Frame) -> Self {
        let filled = conditioning::fill(dem, &Silent).unwrap();
        let directions = flow_directions(&filled, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        Self { frame, filled, directions, accumulation }
    }

    fn network(&self, cells: u32) -> Network {
        let threshold = Threshold::cells(cells);
        extract(&self.directions, &self.accumulation, &self.filled, &self.frame, threshold, &Silent).unwrap()
    }

    fn place(&self, index: u32) -> [f64; 2] {
        let (index, cols) = (index as usize, self.frame.cols);
        self.frame.centre(Cell { row: index / cols, col: index % cols }).into()
    }

    /// Holds the network at one threshold against GEOS and SciPy.
    fn agrees(&self, mapped: &[Line], cells: u32, tolerance: f64) {
        let threshold = [Threshold::cells(cells)];
        let scores = agreement(
            &self.directions,
            &self.accumulation,
            &self.frame,
            &MappedStreams::everywhere(mapped, tolerance),
            &threshold,
            &Silent,
        )
        .unwrap()[0];
        let modelled = self.network(cells);
        let lines: Vec<Line> =
            modelled.reaches.iter().map(|r| r.line().map(|c| self.place(c)).collect()).collect();
        let test = constant_drop(&modelled).unwrap();
        let (first, higher) = drops(&modelled);
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("given.json");
        let index = |cell: &Cell| cell.row * self.frame.cols + cell.col;
        let passed: Vec<usize> = mapped
            .iter()
            .flat_map(|line| cells_along(line, &self.frame, Connection::Eight))
            .map(|cell| index(&cell))
            .collect();
        let is_stream = |&i: &usize| threshold[0].is_stream(self.accumulation.values()[i]);
        let streams: Vec<usize> = (0..self.accumulation.len()).filter(is_stream).collect();
        let given = json!({
            "modelled": lines, "mapped": mapped, "tolerance": tolerance, "first": first, "higher": higher,
            "shape": [self.frame.rows, self.frame.cols], "passed": passed, "streams": streams,
        });
        std::fs::write(&file, given.to_string()).unwrap();
        let told = python("calibration.py", &[file.to_str().unwrap()]);
        let numbers: Vec<f64> = told.split_whitespace().map(|n| n.parse().unwrap()).collect();
        // Nodes and quarters of a cell make a small difference at each crossing of a buffer's edge.
        assert!((scores.matched() - numbers[0]).abs() < 0.02, "{cells}: {} {}", scores.matched(), numbers[0]);
        assert!((scores.found() - numbers[1]).abs() < 0.02, "{cells}: {} {}", scores.found(), numbers[1]);
        assert!((test.t - numbers[2]).abs() < 1e-6 * (1.0 + numbers[2].abs()), "{} {}", test.t, numbers[2]);
        let (mean, expected) = (scores.away_m.unwrap(), numbers[3] * self.frame.cell_m());
        assert!((mean - expected).abs() < 1e-5 * (1.0 + expected), "{cells}: {mean} {expected}");
    }
}

/// Drops of streams of the first order and of higher ones, put together from reaches once more, one by one from
/// their upper ends.
fn drops(network: &Network) -> (Vec<f64>, Vec<f64>) {
    let mut of_own_order = vec![false; network.reaches.len()];
    for reach in &network.reaches {
        let next = reach.downstream.map(|id| id as usize - 1);
        if let Some(next) = next.filter(|&next| network.reaches[next].strahler == reach.strahler) {
            of_own_order[next] = true;
        }
    }
    let (mut first, mut higher) = (Vec::new(), Vec::new());
    for (reach, _) in network.reaches.iter().zip(of_own_order).filter(|(_, goes_on)| !goes_on) {
        let (mut at, mut drop) = (reach, reach.drop_m);
        while let Some(next) = at.downstream.map(|id| &network.reaches[id as usize - 1])
            && next.strahler == at.strahler
        {
            at = next;
            drop += at.drop_m;
        }
        if at.strahler == 1 { first.push(drop) } else { higher.push(drop) }
    }
    (first, higher)
}

fn frame(size: usize, cell_size: f64) -> Frame {
    Frame { rows: size, cols: size, left: 500_000.0, top: 4_760_000.0, cell_size, unit_m: 1.0 }
}

#[test]
fn agreement_on_eroded_terrain() {
    let terrain = Routed::new(&eroded_terrain(320, 3).unwrap(), frame(320, 5.0));
    // The map: streams at one threshold, bent away by up to 12 m, every third reach left out.
    let bent = |[x, y]: [f64; 2]| [x + 12.0 * (y / 90.0).sin(), y + 9.0 * (x / 70.0).cos()];
    let network = terrain.network(250);
    let mapped: Vec<Line> = network
        .reaches
        .iter()
        .filter(|r| r.id % 3 != 0)
        .map(|r| r.line().map(|c| bent(terrain.place(c))).collect())
        .collect();
    for (cells, tolerance) in [(60, 10.0), (250, 15.0), (250, 6.0), (900, 20.0)] {
        terrain.agrees(&mapped, cells, tolerance);
    }
}

/// Networks of rough ground, against lines that wander at random and have nothing to do with it.
#[test]
fn agreement_of_random_networks() {
    for seed in 1..=6u64 {
        let terrain = Routed::new(&fractal_terrain(200, seed), frame(200, 10.0));
        let noise = Noise(seed + 100);
        let step = |line: i64, at: i64| 90.0 * (noise.at(line, at) - 0.5);
        let wander = |at: i64| -> Line {
            let begin = [500_000.0 + 2000.0 * noise.at(at, -1), 4_758_000.0 + 2000.0 * noise.at(at, -2)];
            let mut line = vec![begin];
            for n in 0..12 {
                let [x, y] = line[line.len() - 1];
                line.push([x + step(at, 2 * n), y + step(at, 2 * n + 1)]);
            }
            line
        };
        // What lies off the footprint does not count with us, and GEOS knows no footprint.
        let inside = |p: &[f64; 2]| terrain.frame.cell_at(p[0], p[1]).is_some();
        let mapped: Vec<Line> = (0..80).map(wander).filter(|line| line.iter().all(inside)).collect();
        assert!(mapped.len() > 30);
        terrain.agrees(&mapped, 20 + 15 * seed as u32, 12.0 + 4.0 * seed as f64);
    }
}

#[test]
fn agreement_on_the_demo() {
    let terrain = Routed::new(&SCENARIO.dem, bothros_demo::FRAME);
    let mapped: Vec<Line> = mapped_streams(&SCENARIO).into_iter().map(|(line, _)| line).collect();
    for (cells, tolerance) in [(2_000, 15.0), (7_500, 15.0), (30_000, 30.0)] {
        terrain.agrees(&mapped, cells, tolerance);
    }
}
