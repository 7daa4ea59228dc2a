//! The search for barriers and the calibration against the truth of the demo scenario.
#![allow(clippy::unwrap_used)]

use std::sync::OnceLock;

use bothros_core::calibration::{
    Compared, MappedStreams, Scores, Side, agreement, by_agreement, compare, thresholds_up_to,
};
use bothros_core::conditioning::{Barrier, BarrierSearch, fill, find_barriers, lower_along, sink_hierarchy};
use bothros_core::network::extract;
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Frame, Grid, Silent};
use bothros_demo::{FRAME, Scenario, generate, mapped_streams, regional};
use bothros_formats::{Crs, Placed, Resampling, warp_onto};

/// A crossing counts as found where a barrier's crest lies so near, metres.
const NEAR_M: f64 = 60.0;

fn scenario() -> &'static Scenario {
    static SCENARIO: OnceLock<Scenario> = OnceLock::new();
    SCENARIO.get_or_init(|| generate(&|_| {}).unwrap())
}

#[test]
fn crossings_are_found_without_the_culvert_survey() {
    let scenario = scenario();
    let sinks = sink_hierarchy(&scenario.dem, &FRAME, &[], &Silent).unwrap();
    let filled = fill(&scenario.dem, &Silent).unwrap();
    let accumulation = flow_accumulation(&flow_directions(&filled, &Silent).unwrap(), &Silent).unwrap();
    let search = BarrierSearch::default();
    let barriers = find_barriers(&scenario.dem, &accumulation, &FRAME, &sinks, &search, &Silent).unwrap();
    let near = |b: &Barrier, x: f64, y: f64| (b.crest[0] - x).hypot(b.crest[1] - y) <= NEAR_M;
    let found = scenario.crossings.iter().filter(|c| barriers.iter().any(|b| near(b, c.x, c.y))).count();
    let right = |b: &&Barrier| scenario.crossings.iter().any(|c| near(b, c.x, c.y));
    let wrong: Vec<&Barrier> = barriers.iter().filter(|b| !right(b)).collect();
    assert_eq!(scenario.crossings.len(), 8);
    assert!(found >= 7, "{found} of {} crossings", scenario.crossings.len());
    assert!(wrong.len() <= 4, "{} false ones: {wrong:#?}", wrong.len());
    // No hollow that is real is taken for a barrier's pond.
    for &(x, y) in &scenario.hollows {
        let place = |b: &Barrier| FRAME.centre(b.bottom);
        assert!(barriers.iter().all(|b| (place(b).0 - x).hypot(place(b).1 - y) > NEAR_M));
    }
    // The proposed lines all fall, and most of what stood behind the barriers drains.
    let lines: Vec<_> = barriers.iter().map(|b| b.line.clone()).collect();
    let (cut, outcomes) = lower_along(&scenario.dem, &FRAME, &lines);
    let lowered = |o: &&bothros_core::conditioning::BreachLineOutcome| {
        matches!(o, bothros_core::conditioning::BreachLineOutcome::Lowered { .. })
    };
    assert_eq!(outcomes.iter().filter(lowered).count(), lines.len(), "{outcomes:?}");
    let held = |dem: &bothros_core::Grid<f32>| {
        let filled = fill(dem, &Silent).unwrap();
        let raised = filled.values().iter().zip(dem.values()).filter(|(f, z)| f > z);
        raised.map(|(f, z)| (f - z) as f64).sum::<f64>()
    };
    let (before, after) = (held(&scenario.dem), held(&cut));
    assert!(after < 0.45 * before, "{after} m of {before} m are still filled");
}

/// A filled DEM with its flow.
struct Routed {
    filled: Grid<f32>,
    directions: Grid<u8>,
    accumulation: Grid<u32>,
    frame: Frame,
}

fn routed(dem: &Grid<f32>, frame: Frame) -> Routed {
    let filled = fill(dem, &Silent).unwrap();
    let directions = flow_directions(&filled, &Silent).unwrap();
    let accumulation = flow_accumulation(&directions, &Silent).unwrap();
    Routed { filled, directions, accumulation, frame }
}

