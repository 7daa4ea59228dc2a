//! Placing a picture on the ground by points that are known in both.

use serde::{Deserialize, Serialize};

use crate::{Error, Result};

/// A point that is known in a picture and on the ground.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct TiePoint {
    /// column and row in the picture, pixels from its upper left corner
    pub picture: [f64; 2],
    /// easting and northing, CRS units
    pub ground: [f64; 2],
}

/// Where a picture lies, and how well the points agree about it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Placing {
    /// easting = g\[0\] + column g\[1\] + row g\[2\]; northing = g\[3\] + column g\[4\] + row g\[5\]
    pub geo_transform: [f64; 6],
    /// distance of each point from where the placing puts it, CRS units
    pub residuals: Vec<f64>,
    /// root of their mean square
    pub rms: f64,
}

/// Places a picture by the affine transformation that fits its points best, by least squares: it may be
/// shifted, turned, stretched along both axes and sheared.
///
/// Three points are always fitted without residuals, so only a fourth shows what they are worth.
///
/// # Errors
/// [`Error::TooFewTiePoints`] for fewer than three, or where all lie about on one line.
///
/// # Source
/// Least squares by normal equations of centred coordinates: textbook (e.g. Mikhail, Bethel and McGlone
/// 2001, Introduction to Modern Photogrammetry, appendix B; from memory).
///
/// ```
/// use bothros_core::{TiePoint, place_picture};
/// // A scan of 2 m pixels, north up.
/// let tie = |col: f64, row: f64| TiePoint { picture: [col, row], ground: [500.0 + 2.0 * col, 900.0 - 2.0 * row] };
/// let placed = place_picture(&[tie(0.0, 0.0), tie(100.0, 0.0), tie(0.0, 80.0), tie(90.0, 70.0)])?;
/// assert!((placed.geo_transform[1] - 2.0).abs() < 1e-9 && placed.rms < 1e-9);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn place_picture(points: &[TiePoint]) -> Result<Placing> {
    let count = points.len();
    let too_few = || Error::TooFewTiePoints { points: count };
    if count < 3 || points.iter().flat_map(|p| p.picture.iter().chain(&p.ground)).any(|v| !v.is_finite()) {
        return Err(too_few());
    }
    let mean = |of: &dyn Fn(&TiePoint) -> f64| points.iter().map(of).sum::<f64>() / count as f64;
    let (col, row) = (mean(&|p| p.picture[0]), mean(&|p| p.picture[1]));
    let (east, north) = (mean(&|p| p.ground[0]), mean(&|p| p.ground[1]));
    let sum = |of: &dyn Fn(f64, f64, &TiePoint) -> f64| -> f64 {
        points.iter().map(|p| of(p.picture[0] - col, p.picture[1] - row, p)).sum()
    };
    let (cc, rr, cr) = (sum(&|c, _, _| c * c), sum(&|_, r, _| r * r), sum(&|c, r, _| c * r));
    let determinant = cc * rr - cr * cr;
    // Points on a line leave one direction open; so do points that nearly are.
    if determinant <= 1e-6 * (cc + rr) * (cc + rr) {
        return Err(too_few());
    }
    let solve = |c: f64, r: f64| ((c * rr - r * cr) / determinant, (r * cc - c * cr) / determinant);
    let (ec, er) = solve(sum(&|c, _, p| c * (p.ground[0] - east)), sum(&|_, r, p| r * (p.ground[0] - east)));
    let (nc, nr) =
        solve(sum(&|c, _, p| c * (p.ground[1] - north)), sum(&|_, r, p| r * (p.ground[1] - north)));
    let geo_transform = [east - col * ec - row * er, ec, er, north - col * nc - row * nr, nc, nr];
    let residuals: Vec<f64> = points
        .iter()
        .map(|p| {
            let (c, r) = (p.picture[0] - col, p.picture[1] - row);
            (p.ground[0] - east - c * ec - r * er).hypot(p.ground[1] - north - c * nc - r * nr)
        })
        .collect();
    let rms = (residuals.iter().map(|r| r * r).sum::<f64>() / count as f64).sqrt();
    Ok(Placing { geo_transform, residuals, rms })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_affine_place_is_found(
            turn in -3.0f64..3.0, stretch in 0.2f64..5.0, x in -1e6f64..1e6, y in -1e6f64..1e6,
            corners in prop::collection::vec((0.0f64..4000.0, 0.0f64..4000.0), 1..6),
        ) {
            let (sin, cos) = turn.sin_cos();
            let truth = [x, stretch * cos, 1.3 * sin, y, stretch * sin, -1.3 * cos];
            let mut all = vec![(0.0, 0.0), (3000.0, 100.0), (200.0, 2500.0)];
            all.extend(corners);
            let points: Vec<TiePoint> = all.iter().map(|&(c, r)| TiePoint {
                picture: [c, r],
                ground: [truth[0] + c * truth[1] + r * truth[2], truth[3] + c * truth[4] + r * truth[5]],
            }).collect();
            let placed = place_picture(&points).unwrap();
            prop_assert!(placed.rms < 1e-6, "{}", placed.rms);
            for (a, b) in placed.geo_transform.iter().zip(truth) {
                prop_assert!((a - b).abs() < 1e-5 * (1.0 + b.abs()));
            }
        }
    }

    #[test]
    fn points_on_a_line_are_refused() {
        let tie = |c: f64, r: f64| TiePoint { picture: [c, r], ground: [c, -r] };
        assert!(place_picture(&[tie(0.0, 0.0), tie(1.0, 1.0)]).is_err());
        assert!(
            place_picture(&[tie(0.0, 0.0), tie(10.0, 10.0), tie(500.0, 500.0), tie(20.0, 20.0)]).is_err()
        );
        assert!(place_picture(&[tie(0.0, 0.0), tie(10.0, 10.0), tie(f64::NAN, 5.0)]).is_err());
        assert!(place_picture(&[tie(0.0, 0.0), tie(10.0, 0.0), tie(0.0, 10.0)]).is_ok());
    }
}
