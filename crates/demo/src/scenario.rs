//! Sorrel Water from its seed: the land, the works on it, and a survey of it.

use bothros_core::network::{Network, extract};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Area, Cell, Frame, Grid, Result, Silent, Threshold, conditioning};

use crate::features::{Land, Line};
use crate::mesh::{Forces, Mesh, scatter};
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

/// Metres a year where the land rises by one.
const UPLIFT: f64 = 1.5e-4;
/// Erodibility of the middling rock, 1/a with a slope exponent of 1 and an area exponent of 0.5.
const ERODIBILITY: f64 = 4.4e-6;

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
    /// the region, 16 m cells, before it is degraded
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

/// The planes between points of the mesh meet in creases: a cell takes a quarter of its neighbours' mean.
fn smooth(z: &Grid<f32>) -> Grid<f32> {
    let (rows, cols) = (z.rows(), z.cols());
    let at = |row: usize, col: usize| f64::from(z.values()[row * cols + col]);
    Grid::from_fn(rows, cols, |c| {
        let (up, down) = (c.row.saturating_sub(1), (c.row + 1).min(rows - 1));
        let (left, right) = (c.col.saturating_sub(1), (c.col + 1).min(cols - 1));
        let sides = at(up, c.col) + at(down, c.col) + at(c.row, left) + at(c.row, right);
        let corners = at(up, left) + at(up, right) + at(down, left) + at(down, right);
        (at(c.row, c.col) / 4.0 + sides / 8.0 + corners / 16.0) as f32
    })
}

/// Banks steeper than the angle of repose slide until they are stable.
fn slid(mut z: Grid<f32>) -> Grid<f32> {
    let (rows, cols) = (z.rows(), z.cols());
    for _ in 0..SLIDES {
        let at = |row: usize, col: usize| f64::from(z.values()[row * cols + col]);
        let steep: Vec<usize> = (1..rows - 1)
            .flat_map(|row| (1..cols - 1).map(move |col| (row, col)))
            .filter(|&(row, col)| {
                let dx = at(row, col + 1) - at(row, col - 1);
                let dy = at(row + 1, col) - at(row - 1, col);
                (dx * dx + dy * dy).sqrt() > 2.0 * FRAME.cell_size * 0.65
            })
            .map(|(row, col)| row * cols + col)
            .collect();
        if steep.is_empty() {
            break;
        }
        let softer = smooth(&z);
        // With what lies beside it, so that the foot rises as the head falls.
        for index in steep.into_iter().flat_map(|i| [i - cols, i - 1, i, i + 1, i + cols]) {
            z.values_mut()[index] = softer.values()[index];
        }
    }
    z
}

/// Rounds of sliding at most.
const SLIDES: usize = 40;

/// Generates the scenario; `say` receives the current step.
///
/// # Errors
/// Those of the core; none occurs with this seed.
pub fn generate(say: &dyn Fn(&str)) -> Result<Scenario> {
    let noise = Noise(SEED);
    say("raising the region");
    let [west, south, east, north] = REGION.extent();
    let start = |p: [f64; 2]| {
        let edge =
            ((p[0] - west).min(east - p[0]).min(p[1] - south).min(north - p[1]) / 1280.0).clamp(0.0, 1.0);
        edge * (150.0 * horseshoe(p[0], p[1])
            + 45.0 * (p[0] - west) / 16_000.0
            + 26.0 * noise.fractal(p[0] / 1800.0, p[1] / 1800.0, 6, 0.55)
            + 30.0)
    };
    // Harder and softer rock in patches.
    let rock = Noise(SEED ^ 31);
    let erodibility =
        |p: [f64; 2]| ERODIBILITY * libm::exp(0.5 * rock.fractal(p[0] / 1500.0, p[1] / 1500.0, 3, 0.5));
    let uplift = |p: [f64; 2]| UPLIFT * (0.28 + horseshoe(p[0], p[1]));
    let forces = Forces { uplift: &uplift, erodibility: &erodibility, creep: 0.2, rounds: 2 };
    let coarse = Mesh::new(scatter([west, south], [east, north], 64.0, &|_| 64.0, SEED ^ 41));
    let mut z: Vec<f64> = coarse.points.iter().map(|&p| start(p)).collect();
    coarse.evolve(&mut z, &forces, 1.2e5, 40);

    say("carving valleys");
    // Closely around the surveyed part, more widely elsewhere.
    let [w, s, e, n] = FRAME.extent();
    let spacing = |p: [f64; 2]| {
        let outside = (w - p[0]).max(p[0] - e).max(s - p[1]).max(p[1] - n);
        if outside < 300.0 { 12.0 } else { 32.0 }
    };
    let fine = Mesh::new(scatter([west, south], [east, north], 96.0, &spacing, SEED ^ 44));
    let rough = Noise(SEED ^ 43);
    let mut z = coarse.at(&z, &fine.points, 48.0);
    for (z, p) in z.iter_mut().zip(&fine.points) {
        *z += 1.5 * rough.fractal(p[0] / 90.0, p[1] / 90.0, 4, 0.6);
    }
    fine.evolve(&mut z, &forces, 2e4, 12);

    say("wearing slopes and laying floodplains");
    fine.evolve(&mut z, &Forces { rounds: 6, ..forces }, 4e3, 4);
    fine.floodplains(&mut z, 2e6, 9.0);
    let region = fine.grid(&z, REGION.rows, REGION.cols, [REGION.left, REGION.top], REGION.cell_size);
    let bare = fine.grid(&z, FRAME.rows, FRAME.cols, [FRAME.left, FRAME.top], FRAME.cell_size);
    let bare = smooth(&bare);
    let softer = smooth(&bare);
    let bare = Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let index = bare.index(c);
        bare.values()[index] * 0.7 + softer.values()[index] * 0.3
    });
    let bare = conditioning::fill(&slid(bare), &Silent)?;

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
