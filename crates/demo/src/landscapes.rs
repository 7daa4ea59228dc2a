//! Twenty generated landscapes with known crossings of many kinds, on which proposals are counted.

use bothros_core::conditioning::fill;
use bothros_core::routing::{downstream, flow_accumulation, flow_directions};
use bothros_core::{Cell, Frame, Grid, Result, Silent};

use crate::Noise;
use crate::erosion::{Rates, evolve, refine};

/// Number of landscapes.
pub const LANDSCAPES: u64 = 20;

/// A landscape as a survey sees it, with what is true of it.
pub struct Landscape {
    /// elevations, metres, with embankments and the error of the survey
    pub dem: Grid<f32>,
    /// where it lies
    pub frame: Frame,
    /// where streams pass embankments, `[x, y]`
    pub crossings: Vec<[f64; 2]>,
    /// standard deviation of the survey's error, metres
    pub vertical_error_m: f64,
}

/// Cells and errors of which landscapes are made: each of four sizes with each of five errors, metres.
const CELLS_M: [f64; 4] = [2.0, 4.0, 5.0, 10.0];
const ERRORS_M: [f64; 5] = [0.05, 0.1, 0.2, 0.3, 0.5];
/// Edge of a landscape, in cells.
const SIZE: usize = 480;
/// Crossings, and natural dams that truly hold water, in a landscape at most.
const CROSSINGS: usize = 12;
const DAMS: usize = 5;

/// One of them, by its number from 0. Embankments are 0.5 to 5 m high and 3 to 20 m wide on top, straight or bent, and long or short; natural dams are
/// broad, uneven and short. The error is that of single cells, without correlation.
///
/// # Errors
/// Those of the core; none occurs on such terrain.
pub fn landscape(number: u64) -> Result<Landscape> {
    let noise = Noise(4000 + 131 * number);
    let cell_m = CELLS_M[number as usize % CELLS_M.len()];
    let vertical_error_m = ERRORS_M[number as usize / CELLS_M.len() % ERRORS_M.len()];
    let frame = Frame {
        rows: SIZE,
        cols: SIZE,
        left: 0.0,
        top: SIZE as f64 * cell_m,
        cell_size: cell_m,
        unit_m: 1.0,
    };
    let mut land = carved(noise, cell_m)?;
    let places = places(&land, &frame, noise)?;
    let mut crossings = Vec::new();
    for (at, place) in places.iter().enumerate() {
        let any = |what: i64| Noise(noise.0 + 77).at(at as i64, what);
        if at % 3 == 2 && at / 3 < DAMS {
            natural_dam(&mut land, &frame, place, any, noise);
        } else if crossings.len() < CROSSINGS {
            embankment(&mut land, &frame, place, any);
            crossings.push(place.at);
        }
    }
    let cols = land.cols();
    for (index, z) in land.values_mut().iter_mut().enumerate() {
        *z += (vertical_error_m * Noise(noise.0 + 5).normal((index % cols) as i64, (index / cols) as i64))
            as f32;
    }
    Ok(Landscape { dem: land, frame, crossings, vertical_error_m })
}

/// Land that rivers have carved.
fn carved(noise: Noise, cell_m: f64) -> Result<Grid<f32>> {
    let coarse_m = 2.0 * cell_m;
    let rates = Rates { uplift: 1e-4, erodibility: 2.5e-5, creep: 0.1 };
    let z = Grid::from_fn(SIZE / 2, SIZE / 2, |c| {
        let (x, y) = (c.col as f64 / 64.0, c.row as f64 / 64.0);
        (20.0 + 10.0 * noise.fractal(x, y, 6, 0.5)) as f32
    });
    let z = evolve(z, coarse_m, &rates, &|_| 1.0, 2e4, 40)?;
    let rough = |row: usize, col: usize| 0.05 * noise.smooth(col as f64 / 3.0, row as f64 / 3.0);
    let z = refine(&z, coarse_m, cell_m, (SIZE, SIZE), (0.0, 0.0), rough);
    evolve(z, cell_m, &rates, &|_| 1.0, 5e3, 4)
}

/// A place on a stream.
struct Place {
    at: [f64; 2],
    /// elevation of the stream, metres
    z: f64,
    /// the way the stream goes, of length 1, in metres east and north
    along: [f64; 2],
}

