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
    let (east, north, up) = towards(light);
    shaded(dem, (cell_x_m, cell_y_m), light.exaggeration, |to_east, to_north| {
        let length = (1.0 + to_east * to_east + to_north * to_north).sqrt();
        ((up - east * to_east - north * to_north) / length).max(0.0)
    })
}

/// As [`hillshade`], lit from four sides at once: the azimuth of `light`, 45° beyond it, and 45° and 90° before it. Each side
/// counts by how much a slope is turned across it, so that no valley lies in the dark because it runs along the light.
///
/// # Source
/// Mark 1992, Multidirectional, oblique-weighted, shaded-relief image, US Geological Survey Open-File Report 92-422: weights
/// sin² of aspect less azimuth, which add up to 2 over the four.
pub fn hillshade_from_four_sides(dem: &Grid<f32>, cell_x_m: f64, cell_y_m: f64, light: Light) -> Grid<f32> {
    let sides = [-90.0, -45.0, 0.0, 45.0].map(|turn| {
        let azimuth = light.azimuth + turn;
        let (sin, cos) = azimuth.to_radians().sin_cos();
        (towards(Light { azimuth, ..light }), sin as f32, cos as f32)
    });
    let level = light.altitude.to_radians().sin() as f32;
    shaded(dem, (cell_x_m, cell_y_m), light.exaggeration, |to_east, to_north| {
        let steep = to_east * to_east + to_north * to_north;
        if steep == 0.0 {
            return level;
        }
        let length = (1.0 + steep).sqrt();
        let mut sum = 0.0;
        for ((east, north, up), sin, cos) in sides {
            // The part of the fall that runs across the light.
            let across = to_east * cos - to_north * sin;
            let brightness = ((up - east * to_east - north * to_north) / length).max(0.0);
            sum += across * across / steep * brightness;
        }
        sum / 2.0
    })
}

/// A light as a vector: east, north, up.
fn towards(light: Light) -> (f32, f32, f32) {
    let (azimuth, altitude) = (light.azimuth.to_radians(), light.altitude.to_radians());
    ((azimuth.sin() * altitude.cos()) as f32, (azimuth.cos() * altitude.cos()) as f32, altitude.sin() as f32)
}

/// Brightness of each inner cell from its rise to the east and to the north.
fn shaded(
    dem: &Grid<f32>,
    (cell_x_m, cell_y_m): (f64, f64),
    exaggeration: f64,
    brightness: impl Fn(f32, f32) -> f32,
) -> Grid<f32> {
    let (rows, cols) = (dem.rows().saturating_sub(2), dem.cols().saturating_sub(2));
    let per_x = (exaggeration / (8.0 * cell_x_m)) as f32;
    let per_y = (exaggeration / (8.0 * cell_y_m)) as f32;
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
            shade.push(brightness(to_east, to_north));
        }
    }
    Grid::from_vec(rows, cols, shade)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A plane that rises by `east` and `north` a cell of one metre.
    fn plane(east: f32, north: f32) -> Grid<f32> {
        Grid::from_fn(3, 3, |c| east * c.col as f32 - north * c.row as f32)
    }

    #[test]
    fn from_four_sides_level_ground_is_as_bright_and_no_aspect_is_dark() {
        let light = Light { altitude: 30.0, ..Light::default() };
        let at = |east: f32, north: f32| {
            hillshade_from_four_sides(&plane(east, north), 1.0, 1.0, light).values()[0]
        };
        assert!((at(0.0, 0.0) - 0.5).abs() < 1e-6, "the sine of 30°");
        // Weights over the four azimuths add up to 2 whatever the aspect: a hardly sloping plane is as bright as level ground.
        for turn in 0..16 {
            let (sin, cos) = (turn as f32 * std::f32::consts::PI / 8.0).sin_cos();
            assert!((at(1e-4 * sin, 1e-4 * cos) - 0.5).abs() < 1e-3, "{turn}");
        }
        // By hand, for a plane that rises by 1 in 1 to the north-west, turned away from a light at 315°, which has no
        // weight: 225° has weight 1, 270° and 360° have a half each.
        let side = |azimuth: f64| {
            let rise = std::f32::consts::FRAC_1_SQRT_2;
            hillshade(&plane(-rise, rise), 1.0, 1.0, Light { azimuth, ..light }).values()[0]
        };
        let by_hand = (side(225.0) + 0.5 * side(270.0) + 0.5 * side(360.0)) / 2.0;
        let rise = std::f32::consts::FRAC_1_SQRT_2;
        assert!((at(-rise, rise) - by_hand).abs() < 1e-5, "{} {by_hand}", at(-rise, rise));
        // One side alone leaves a slope that is turned away in the dark.
        let dark = hillshade(&plane(-2.0, 2.0), 1.0, 1.0, light).values()[0];
        assert!(dark == 0.0 && at(-2.0, 2.0) > 0.05, "{dark} {}", at(-2.0, 2.0));
    }

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