impl Routed {
    fn sweep(&self, mapped: &[Vec<[f64; 2]>], tolerance_m: f64) -> Vec<Scores> {
        let largest = self.accumulation.values().iter().filter(|&&a| a != u32::MAX).max().unwrap() + 1;
        let thresholds = thresholds_up_to(largest, 60);
        agreement(
            &self.directions,
            &self.accumulation,
            &self.frame,
            &MappedStreams::everywhere(mapped, tolerance_m),
            &thresholds,
            &Silent,
        )
        .unwrap()
    }
}

#[test]
fn the_recommended_range_holds_the_true_threshold_and_the_regional_dem_does_worse() {
    let scenario = scenario();
    // Culverts are cut at the true crossings, as an analyst does who has walked through the findings.
    let sinks = sink_hierarchy(&scenario.dem, &FRAME, &[], &Silent).unwrap();
    let first = routed(&scenario.dem, FRAME);
    let search = BarrierSearch::default();
    let barriers =
        find_barriers(&scenario.dem, &first.accumulation, &FRAME, &sinks, &search, &Silent).unwrap();
    let lines: Vec<_> = barriers.into_iter().map(|b| b.line).collect();
    let survey = routed(&lower_along(&scenario.dem, &FRAME, &lines).0, FRAME);
    let mapped: Vec<Vec<[f64; 2]>> = mapped_streams(scenario).into_iter().map(|(line, _)| line).collect();
    let channels: Vec<Vec<[f64; 2]>> = scenario
        .channels
        .reaches
        .iter()
        .map(|r| {
            r.line().map(|cell| FRAME.centre(scenario.dem.cell(cell as usize))).map(|(x, y)| [x, y]).collect()
        })
        .collect();
    // The threshold that reproduces the true channels best, against the range that the map recommends.
    let truth = by_agreement(&survey.sweep(&channels, 15.0)).unwrap().best;
    let told = by_agreement(&survey.sweep(&mapped, 15.0)).unwrap();
    assert!(told.range.0 <= truth && truth <= told.range.1, "{truth:?} in {told:?}");
    // Its network falls short of the map where the map was made to differ: a ditch, and headwaters left out.
    let network =
        extract(&survey.directions, &survey.accumulation, &survey.filled, &FRAME, truth, &Silent).unwrap();
    let with = Compared {
        directions: &survey.directions,
        accumulation: &survey.accumulation,
        ground: &survey.filled,
        frame: &FRAME,
        map: MappedStreams::everywhere(&mapped, 15.0),
        barriers: &[],
    };
    let found = compare(&with, &network, truth, &Silent).unwrap();
    let (ditch, _) = mapped_streams(scenario).pop().unwrap();
    let on_ditch = |p: &[f64; 2]| (p[0] - ditch[1][0]).hypot(p[1] - ditch[1][1]) < 60.0;
    assert!(found.shortfalls.iter().any(|s| s.side == Side::Missed && s.line.iter().any(on_ditch)));
    assert!(found.shortfalls.iter().filter(|s| s.side == Side::Extra).count() > 10);

    // The regional DEM over the same area, warped as the application does.
    let (values, geo_transform) = regional(scenario).unwrap();
    let (utm, wgs84) = (Crs::parse("EPSG:32628").unwrap(), Crs::parse("EPSG:4326").unwrap());
    let extent = (FRAME.rows as f64 * FRAME.cell_size, FRAME.cols as f64 * FRAME.cell_size);
    let frame = Frame {
        rows: (extent.0 / 30.0) as usize,
        cols: (extent.1 / 30.0) as usize,
        cell_size: 30.0,
        ..FRAME
    };
    let placed = Placed { values: &values, geo_transform, crs: &wgs84 };
    let poor = routed(&warp_onto(&placed, &utm, &frame, Resampling::Bilinear, &Silent).unwrap(), frame);
    let best = |scores: &[Scores]| scores.iter().map(Scores::agreement).fold(0.0, f64::max);
    // Two DEMs compare at one tolerance only: at 90 m, three of its own cells, the poor one would look good.
    let (good, bad) = (best(&survey.sweep(&mapped, 15.0)), best(&poor.sweep(&mapped, 15.0)));
    assert!(good > 0.85 && bad < good - 0.2, "{good} against {bad}");
}