/// Places on streams that gather at least 6 ha, apart from each other and from the edge.
fn places(land: &Grid<f32>, frame: &Frame, noise: Noise) -> Result<Vec<Place>> {
    let filled = fill(land, &Silent)?;
    let directions = flow_directions(&filled, &Silent)?;
    let accumulation = flow_accumulation(&directions, &Silent)?;
    let least = (60_000.0 / frame.cell_area().as_m2()) as u32;
    let margin = (60.0 / frame.cell_size).ceil() as usize + 6;
    let mut streams: Vec<usize> = (0..land.len())
        .filter(|&i| {
            let Cell { row, col } = land.cell(i);
            let inside = (margin..SIZE - margin).contains(&row) && (margin..SIZE - margin).contains(&col);
            inside && accumulation.values()[i] >= least && filled.values()[i] == land.values()[i]
        })
        .collect();
    streams.sort_by(|&a, &b| noise.at(a as i64, 9).total_cmp(&noise.at(b as i64, 9)));
    let mut out: Vec<Place> = Vec::new();
    for index in streams {
        let (x, y) = frame.centre(land.cell(index));
        if out.iter().any(|p| (p.at[0] - x).hypot(p.at[1] - y) < 180.0_f64.max(30.0 * frame.cell_size)) {
            continue;
        }
        let below = std::iter::successors(Some(index), |&i| downstream(&directions, i)).take(6).last();
        let (bx, by) = frame.centre(land.cell(below.unwrap_or(index)));
        let length = (bx - x).hypot(by - y);
        if length > 0.0 {
            let along = [(bx - x) / length, (by - y) / length];
            out.push(Place { at: [x, y], z: land.values()[index] as f64, along });
        }
        if out.len() == CROSSINGS + DAMS {
            break;
        }
    }
    Ok(out)
}

/// Raises cells near a place to what `top` gives for the distances across the stream and along it, metres.
fn raise(land: &mut Grid<f32>, frame: &Frame, place: &Place, reach_m: f64, top: impl Fn(f64, f64) -> f64) {
    let cols = land.cols();
    for (index, z) in land.values_mut().iter_mut().enumerate() {
        let (x, y) = frame.centre(Cell { row: index / cols, col: index % cols });
        let (dx, dy) = (x - place.at[0], y - place.at[1]);
        if dx.abs().max(dy.abs()) <= reach_m {
            let (along, across) =
                (dx * place.along[0] + dy * place.along[1], dy * place.along[0] - dx * place.along[1]);
            *z = z.max(top(across, along) as f32);
        }
    }
}

/// A bank across the valley with slopes of 1 in 1.5.
fn embankment(land: &mut Grid<f32>, frame: &Frame, place: &Place, any: impl Fn(i64) -> f64) {
    let height = 0.5 * 10f64.powf(any(0));
    let (width, half_length) = (3.0 + 17.0 * any(1), 40.0 + 260.0 * any(2) * any(2));
    let (bend, grade) = ((any(3) - 0.5) * 0.004, (any(4) - 0.5) * 0.02);
    raise(land, frame, place, half_length + 30.0, |across, along| {
        let off = (along - bend * across * across).abs();
        let crest = place.z + height + grade * across;
        match across.abs() <= half_length {
            true => crest - (off - width / 2.0).max(0.0) / 1.5,
            false => f64::NEG_INFINITY,
        }
    });
}

/// A broad, uneven heap in the valley, as a slide or a moraine leaves it.
fn natural_dam(land: &mut Grid<f32>, frame: &Frame, place: &Place, any: impl Fn(i64) -> f64, noise: Noise) {
    let height = 1.0 + 3.0 * any(5);
    let (thick, wide) = (20.0 + 30.0 * any(6), 30.0 + 40.0 * any(7));
    raise(land, frame, place, wide.max(thick) * 2.0, |across, along| {
        let round = (across / wide).powi(2) + (along / thick).powi(2);
        let uneven = 1.0 + 0.4 * noise.smooth(across / 12.0 + 50.0, along / 12.0 + 50.0);
        place.z + height * uneven * (1.0 - round)
    });
}
