//! Slope, aspect and curvature.

use rayon::prelude::*;

use crate::monitor::check;
use crate::{Grid, Monitor, Result};

/// The 3 x 3 window of a cell, row by row from the north-west; a missing neighbour has the value of
/// the centre.
struct Window([f64; 9]);

impl Window {
    /// Eastward and northward gradient, m/m, after Horn 1981: weights 1, 2, 1.
    fn gradient(&self, cell_m: f64) -> (f64, f64) {
        let [nw, n, ne, w, _, e, sw, s, se] = self.0;
        let east = (ne + 2.0 * e + se - nw - 2.0 * w - sw) / (8.0 * cell_m);
        let north = (nw + 2.0 * n + ne - sw - 2.0 * s - se) / (8.0 * cell_m);
        (east, north)
    }

    /// The window of a cell with an elevation; nothing without.
    #[inline]
    fn at(dem: &Grid<f32>, row: usize, col: usize) -> Option<Self> {
        let (rows, cols, z) = (dem.rows(), dem.cols(), dem.values());
        let centre = z[row * cols + col];
        if centre.is_nan() {
            return None;
        }
        let mut window = [centre as f64; 9];
        if row > 0 && row + 1 < rows && col > 0 && col + 1 < cols {
            let north = (row - 1) * cols + col - 1;
            for (line, values) in window.chunks_exact_mut(3).enumerate() {
                let first = north + line * cols;
                for (value, &z) in values.iter_mut().zip(&z[first..first + 3]) {
                    if !z.is_nan() {
                        *value = z as f64;
                    }
                }
            }
            return Some(Self(window));
        }
        for (at, value) in window.iter_mut().enumerate() {
            let (r, c) = ((row + at / 3).wrapping_sub(1), (col + at % 3).wrapping_sub(1));
            if r < rows && c < cols && !z[r * cols + c].is_nan() {
                *value = z[r * cols + c] as f64;
            }
        }
        Some(Self(window))
    }
}

/// The slope of one cell, as [`slope()`] gives it.
pub(crate) fn slope_at(dem: &Grid<f32>, row: usize, col: usize, cell_m: f64) -> Option<f32> {
    Some(steepness(Window::at(dem, row, col)?.gradient(cell_m)))
}

/// The slope from its parts to the east and the north. Neither is so large or small that its square could not be told, which is
/// all that `hypot` would do better.
fn steepness((east, north): (f64, f64)) -> f32 {
    (east * east + north * north).sqrt() as f32
}

/// Works a value out of the window of each cell.
fn each_window<T: Copy + Send + Sync>(
    dem: &Grid<f32>,
    nothing: T,
    monitor: &dyn Monitor,
    value: impl Fn(Window) -> T + Sync,
) -> Result<Grid<T>> {
    let (rows, cols) = (dem.rows(), dem.cols());
    let mut out = vec![nothing; dem.len()];
    out.par_chunks_mut(cols.max(1)).enumerate().try_for_each(|(row, out)| {
        if row.is_multiple_of(16) {
            check(monitor)?;
        }
        for (col, out) in out.iter_mut().enumerate() {
            if let Some(window) = Window::at(dem, row, col) {
                *out = value(window);
            }
        }
        Ok::<(), crate::Error>(())
    })?;
    monitor.progress(1.0);
    Ok(Grid::from_vec(rows, cols, out))
}

/// Slope of the ground, m/m (the tangent of its angle), `NaN` where `dem` (metres, cells of `cell_m`
/// metres) has no elevation. A missing neighbour counts as level with the cell.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Horn 1981, Proceedings of the IEEE 69, 14-47.
///
/// ```
/// use bothros_core::{Grid, Silent, terrain::slope};
/// let plane = Grid::from_fn(3, 3, |c| 3.0 * c.col as f32 + 4.0 * c.row as f32);
/// assert!((slope(&plane, 10.0, &Silent)?.values()[4] - 0.5).abs() < 1e-6);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn slope(dem: &Grid<f32>, cell_m: f64, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    each_window(dem, f32::NAN, monitor, |window| steepness(window.gradient(cell_m)))
}

/// The way the ground faces (downhill), degrees clockwise from north, 0 to below 360; -1 where it is
/// level, `NaN` where there is no elevation. Else as [`slope()`].
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
pub fn aspect(dem: &Grid<f32>, cell_m: f64, monitor: &dyn Monitor) -> Result<Grid<f32>> {
    each_window(dem, f32::NAN, monitor, |window| {
        let (east, north) = window.gradient(cell_m);
        if east == 0.0 && north == 0.0 {
            return -1.0;
        }
        let degrees = (-east).atan2(-north).to_degrees().rem_euclid(360.0) as f32;
        if degrees == 360.0 { 0.0 } else { degrees }
    })
}

/// Curvatures of the ground, 1/m, `NaN` where there is no elevation.
#[derive(Debug, Clone, PartialEq)]
pub struct Curvatures {
    /// along the fall line: positive where the slope grows steeper downhill (convex)
    pub profile: Grid<f32>,
    /// across the fall line: positive where flow spreads (ridges), negative where it gathers
    /// (hollows)
    pub plan: Grid<f32>,
}

