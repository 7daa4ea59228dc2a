//! A landscape carved by its rivers.

use bothros_core::routing::{downstream, flow_accumulation, flow_directions, step, upstream};
use bothros_core::{Grid, Result, Silent, conditioning};

/// Rates of the stream-power law dz/dt = uplift - K sqrt(A) S.
pub struct Rates {
    /// metres a year
    pub uplift: f64,
    /// erodibility K, 1/a with a slope exponent of 1
    pub erodibility: f64,
    /// share of the difference to the mean of the four neighbours that creep takes off in a step
    pub creep: f64,
}

/// Moves a landscape on by `steps` of `years` each.
///
/// Uplift and erosion are solved implicitly from the outlets upstream, so that steps may be long.
/// Outlets keep their elevation. `uplift_at` scales the uplift of a cell.
///
/// # Source
/// Braun and Willett 2013, Geomorphology 180, 170-179.
pub fn evolve(
    mut z: Grid<f32>,
    cell_m: f64,
    rates: &Rates,
    uplift_at: &(dyn Fn(usize) -> f64 + Sync),
    years: f64,
    steps: usize,
) -> Result<Grid<f32>> {
    for _ in 0..steps {
        let filled = conditioning::fill(&z, &Silent)?;
        let directions = flow_directions(&filled, &Silent)?;
        let accumulation = flow_accumulation(&directions, &Silent)?;
        let mut next: Vec<f64> = filled.values().iter().map(|&v| v as f64).collect();
        let mut order: Vec<u32> =
            (0..z.len()).filter(|&i| downstream(&directions, i).is_none()).map(|i| i as u32).collect();
        let mut at = 0;
        while at < order.len() {
            let index = order[at] as usize;
            at += 1;
            order.extend(upstream(&directions, index).map(|n| n as u32));
            let Some(below) = downstream(&directions, index) else { continue };
            let area = (accumulation.values()[index] as f64 + 1.0) * cell_m * cell_m;
            let factor = rates.erodibility * years * area.sqrt() / (step(&directions, index) * cell_m);
            let raised = next[index] + rates.uplift * uplift_at(index) * years;
            next[index] = (raised + factor * next[below]) / (1.0 + factor);
        }
        z = creep(next, z.rows(), z.cols(), rates.creep);
    }
    Ok(z)
}

/// Soil creep: a step of linear diffusion.
fn creep(z: Vec<f64>, rows: usize, cols: usize, share: f64) -> Grid<f32> {
    Grid::from_fn(rows, cols, |c| {
        let index = c.row * cols + c.col;
        if c.row == 0 || c.col == 0 || c.row + 1 == rows || c.col + 1 == cols {
            return z[index] as f32;
        }
        let mean = (z[index - 1] + z[index + 1] + z[index - cols] + z[index + cols]) / 4.0;
        (z[index] + share * (mean - z[index])) as f32
    })
}

/// The value between cells of a grid of `from_m` cells, at a place in cells of `to_m`, both grids
/// with a common north-west corner but for an offset in metres.
pub fn sample(z: &Grid<f32>, row: f64, col: f64) -> f64 {
    let r = row.clamp(0.0, z.rows() as f64 - 1.001);
    let c = col.clamp(0.0, z.cols() as f64 - 1.001);
    let (r0, c0) = (r as usize, c as usize);
    let (tr, tc) = (r - r0 as f64, c - c0 as f64);
    let at = |r: usize, c: usize| z.values()[r * z.cols() + c] as f64;
    let top = at(r0, c0) + (at(r0, c0 + 1) - at(r0, c0)) * tc;
    let bottom = at(r0 + 1, c0) + (at(r0 + 1, c0 + 1) - at(r0 + 1, c0)) * tc;
    top + (bottom - top) * tr
}

/// A part of a landscape on smaller cells: `rows` x `cols` of `to_m`, whose north-west corner lies
/// `east_m` and `south_m` from that of the coarse one; `rough` adds what the coarse one lacks.
pub fn refine(
    coarse: &Grid<f32>,
    from_m: f64,
    to_m: f64,
    (rows, cols): (usize, usize),
    (south_m, east_m): (f64, f64),
    rough: impl Fn(usize, usize) -> f64,
) -> Grid<f32> {
    Grid::from_fn(rows, cols, |c| {
        let row = (south_m + (c.row as f64 + 0.5) * to_m) / from_m - 0.5;
        let col = (east_m + (c.col as f64 + 0.5) * to_m) / from_m - 0.5;
        (sample(coarse, row, col) + rough(c.row, c.col)) as f32
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// At a steady state a river's slope is uplift / (K sqrt(A)): erosion balances uplift.
    #[test]
    fn rivers_reach_the_steady_slope() {
        let rates = Rates { uplift: 1e-3, erodibility: 2e-5, creep: 0.0 };
        let start =
            Grid::from_fn(3, 60, |c| if c.row == 1 { c.col as f32 * 0.1 } else { 900.0 + c.col as f32 });
        // Only the middle row can flow; its side rows are walls that drain into it.
        let z = evolve(start, 100.0, &rates, &|_| 1.0, 1e5, 200).unwrap();
        let directions = flow_directions(&z, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        for col in 5..50 {
            let index = 60 + col;
            let below = downstream(&directions, index).unwrap();
            let length = step(&directions, index) * 100.0;
            let slope = (z.values()[index] - z.values()[below]) as f64 / length;
            let area = (accumulation.values()[index] as f64 + 1.0) * 1e4;
            let steady = rates.uplift / (rates.erodibility * area.sqrt());
            assert!((slope / steady - 1.0).abs() < 0.02, "column {col}: {slope} against {steady}");
        }
    }

    #[test]
    fn refining_keeps_a_plane() {
        let coarse = Grid::from_fn(20, 20, |c| 3.0 * c.col as f32 - c.row as f32);
        let fine = refine(&coarse, 8.0, 4.0, (20, 20), (16.0, 24.0), |_, _| 0.0);
        // Cell (5, 7) of the fine grid has its centre 38 m south and 54 m east of the corner.
        let expected = 3.0 * (54.0 / 8.0 - 0.5) - (38.0 / 8.0 - 0.5);
        assert!((fine.values()[5 * 20 + 7] as f64 - expected).abs() < 1e-4);
    }
}
