//! Voids: holes in the terrain, filled smoothly from their rim.

use crate::monitor::Pace;
use crate::terrain::outside;
use crate::{Grid, Monitor, Result};

/// Fills every void: each of its cells becomes the mean of its four neighbours, so that the ground
/// there is as smooth as its rim allows (a stretched skin), and no higher or lower than the rim.
/// New sinks cannot arise inside.
///
/// `dem` is elevation in metres, `NaN` for nodata. Nodata that is connected to the border over
/// edges of cells is outside and stays so. Returns the new elevations and the number of cells
/// filled. Without this step voids stay outside, and are edges like any other to flow.
///
/// The equations are solved by conjugate gradients until no cell is off by more than a tenth of a
/// millimetre, or as far as double precision goes.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Laplace's equation with the rim as its boundary (textbook); conjugate gradients: Hestenes and
/// Stiefel 1952, Journal of Research of the National Bureau of Standards 49, 409-436.
///
/// ```
/// use bothros_core::{Grid, Silent, conditioning::fill_voids};
/// // A plane with a hole is a plane again.
/// let mut dem = Grid::from_fn(7, 7, |c| 2.0 * c.row as f32 + c.col as f32);
/// for cell in [16, 17, 18, 23, 24, 25] {
///     dem.values_mut()[cell] = f32::NAN;
/// }
/// let (whole, cells) = fill_voids(&dem, &Silent)?;
/// assert_eq!(cells, 6);
/// assert!((whole.values()[24] - 9.0).abs() < 1e-3);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn fill_voids(dem: &Grid<f32>, monitor: &dyn Monitor) -> Result<(Grid<f32>, u64)> {
    let outside = outside(dem);
    let cells: Vec<u32> = (0..dem.len() as u32)
        .filter(|&i| dem.values()[i as usize].is_nan() && !outside.values()[i as usize])
        .collect();
    let mut filled = dem.clone();
    if cells.is_empty() {
        return Ok((filled, 0));
    }
    let place = |cell: usize| cells.binary_search(&(cell as u32)).ok();
    // Per cell: the unknowns beside it, how many neighbours it has, and the sum of the known.
    let mut beside: Vec<[u32; 4]> = Vec::with_capacity(cells.len());
    let mut count = Vec::with_capacity(cells.len());
    let mut known = Vec::with_capacity(cells.len());
    const NOBODY: u32 = u32::MAX;
    for &cell in &cells {
        let (mut unknown, mut n, mut sum, mut at) = ([NOBODY; 4], 0.0, 0.0, 0);
        // Straight neighbours only: a void never touches the border or the outside over an edge.
        for (k, neighbour) in dem.neighbours(cell as usize) {
            if k % 2 == 1 {
                continue;
            }
            n += 1.0;
            let z = dem.values()[neighbour];
            if !z.is_nan() {
                sum += z as f64;
            } else if let Some(other) = place(neighbour) {
                unknown[at] = other as u32;
                at += 1;
            }
        }
        beside.push(unknown);
        count.push(n);
        known.push(sum);
    }
    let apply = |x: &[f64], out: &mut [f64]| {
        for (at, out) in out.iter_mut().enumerate() {
            let around: f64 = beside[at].iter().filter(|&&o| o != NOBODY).map(|&o| x[o as usize]).sum();
            *out = count[at] * x[at] - around;
        }
    };
    let dot = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
    let mean = known.iter().sum::<f64>()
        / beside
            .iter()
            .zip(&count)
            .map(|(b, n)| n - b.iter().filter(|&&o| o != NOBODY).count() as f64)
            .sum::<f64>()
            .max(1.0);
    let mut x = vec![mean; cells.len()];
    let mut product = vec![0.0; cells.len()];
    apply(&x, &mut product);
    let mut rest: Vec<f64> = known.iter().zip(&product).map(|(b, p)| b - p).collect();
    let mut direction = rest.clone();
    let mut size = dot(&rest, &rest);
    // In exact arithmetic there are no more steps than unknowns.
    let most = 4 * cells.len() + 50;
    let mut pace = Pace::new(monitor, most * cells.len());
    for _ in 0..most {
        pace.advance(cells.len())?;
        if rest.iter().all(|r| r.abs() < 1e-4 / (cells.len() as f64).sqrt()) {
            break;
        }
        apply(&direction, &mut product);
        let step = size / dot(&direction, &product);
        if !step.is_finite() {
            break;
        }
        for at in 0..x.len() {
            x[at] += step * direction[at];
            rest[at] -= step * product[at];
        }
        let next = dot(&rest, &rest);
        let turn = next / size;
        size = next;
        for (direction, rest) in direction.iter_mut().zip(&rest) {
            *direction = rest + turn * *direction;
        }
    }
    for (&cell, z) in cells.iter().zip(x) {
        filled.values_mut()[cell as usize] = z as f32;
    }
    monitor.progress(1.0);
    Ok((filled, cells.len() as u64))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_void_is_the_mean_of_its_neighbours(dem in any_terrain(16)) {
            let (filled, cells) = fill_voids(&dem, &Silent).unwrap();
            let mut changed = 0;
            for i in 0..dem.len() {
                let (old, new) = (dem.values()[i], filled.values()[i]);
                if !old.is_nan() {
                    prop_assert_eq!(old.to_bits(), new.to_bits());
                } else if !new.is_nan() {
                    changed += 1;
                    let around: Vec<f32> = filled.neighbours(i).filter(|(k, _)| k % 2 == 0).map(|(_, n)| filled.values()[n]).collect();
                    prop_assert_eq!(around.len(), 4);
                    let mean = around.iter().sum::<f32>() / 4.0;
                    prop_assert!((mean - new).abs() < 1e-3 * (1.0 + new.abs()), "{} against {}", new, mean);
                }
            }
            prop_assert_eq!(changed, cells);
        }
    }

    #[test]
    fn a_large_void_is_smooth() {
        let surface = |r: f64, c: f64| 100.0 + 0.3 * r - 0.2 * c + 0.001 * (r * r - c * c);
        let mut dem = Grid::from_fn(90, 90, |c| surface(c.row as f64, c.col as f64) as f32);
        for row in 10..80 {
            for col in 15..75 {
                dem.values_mut()[row * 90 + col] = f32::NAN;
            }
        }
        let (filled, cells) = fill_voids(&dem, &Silent).unwrap();
        assert_eq!(cells, 70 * 60);
        // x² - y² is harmonic, so that the skin is the surface itself.
        for row in 10..80 {
            for col in 15..75 {
                let z = filled.values()[row * 90 + col] as f64;
                assert!((z - surface(row as f64, col as f64)).abs() < 2e-3);
            }
        }
    }
}