/// Profile and plan curvature of `dem` (metres, cells of `cell_m` metres). Both are 0 where the
/// ground is level. A missing neighbour counts as level with the cell.
///
/// With the partial derivatives of a quartic through the 3 x 3 window, p and q (first), r, s, t
/// (second), and g = p² + q²: the second derivative along the fall line is (p²r + 2pqs + q²t)/g, and
/// across it (q²r - 2pqs + p²t)/g. Both are given with the sign changed, so that convex is positive.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Zevenbergen and Thorne 1987, Earth Surface Processes and Landforms 12, 47-56.
pub fn curvatures(dem: &Grid<f32>, cell_m: f64, monitor: &dyn Monitor) -> Result<Curvatures> {
    let both = each_window(dem, (f32::NAN, f32::NAN), monitor, |Window(z)| {
        let [nw, n, ne, w, c, e, sw, s, se] = z;
        let (p, q) = ((e - w) / (2.0 * cell_m), (n - s) / (2.0 * cell_m));
        let area = cell_m * cell_m;
        let r = (e - 2.0 * c + w) / area;
        let t = (n - 2.0 * c + s) / area;
        let mixed = (ne - nw - se + sw) / (4.0 * area);
        let g = p * p + q * q;
        if g == 0.0 {
            return (0.0, 0.0);
        }
        let along = (p * p * r + 2.0 * p * q * mixed + q * q * t) / g;
        let across = (q * q * r - 2.0 * p * q * mixed + p * p * t) / g;
        (-along as f32, -across as f32)
    })?;
    let pick = |pick: fn(&(f32, f32)) -> f32| {
        Grid::from_vec(both.rows(), both.cols(), both.values().iter().map(pick).collect())
    };
    Ok(Curvatures { profile: pick(|b| b.0), plan: pick(|b| b.1) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;

    #[test]
    fn planes_face_where_they_fall() {
        for degrees in (0..360).step_by(15) {
            let way = (degrees as f64).to_radians();
            // Downhill towards `way`, clockwise from north.
            let plane = Grid::from_fn(5, 5, |c| {
                (50.0 - 2.0 * (way.sin() * c.col as f64 - way.cos() * c.row as f64)) as f32
            });
            let faces = aspect(&plane, 1.0, &Silent).unwrap().values()[12] as f64;
            assert!(
                ((faces - degrees as f64 + 180.0).rem_euclid(360.0) - 180.0).abs() < 1e-3,
                "{degrees}: {faces}"
            );
            assert!((slope(&plane, 1.0, &Silent).unwrap().values()[12] - 2.0).abs() < 1e-5);
        }
        assert_eq!(aspect(&Grid::filled(3, 3, 7.0), 1.0, &Silent).unwrap().values()[4], -1.0);
    }

    /// A paraboloid z = a (x² + y²): the slope is 2 a r; the second derivative is 2 a in every
    /// direction, so both curvatures are -2 a (a bowl is concave).
    #[test]
    fn a_paraboloid_has_the_slope_and_curvature_of_its_formula() {
        let (a, cell) = (0.01, 2.0);
        let z = |row: usize, col: usize| {
            let (x, y) = ((col as f64 - 20.0) * cell, (20.0 - row as f64) * cell);
            (a * (x * x + y * y), x.hypot(y))
        };
        let bowl = Grid::from_fn(41, 41, |c| z(c.row, c.col).0 as f32);
        let slopes = slope(&bowl, cell, &Silent).unwrap();
        let bent = curvatures(&bowl, cell, &Silent).unwrap();
        for row in 1..40 {
            for col in 1..40 {
                let at = row * 41 + col;
                let (_, r) = z(row, col);
                // Central differences are exact for a quadratic surface.
                assert!((slopes.values()[at] as f64 - 2.0 * a * r).abs() < 1e-4);
                if r > 0.0 {
                    assert!((bent.profile.values()[at] as f64 + 2.0 * a).abs() < 1e-4);
                    assert!((bent.plan.values()[at] as f64 + 2.0 * a).abs() < 1e-4);
                }
            }
        }
    }

    /// A cylinder is bent along its fall line only, a cone across it only: at a distance r from the
    /// axis of a cone of slope m, contours bend by 1/r, and the surface across the fall line by m/r.
    #[test]
    fn a_cone_is_bent_across_its_fall_line() {
        let cone = Grid::from_fn(201, 201, |c| {
            (500.0 - 0.5 * (c.row as f64 - 100.0).hypot(c.col as f64 - 100.0)) as f32
        });
        let bent = curvatures(&cone, 1.0, &Silent).unwrap();
        let at = 100 * 201 + 150;
        assert!(bent.profile.values()[at].abs() < 1e-4);
        assert!((bent.plan.values()[at] - 0.5 / 50.0).abs() < 1e-4, "{}", bent.plan.values()[at]);
        let trough = Grid::from_fn(21, 21, |c| 0.05 * (c.col as f32 - 10.0).powi(2));
        let bent = curvatures(&trough, 1.0, &Silent).unwrap();
        assert!((bent.profile.values()[10 * 21 + 15] + 0.1).abs() < 1e-4);
        assert_eq!(bent.plan.values()[10 * 21 + 15], 0.0);
    }

    #[test]
    fn nodata_stays_and_is_level_for_its_neighbours() {
        let mut dem = Grid::from_fn(3, 3, |c| c.col as f32);
        dem.values_mut()[5] = f32::NAN;
        let slopes = slope(&dem, 1.0, &Silent).unwrap();
        assert!(slopes.values()[5].is_nan());
        assert!((slopes.values()[4] - 0.75).abs() < 1e-6);
    }
}
