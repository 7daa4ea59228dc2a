//! Slope against contributing area: along valleys slope falls with area, on hillslopes it does not.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::monitor::check;
use crate::routing::{DIRECTION_NODATA, downstream, step};
use crate::{Frame, Grid, Monitor, Result, Threshold};

/// Mean slope of cells whose contributing area is much the same.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SlopeClass {
    /// contributing area in the middle of the class, by its logarithm, in cells
    pub cells: f64,
    /// mean fall of the cells along their flow, m/m
    pub slope: f64,
    /// number of cells
    pub count: u64,
}

/// Where the relation of slope and area bends.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bend {
    /// contributing area at the bend
    pub threshold: Threshold,
    /// exponent of the contributing area below the bend, and above it
    pub exponents: (f64, f64),
    /// slope at the bend, m/m
    pub slope: f64,
    /// share of the scatter about one line that two lines leave unexplained: small where the bend is plain
    pub left: f64,
}

impl Bend {
    /// Whether the two lines explain most of what one line does not: a rule of thumb of ours.
    pub fn is_plain(&self) -> bool {
        self.left < 0.3
    }

    /// Whether slope turns here from rising or staying to falling: where valleys begin. Two lines that both fall, one faster than the other,
    /// tell of something else: of two kinds of channels, or of an area that hillslopes never reach on this DEM.
    pub fn is_turn(&self) -> bool {
        self.exponents.0 >= -STAYS && self.exponents.1 < -STAYS
    }
}

/// An exponent this close to 0 counts as staying. (Ours.)
const STAYS: f64 = 0.1;

/// Classes for each power of ten of contributing area.
const CLASSES: f64 = 8.0;
/// Classes of fewer cells are left out: their means scatter.
const FEWEST: u64 = 30;
/// Smallest number of classes that each of the two lines is fitted to.
const LEAST: usize = 4;
/// Slopes are added up in whole numbers, so that sums do not depend on their order.
const UNIT: f64 = 1e9;

