//! Terrains of any size, for measurements of speed and for tests.

use bothros_core::{Grid, Result};
use rayon::prelude::*;

use crate::erosion::{Rates, evolve, refine};
use crate::noise::Noise;

/// Rough terrain of `size` x `size` cells for measurements of speed, elevations in metres.
pub fn fractal_terrain(size: usize, seed: u64) -> Grid<f32> {
    let noise = Noise(seed);
    let mut values = vec![0f32; size * size];
    values.par_chunks_mut(size).enumerate().for_each(|(row, out)| {
        for (col, z) in out.iter_mut().enumerate() {
            *z = (300.0 * noise.fractal(col as f64 / 512.0, row as f64 / 512.0, 10, 0.55)) as f32;
        }
    });
    Grid::from_vec(size, size, values)
}

/// Terrain of `size` x `size` cells of 10 m that rivers have carved, with the noise of a survey: deep
/// valleys, and many shallow pits.
///
/// A coarse landscape is carved for long, then refined and carved on at each finer size for a shorter
/// while, so that large sizes take minutes, not hours.
///
/// # Errors
/// Those of the core; none occurs on such terrain.
pub fn eroded_terrain(size: usize, seed: u64) -> Result<Grid<f32>> {
    let rates = Rates { uplift: 1e-4, erodibility: 2.5e-5, creep: 0.1 };
    let noise = Noise(seed);
    let mut coarse = size;
    while coarse > 512 {
        coarse = coarse.div_ceil(2);
    }
    let mut cell_m = 10.0 * size as f64 / coarse as f64;
    let z = Grid::from_fn(coarse, coarse, |c| {
        let (x, y) = (c.col as f64 / 64.0, c.row as f64 / 64.0);
        (20.0 + 10.0 * noise.fractal(x, y, 6, 0.5)) as f32
    });
    let mut z = evolve(z, cell_m, &rates, &|_| 1.0, 2e4, 40)?;
    let mut steps = 8;
    while z.rows() < size {
        let next = (z.rows() * 2).min(size);
        let rough = |row: usize, col: usize| {
            0.1 * noise.smooth(col as f64 / 3.0, row as f64 / 3.0) * (cell_m / 20.0).min(2.0)
        };
        z = refine(&z, cell_m, cell_m / 2.0, (next, next), (0.0, 0.0), rough);
        cell_m /= 2.0;
        z = evolve(z, cell_m, &rates, &|_| 1.0, 5e3, steps)?;
        steps = (steps / 2).max(1);
    }
    let cols = z.cols();
    z.values_mut().par_chunks_mut(cols).enumerate().for_each(|(row, out)| {
        for (col, z) in out.iter_mut().enumerate() {
            *z += 0.15 * noise.normal(col as i64, row as i64) as f32;
        }
    });
    Ok(z)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Silent;
    use bothros_core::conditioning::{bottoms, fill};
    use bothros_core::routing::{flow_accumulation, flow_directions};

    #[test]
    fn rivers_gather_on_eroded_terrain() {
        let z = eroded_terrain(300, 4).unwrap();
        assert_eq!((z.rows(), z.cols()), (300, 300));
        let pits = bottoms(&z, &Silent).unwrap().len();
        assert!(pits > 300, "survey noise leaves pits: {pits}");
        let directions = flow_directions(&fill(&z, &Silent).unwrap(), &Silent).unwrap();
        let most = *flow_accumulation(&directions, &Silent).unwrap().values().iter().max().unwrap();
        assert!(most > 5000, "a river gathers {most} cells");
    }

    /// Hack 1957, USGS Professional Paper 294-B: L = 1.4 A^0.6, miles and square miles.
    #[test]
    fn streams_of_eroded_land_are_as_long_as_hack_says() {
        use bothros_core::catchments::{Measured, delineate, measure};
        let size = 320;
        let ground = fill(&eroded_terrain(size, 3).unwrap(), &Silent).unwrap();
        let directions = flow_directions(&ground, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let frame =
            bothros_core::Frame { rows: size, cols: size, left: 0.0, top: 0.0, cell_size: 30.0, unit_m: 1.0 };
        let is_stream = |i: usize| accumulation.values()[i] != u32::MAX && accumulation.values()[i] >= 20;
        let of = Measured {
            ground: &ground,
            directions: &directions,
            accumulation: &accumulation,
            frame: &frame,
            is_stream: &is_stream,
            order: &|_| 1,
        };
        let mut outlets = bothros_core::catchments::outlets_of_footprint(&directions);
        outlets.sort_by_key(|&o| std::cmp::Reverse(accumulation.values()[accumulation.index(o)]));
        for &outlet in &outlets[..8] {
            let found = measure(&of, &delineate(&directions, outlet).unwrap()).unwrap();
            let ratio = found.hack_ratio().unwrap();
            assert!((0.5..=2.0).contains(&ratio), "{ratio} at {} km²", found.area_km2);
        }
    }
}
