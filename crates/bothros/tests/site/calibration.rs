//! Calibration against references: agreement against buffers of GEOS, constant drop against SciPy.

use crate::support::python;
use bothros_core::calibration::{agreement, constant_drop};
use bothros_core::network::extract;
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Cell, Frame, Silent, Threshold, conditioning};
use bothros_demo::eroded_terrain;
use serde_json::json;

const SIZE: usize = 320;
const FRAME: Frame =
    Frame { rows: SIZE, cols: SIZE, left: 500_000.0, top: 4_760_000.0, cell_size: 5.0, unit_m: 1.0 };

#[test]
fn agreement_is_that_of_exact_buffers_and_t_that_of_scipy() {
    let dem = eroded_terrain(SIZE, 3).unwrap();
    let filled = conditioning::fill(&dem, &Silent).unwrap();
    let directions = flow_directions(&filled, &Silent).unwrap();
    let accumulation = flow_accumulation(&directions, &Silent).unwrap();
    let network = |cells: u32| {
        let threshold = Threshold::cells(cells);
        extract(&directions, &accumulation, &filled, &FRAME, threshold, &Silent).unwrap()
    };
    let place = |index: u32| {
        let (x, y) = FRAME.centre(Cell { row: index as usize / SIZE, col: index as usize % SIZE });
        [x, y]
    };
    // The map: streams at one threshold, bent away by up to 12 m, every third reach left out.
    let bent = |[x, y]: [f64; 2]| [x + 12.0 * (y / 90.0).sin(), y + 9.0 * (x / 70.0).cos()];
    let mapped: Vec<Vec<[f64; 2]>> = network(250)
        .reaches
        .iter()
        .filter(|r| r.id % 3 != 0)
        .map(|r| r.line().map(place).map(bent).collect())
        .collect();
    let dir = tempfile::tempdir().unwrap();
    for (cells, tolerance) in [(60, 10.0), (250, 15.0), (250, 6.0), (900, 20.0)] {
        let threshold = [Threshold::cells(cells)];
        let scores = agreement(&directions, &accumulation, &FRAME, &mapped, tolerance, &threshold, &Silent)
            .unwrap()[0];
        let modelled = network(cells);
        let lines: Vec<Vec<[f64; 2]>> =
            modelled.reaches.iter().map(|r| r.line().map(place).collect()).collect();
        let test = constant_drop(&modelled).unwrap();
        // Streams put together from reaches once more, one by one from their upper ends.
        let (mut first, mut higher) = (Vec::new(), Vec::new());
        for reach in &modelled.reaches {
            let begins = !modelled
                .reaches
                .iter()
                .any(|up| up.downstream == Some(reach.id) && up.strahler == reach.strahler);
            if begins {
                let (mut at, mut drop) = (reach, reach.drop_m);
                while let Some(next) = at.downstream.map(|id| &modelled.reaches[id as usize - 1])
                    && next.strahler == at.strahler
                {
                    at = next;
                    drop += at.drop_m;
                }
                if at.strahler == 1 { first.push(drop) } else { higher.push(drop) }
            }
        }
        let file = dir.path().join("given.json");
        let given = json!({ "modelled": lines, "mapped": mapped, "tolerance": tolerance, "first": first, "higher": higher });
        std::fs::write(&file, given.to_string()).unwrap();
        let told = python("calibration.py", &[file.to_str().unwrap()]);
        let numbers: Vec<f64> = told.split_whitespace().map(|n| n.parse().unwrap()).collect();
        // Nodes and quarters of a cell make a small difference at each crossing of a buffer's edge.
        assert!((scores.matched() - numbers[0]).abs() < 0.02, "{cells}: {} {}", scores.matched(), numbers[0]);
        assert!((scores.found() - numbers[1]).abs() < 0.02, "{cells}: {} {}", scores.found(), numbers[1]);
        assert!((test.t - numbers[2]).abs() < 1e-6 * (1.0 + numbers[2].abs()), "{} {}", test.t, numbers[2]);
    }
}