/// How a network lies on its grid.
#[derive(Debug)]
struct Lie {
    /// the longest straight run in one of the eight directions, cells
    longest: usize,
    /// share of the length that lies in runs of more than 15 cells
    in_long_runs: f64,
    /// how many times as often chords of 25 cells point along the eight directions as between them
    along: f64,
    /// length-weighted mean of length over distance between ends, of reaches of some length
    sinuosity: f64,
}

fn lie(dem: &Grid<f32>) -> Lie {
    let filled = fill(dem, &Silent).unwrap();
    let directions = flow_directions(&filled, &Silent).unwrap();
    let accumulation = flow_accumulation(&directions, &Silent).unwrap();
    let threshold = bothros_core::Threshold::from_area(bothros_core::Area::km2(0.12), &FRAME);
    let network = extract(&directions, &accumulation, &filled, &FRAME, threshold, &Silent).unwrap();
    let own = |i: u32| filled.values()[i as usize] - dem.values()[i as usize] <= 0.0;
    let (mut longest, mut long, mut all) = (0usize, 0usize, 0usize);
    let (mut on, mut between) = (0usize, 0usize);
    let (mut length, mut straight) = (0.0, 0.0);
    for reach in &network.reaches {
        let at = |i: u32| ((i as usize % FRAME.cols) as f64, (i as usize / FRAME.cols) as f64);
        let mut run = (0u8, 0usize);
        let mut close = |n: usize| {
            longest = longest.max(n);
            long += if n > 15 { n } else { 0 };
            all += n;
        };
        for &cell in &reach.cells {
            let code = directions.values()[cell as usize];
            match (own(cell), code == run.0) {
                (true, true) => run.1 += 1,
                (free, _) => {
                    close(run.1);
                    run = (code, usize::from(free));
                }
            }
        }
        close(run.1);
        for pair in reach.cells.windows(26).filter(|w| w.iter().all(|&i| own(i))) {
            let ((x0, y0), (x1, y1)) = (at(pair[0]), at(pair[25]));
            let angle = (y1 - y0).atan2(x1 - x0).to_degrees().rem_euclid(45.0);
            if !(11.25..33.75).contains(&angle) { on += 1 } else { between += 1 }
        }
        if reach.cells.len() > 50 {
            let ((x0, y0), (x1, y1)) = (at(reach.cells[0]), at(reach.cells[reach.cells.len() - 1]));
            length += reach.length_m;
            straight += (x1 - x0).hypot(y1 - y0) * FRAME.cell_size;
        }
    }
    Lie {
        longest,
        in_long_runs: long as f64 / all as f64,
        along: on as f64 / between as f64,
        sinuosity: length / straight,
    }
}

#[test]
fn the_land_looks_like_land() {
    let scenario = scenario();
    let lie = lie(&scenario.dem);
    eprintln!("{lie:?}");
    assert!(lie.longest <= 25, "{lie:?}");
    assert!(lie.in_long_runs <= 0.02, "{lie:?}");
    assert!(lie.along <= 1.4, "{lie:?}");
    assert!((1.1..=1.5).contains(&lie.sinuosity), "{lie:?}");
    // No slope is steeper than 35°, but beside what was built and dug.
    let z = |row: usize, col: usize| f64::from(scenario.bare.values()[row * FRAME.cols + col]);
    let mut steep = 0usize;
    for row in 1..FRAME.rows - 1 {
        for col in 1..FRAME.cols - 1 {
            let (dx, dy) = (z(row, col + 1) - z(row, col - 1), z(row + 1, col) - z(row - 1, col));
            steep += usize::from(dx.hypot(dy) / (2.0 * FRAME.cell_size) > 35f64.to_radians().tan());
        }
    }
    let crest = scenario.dam.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1])).sum::<f64>();
    let beside_dam = (crest / FRAME.cell_size * 8.0) as usize;
    assert!(steep <= beside_dam, "{steep} cells steeper than 35°, {beside_dam} beside the dam");
}