/// Mean slope by contributing area, from the smallest area up.
///
/// `directions` (D8 codes), `accumulation` (cells upstream) and `ground` (the ground surface, metres) lie on one
/// grid, at `frame`. A cell's slope is its fall to the cell it drains to over the distance of the centres. Cells
/// at outlets have none. Cells that do not fall are left out: those that were filled, and level ground, whose slope is
/// not known but rounded away or drawn by rule.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Montgomery and Foufoula-Georgiou 1993, Water Resources Research 29, 3925-3934.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, calibration::slope_by_area, routing::*};
/// let frame = Frame { rows: 40, cols: 40, left: 0.0, top: 40.0, cell_size: 10.0, unit_m: 1.0 };
/// // A plane that falls by 1 m over each cell of 10 m.
/// let plane = Grid::from_fn(40, 40, |c| 50.0 - c.row as f32);
/// let directions = flow_directions(&plane, &Silent)?;
/// let accumulation = flow_accumulation(&directions, &Silent)?;
/// let classes = slope_by_area(&directions, &accumulation, &plane, &frame, &Silent)?;
/// assert!(classes.iter().all(|c| (c.slope - 0.1).abs() < 1e-6));
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn slope_by_area(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> Result<Vec<SlopeClass>> {
    directions.same_shape(accumulation)?;
    directions.same_shape(ground)?;
    let class_of = |cells: u32| ((cells as f64).log10() * CLASSES) as usize;
    let classes = class_of(u32::MAX) + 1;
    // Most cells gather little, and logarithms take time.
    let small: Vec<usize> = (0..4096).map(class_of).collect();
    let class_of = |cells: u32| small.get(cells as usize).copied().unwrap_or_else(|| class_of(cells));
    let at_once = directions.cols().max(1) * 64;
    let none = || vec![(0u64, 0u64); classes];
    let sums = directions
        .values()
        .par_chunks(at_once)
        .enumerate()
        .map(|(part, codes)| {
            check(monitor)?;
            let mut sums = none();
            for (at, &code) in codes.iter().enumerate() {
                let index = part * at_once + at;
                let Some(next) = (code != DIRECTION_NODATA).then(|| downstream(directions, index)).flatten()
                else {
                    continue;
                };
                let fall = f64::from(ground.values()[index] - ground.values()[next]);
                if fall <= 0.0 {
                    continue;
                }
                let slope = fall / (step(directions, index) * frame.cell_m());
                let class = &mut sums[class_of(accumulation.values()[index].saturating_add(1))];
                *class = (class.0 + 1, class.1 + (slope * UNIT).round() as u64);
            }
            Ok(sums)
        })
        .try_reduce(none, |mut a, b| {
            a.iter_mut().zip(b).for_each(|(a, b)| *a = (a.0 + b.0, a.1 + b.1));
            Ok(a)
        })?;
    monitor.progress(1.0);
    Ok(sums
        .into_iter()
        .enumerate()
        .filter(|(_, (count, _))| *count >= FEWEST)
        .map(|(class, (count, sum))| SlopeClass {
            cells: 10f64.powf((class as f64 + 0.5) / CLASSES),
            slope: sum as f64 / UNIT / count as f64,
            count,
        })
        .collect())
}

/// Lays two lines that meet through the logarithms of slope and area, each class counted once, and tells where
/// they meet; `None` where there are too few classes, or slope does not fall faster beyond the bend.
///
/// The bend is sought among the classes. Where it is a turn ([`Bend::is_turn`]) it marks where hillslopes, on which slope
/// changes little or grows with area, give way to valleys; channels begin further down. Where sheets of one DEM differ, or the ground was smoothed, it may lie at the
/// scale of that instead.
///
/// # Source
/// Montgomery and Foufoula-Georgiou 1993; least squares of a broken line as in any textbook of regression.
pub fn bend(classes: &[SlopeClass]) -> Option<Bend> {
    let points: Vec<(f64, f64)> =
        classes.iter().filter(|c| c.slope > 0.0).map(|c| (c.cells.log10(), c.slope.log10())).collect();
    let one = broken_line(&points, f64::INFINITY)?;
    let inner = points.get(LEAST..points.len().saturating_sub(LEAST)).unwrap_or(&[]);
    let fits = inner.iter().filter_map(|&(at, _)| Some((at, broken_line(&points, at)?)));
    let (at, two) = fits.min_by(|a, b| a.1.error.total_cmp(&b.1.error))?;
    let bend = Bend {
        threshold: Threshold::cells(10f64.powf(at).round().max(1.0) as u32),
        exponents: (two.slope, two.slope + two.turn),
        slope: 10f64.powf(two.base + two.slope * at),
        left: if one.error > 0.0 { two.error / one.error } else { 1.0 },
    };
    (two.turn < 0.0 && bend.exponents.1 < 0.0).then_some(bend)
}

/// A line that may turn: `base + slope x + turn max(0, x - at)`.
struct Broken {
    base: f64,
    slope: f64,
    turn: f64,
    /// sum of the squares left
    error: f64,
}

/// Least squares by the normal equations.
fn broken_line(points: &[(f64, f64)], at: f64) -> Option<Broken> {
    let columns = if at.is_finite() { 3 } else { 2 };
    if points.len() <= columns {
        return None;
    }
    let row = |x: f64| [1.0, x, if at.is_finite() { (x - at).max(0.0) } else { 0.0 }];
    let mut m = [[0.0; 4]; 3];
    for &(x, y) in points {
        let r = row(x);
        for i in 0..columns {
            for j in 0..columns {
                m[i][j] += r[i] * r[j];
            }
            m[i][3] += r[i] * y;
        }
    }
    // Gauss-Jordan with pivots.
    for i in 0..columns {
        let pivot = (i..columns).max_by(|&a, &b| m[a][i].abs().total_cmp(&m[b][i].abs()))?;
        m.swap(i, pivot);
        if m[i][i].abs() < 1e-12 {
            return None;
        }
        let own = m[i];
        for (j, other) in m.iter_mut().enumerate().take(columns) {
            if j != i {
                let share = other[i] / own[i];
                other.iter_mut().zip(own).for_each(|(a, b)| *a -= share * b);
            }
        }
    }
    let of = |i: usize| if i < columns { m[i][3] / m[i][i] } else { 0.0 };
    let (base, slope, turn) = (of(0), of(1), of(2));
    let error = points.iter().map(|&(x, y)| (y - base - slope * x - turn * row(x)[2]).powi(2)).sum();
    Some(Broken { base, slope, turn, error })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::routing::{flow_accumulation, flow_directions};

    #[test]
    fn level_ground_says_nothing_of_slope() {
        let frame = Frame { rows: 60, cols: 80, left: 0.0, top: 60.0, cell_size: 10.0, unit_m: 1.0 };
        // Falls by 1 m over each cell, but for a shelf of twenty rows.
        let dem = Grid::from_fn(60, 80, |c| match c.row {
            20..40 => 80.0,
            row => 100.0 - row as f32,
        });
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let classes = slope_by_area(&directions, &accumulation, &dem, &frame, &Silent).unwrap();
        let counted: u64 = classes.iter().map(|c| c.count).sum();
        assert!(counted > 0 && counted <= 40 * 80, "{counted}");
        assert!(classes.iter().all(|c| c.slope > 0.06), "{classes:?}");
    }

    #[test]
    fn a_bend_is_found_where_it_was_put() {
        // Slope grows as A^0.2 up to 500 cells and falls as A^-0.5 beyond.
        let class = |n: usize| {
            let cells = 10f64.powf((n as f64 + 0.5) / CLASSES);
            let slope = if cells < 500.0 {
                0.1 * (cells / 500.0).powf(0.2)
            } else {
                0.1 * (cells / 500.0).powf(-0.5)
            };
            SlopeClass { cells, slope, count: 100 }
        };
        let classes: Vec<SlopeClass> = (0..40).map(class).collect();
        let found = bend(&classes).unwrap();
        let cells = found.threshold.as_cells() as f64;
        assert!(cells > 350.0 && cells < 700.0, "{cells}");
        assert!((found.exponents.0 - 0.2).abs() < 0.05 && (found.exponents.1 + 0.5).abs() < 0.05);
        assert!(found.is_plain() && found.is_turn() && (found.slope - 0.1).abs() < 0.01);
        // Falling, then falling faster: a bend, and no turn.
        let both = |n: usize| {
            let c = class(n);
            SlopeClass { slope: c.slope * c.cells.powf(-0.5), ..c }
        };
        let both = bend(&(0..40).map(both).collect::<Vec<_>>()).unwrap();
        assert!(both.is_plain() && !both.is_turn(), "{both:?}");
        // A single power law does not bend, and what turns upwards is none.
        let law = |n: usize| SlopeClass { slope: 0.3 * class(n).cells.powf(-0.4), ..class(n) };
        assert!(bend(&(0..40).map(law).collect::<Vec<_>>()).is_none_or(|b| !b.is_plain()));
        let up = |n: usize| SlopeClass { slope: 0.01 / class(n).slope, ..class(n) };
        assert_eq!(bend(&(0..40).map(up).collect::<Vec<_>>()), None);
        assert_eq!(bend(&classes[..5]), None);
    }
}
