//! Sorrel Water from its seed: the land, what people built on it, and what a survey saw of it.

use bothros_core::network::{Network, extract};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Area, Cell, Frame, Grid, Result, Silent, Threshold, conditioning};

use crate::erosion::{Rates, evolve, refine};
use crate::features::{Land, Line};
use crate::noise::Noise;

const SEED: u64 = 0x5023_3E17;
/// The 4 m DEM: 8 x 6 km in UTM zone 28N.
pub const FRAME: Frame =
    Frame { rows: 1500, cols: 2000, left: 333_000.0, top: 4_765_000.0, cell_size: 4.0, unit_m: 1.0 };
/// The region around it: 16 x 12 km.
pub const REGION: Frame =
    Frame { rows: 750, cols: 1000, left: 329_000.0, top: 4_768_000.0, cell_size: 16.0, unit_m: 1.0 };
/// Channels begin where so much area has gathered.
const CHANNEL: Area = Area::km2(0.12);

/// A place where a stream passes an embankment.
#[derive(Debug, Clone, PartialEq)]
pub struct Crossing {
    /// which embankment
    pub embankment: &'static str,
    /// easting
    pub x: f64,
    /// northing
    pub y: f64,
    /// whether the culvert survey found it
    pub surveyed: bool,
}

/// A gauge.
#[derive(Debug, Clone, PartialEq)]
pub struct Gauge {
    /// its name
    pub name: &'static str,
    /// easting
    pub x: f64,
    /// northing
    pub y: f64,
}

