//! Hillshade: how bright the ground is under a light from one side.

use crate::Grid;

/// Where the light stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Light {
    /// clockwise from north, degrees
    pub azimuth: f64,
    /// above the horizon, degrees
    pub altitude: f64,
    /// elevations are multiplied by this
    pub exaggeration: f64,
}

impl Default for Light {
    /// From the north-west, halfway up: common practice, no source.
    fn default() -> Self {
        Self { azimuth: 315.0, altitude: 45.0, exaggeration: 1.0 }
    }
}

/// Brightness of each inner cell, 0 (dark) to 1 (facing the light).
///
/// `dem` is elevation in metres with a rim of one cell on each side; the result has two rows and
/// two columns less. `cell_x_m` and `cell_y_m` are the edges of a cell in metres (they differ in
/// geographic coordinates). `NaN` where the cell has no elevation; a missing neighbour counts as
/// level with the cell.
///
/// # Source
/// Gradient after Horn 1981, Proceedings of the IEEE 69, 14-47; brightness is the cosine of the
/// angle between the light and the normal (textbook).
///
/// ```
/// use bothros_core::{Grid, terrain::{hillshade, Light}};
/// let flat = Grid::filled(3, 3, 7.0f32);
/// let shade = hillshade(&flat, 10.0, 10.0, Light::default());
/// assert!((shade.values()[0] - 45f32.to_radians().sin()).abs() < 1e-6);
/// ```
pub fn hillshade(dem: &Grid<f32>, cell_x_m: f64, cell_y_m: f64, light: Light) -> Grid<f32> {
    let (rows, cols) = (dem.rows().saturating_sub(2), dem.cols().saturating_sub(2));
    let (azimuth, altitude) = (light.azimuth.to_radians(), light.altitude.to_radians());
    // The light as a vector: east, north, up.
    let east = (azimuth.sin() * altitude.cos()) as f32;
    let north = (azimuth.cos() * altitude.cos()) as f32;
    let up = altitude.sin() as f32;
    let per_x = (light.exaggeration / (8.0 * cell_x_m)) as f32;
    let per_y = (light.exaggeration / (8.0 * cell_y_m)) as f32;
    let width = dem.cols();
    let z = dem.values();
    let mut shade = Vec::with_capacity(rows * cols);
    for row in 1..=rows {
        for col in 1..=cols {
            let at = row * width + col;
            let centre = z[at];
            if centre.is_nan() {
                shade.push(f32::NAN);
                continue;
            }
            let value = |i: usize| if z[i].is_nan() { centre } else { z[i] };
            let (nw, n, ne) = (value(at - width - 1), value(at - width), value(at - width + 1));
            let (w, e) = (value(at - 1), value(at + 1));
            let (sw, s, se) = (value(at + width - 1), value(at + width), value(at + width + 1));
            let to_east = ((ne + 2.0 * e + se) - (nw + 2.0 * w + sw)) * per_x;
            let to_north = ((nw + 2.0 * n + ne) - (sw + 2.0 * s + se)) * per_y;
            let length = (1.0 + to_east * to_east + to_north * to_north).sqrt();
            shade.push(((up - east * to_east - north * to_north) / length).max(0.0));
        }
    }
    Grid::from_vec(rows, cols, shade)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plane_facing_the_light_is_brightest() {
        // 45 degrees down to the north-west, light at 45 degrees from the north-west.
        let toward = |sign: f32| Grid::from_fn(5, 5, |c| sign * (c.row as f32 + c.col as f32) / 2f32.sqrt());
        let lit = hillshade(&toward(1.0), 1.0, 1.0, Light::default());
        assert!(lit.values().iter().all(|s| (s - 1.0).abs() < 1e-5));
        let dark = hillshade(&toward(-1.0), 1.0, 1.0, Light::default());
        assert!(dark.values().iter().all(|s| s.abs() < 1e-5));
    }

    #[test]
    fn nodata_stays_nodata_and_does_not_shade() {
        let mut dem = Grid::filled(4, 4, 3.0f32);
        dem.values_mut()[5] = f32::NAN;
        let shade = hillshade(&dem, 1.0, 1.0, Light::default());
        assert!(shade.values()[0].is_nan());
        assert!((shade.values()[3] - 0.5f32.sqrt()).abs() < 1e-6);
    }
}