/// The whole scenario, truth included.
pub struct Scenario {
    /// the 4 m DEM as a survey gives it, `NaN` in the void
    pub dem: Grid<f32>,
    /// the land without embankments, noise and void
    pub bare: Grid<f32>,
    /// the region, 16 m cells, before it is made poor
    pub region: Grid<f32>,
    /// the true channels
    pub channels: Network,
    /// contributing area in cells on the bare land
    pub accumulation: Grid<u32>,
    /// the embankments
    pub embankments: Vec<(&'static str, Line)>,
    /// where they cross streams
    pub crossings: Vec<Crossing>,
    /// swallow holes
    pub hollows: Vec<(f64, f64)>,
    /// the dam
    pub dam: Line,
    /// the reservoir's cells
    pub reservoir: Grid<bool>,
    /// gauges, the outlet first
    pub gauges: Vec<Gauge>,
}

/// Height of the horseshoe of hills that holds the basin, open to the west, from 0 to 1.
fn horseshoe(x: f64, y: f64) -> f64 {
    let (u, v) = ((x - 337_000.0) / 4000.0, (y - 4_762_000.0) / 3000.0);
    // Hills are no compass work: the ring is bent and its height wanders.
    let bend = Noise(SEED ^ 21).fractal(x / 2600.0, y / 2600.0, 3, 0.5);
    let height = 1.0 + 0.35 * Noise(SEED ^ 22).fractal(x / 2200.0, y / 2200.0, 2, 0.5);
    let r = (u * u + v * v).sqrt() * (1.0 + 0.17 * bend);
    let ring = libm::exp(-((r - 0.9) / 0.3) * ((r - 0.9) / 0.3));
    let to_west = libm::atan2(v, -u);
    let gap = libm::exp(-(to_west / 0.30) * (to_west / 0.30));
    height * ring * (1.0 - 0.97 * gap)
}

/// Generates the scenario; `say` receives the current step.
///
/// # Errors
/// Those of the core, none of which this seed meets.
pub fn generate(say: &dyn Fn(&str)) -> Result<Scenario> {
    let noise = Noise(SEED);
    let rates = Rates { uplift: 1e-3, erodibility: 2.2e-5, creep: 0.12 };

    say("raising the region");
    let (rows, cols) = (REGION.rows / 2, REGION.cols / 2);
    let place =
        |row: f64, col: f64, cell: f64| (REGION.left + (col + 0.5) * cell, REGION.top - (row + 0.5) * cell);
    let start = Grid::from_fn(rows, cols, |c| {
        let (x, y) = place(c.row as f64, c.col as f64, 32.0);
        let edge = (c.row.min(rows - 1 - c.row).min(c.col).min(cols - 1 - c.col) as f64 / 40.0).min(1.0);
        let tilt = (x - REGION.left) / 16_000.0;
        (edge
            * (150.0 * horseshoe(x, y)
                + 45.0 * tilt
                + 26.0 * noise.fractal(x / 1800.0, y / 1800.0, 6, 0.55)
                + 30.0)) as f32
    });
    let uplift = |row: f64, col: f64, cell: f64| {
        let (x, y) = place(row, col, cell);
        0.28 + 1.0 * horseshoe(x, y)
    };
    let at = |cell: f64, cols: usize| move |i: usize| uplift((i / cols) as f64, (i % cols) as f64, cell);
    let coarse = evolve(start, 32.0, &rates, &at(32.0, cols), 2.5e4, 60)?;

    say("carving valleys");
    let rough = |seed: u64, strength: f64| {
        move |row: usize, col: usize| {
            strength * Noise(SEED ^ seed).fractal(col as f64 / 6.0, row as f64 / 6.0, 3, 0.5)
        }
    };
    let region = refine(&coarse, 32.0, 16.0, (REGION.rows, REGION.cols), (0.0, 0.0), rough(11, 0.8));
    let region = evolve(region, 16.0, &rates, &at(16.0, REGION.cols), 8e3, 12)?;

    say("carving gullies");
    // The surveyed part lies 3,000 m south and 4,000 m east of the region's corner.
    let inner = |row: f64, col: f64, cell: f64| uplift(row + 3000.0 / cell, col + 4000.0 / cell, cell);
    let fine = refine(&region, 16.0, 8.0, (750, 1000), (3000.0, 4000.0), rough(12, 0.35));
    let fine = evolve(fine, 8.0, &rates, &|i| inner((i / 1000) as f64, (i % 1000) as f64, 8.0), 3e3, 8)?;
    let bare = refine(&fine, 8.0, 4.0, (FRAME.rows, FRAME.cols), (0.0, 0.0), rough(13, 0.12));
    let creeping = Rates { creep: 0.35, ..rates };
    let bare = evolve(
        bare,
        4.0,
        &creeping,
        &|i| inner((i / FRAME.cols) as f64, (i % FRAME.cols) as f64, 4.0),
        1e3,
        5,
    )?;
    let bare = conditioning::fill(&bare, &Silent)?;

    say("laying out wetland, reservoir and swallow holes");
    let mut land = Land::new(bare, FRAME, noise)?;
    land.wetland()?;
    let (dam, reservoir) = land.reservoir()?;
    let bare = land.z.clone();
    let directions = flow_directions(&conditioning::fill(&bare, &Silent)?, &Silent)?;
    let accumulation = flow_accumulation(&directions, &Silent)?;
    let threshold = Threshold::from_area(CHANNEL, &FRAME);
    let channels = extract(&directions, &accumulation, &bare, &FRAME, threshold, &Silent)?;
    let hollows = land.hollows(&accumulation);

    say("building embankments");
    let (embankments, crossings) = land.embankments(&channels);
    let gauges = gauges(&channels, &accumulation, &dam);

    say("surveying");
    land.survey();
    Ok(Scenario {
        dem: land.z,
        bare,
        region,
        channels,
        accumulation,
        embankments,
        crossings,
        hollows,
        dam,
        reservoir,
        gauges,
    })
}

/// A place on the largest river above the town, two of its tributaries, and the dam.
fn gauges(channels: &Network, accumulation: &Grid<u32>, dam: &Line) -> Vec<Gauge> {
    let cell = |index: u32| Cell { row: index as usize / FRAME.cols, col: index as usize % FRAME.cols };
    let area = |index: &u32| accumulation.values()[*index as usize];
    let off = |index: u32, by: f64| {
        let (x, y) = FRAME.centre(cell(index));
        (x + by, y - by * 0.6)
    };
    let mut out = Vec::new();
    // Some way from the edge, so that snapping does not run out of the DEM.
    let inner = |index: &&u32| {
        let c = cell(**index);
        c.row > 120 && c.col > 120 && c.row < FRAME.rows - 120 && c.col < FRAME.cols - 120
    };
    let all = || channels.reaches.iter().flat_map(|r| &r.cells);
    if let Some(&index) = all().filter(inner).max_by_key(|i| area(i)) {
        let (x, y) = off(index, 14.0);
        out.push(Gauge { name: "Tarnfield weir", x, y });
    }
    // A tributary carries less than half of what it flows into.
    let mut tributaries: Vec<_> = channels
        .reaches
        .iter()
        .filter(|r| {
            let into = r.downstream.map(|d| channels.reaches[d as usize - 1].contributing.as_m2());
            r.cells.len() > 40 && into.is_some_and(|into| r.contributing.as_m2() < 0.5 * into)
        })
        .collect();
    tributaries.sort_by(|a, b| b.contributing.as_m2().total_cmp(&a.contributing.as_m2()));
    for (name, reach) in ["Alder Foot", "Heron Bridge"].into_iter().zip(tributaries) {
        // Above the junction by more than a pour point snaps.
        let (x, y) = off(reach.cells[reach.cells.len().saturating_sub(35)], -7.0);
        out.push(Gauge { name, x, y });
    }
    let [x, y] = dam[dam.len() / 2];
    out.push(Gauge { name: "Sorrel Dam", x, y });
    out
}
