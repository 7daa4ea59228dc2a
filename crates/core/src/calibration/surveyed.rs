//! What surveyed heads of channels say of a threshold.

use serde::{Deserialize, Serialize};

use crate::catchments::{SnapTo, snap_to_cells};
use crate::terrain::slope_at;
use crate::{Cell, Error, Frame, Grid, Result, Threshold};

/// A head that fewer cells than this drain to lies off any valley of the DEM. (Ours.)
pub const FEWEST_CELLS: u64 = 4;
/// How far a survey may be off where nothing is said of it, in cells. (Ours.)
pub const USUALLY_OFF_CELLS: f64 = 1.5;
/// Fewer heads than this tell nothing of an exponent. (Ours.)
const FEWEST_FITTED: usize = 8;

/// Where a surveyed head lies on the grid.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Surveyed {
    /// beyond the footprint of the DEM
    Outside,
    /// where hardly anything drains to: so many cells
    OffValley(u64),
    /// on a way of the flow
    On {
        /// the cell
        cell: Cell,
        /// how far from the point, metres
        moved_m: f64,
        /// what drains to it
        area: Threshold,
        /// slope of the ground, m/m
        slope: f64,
    },
}

impl Surveyed {
    /// The cell, where it lies on a way of the flow.
    pub fn cell(&self) -> Option<Cell> {
        match *self {
            Self::On { cell, .. } => Some(cell),
            Self::Outside | Self::OffValley(_) => None,
        }
    }
}

/// Finds surveyed heads, `[x, y]` in CRS units, on the grid: each is moved to the cell that most drains to within `within_m` metres, as far as a survey may
/// be off. `accumulation` holds the cells upstream, `ground` the conditioned ground, metres.
///
/// # Errors
/// [`Error::ShapeMismatch`].
///
/// # Source
/// Ours.
pub fn surveyed_heads(
    points: &[[f64; 2]],
    accumulation: &Grid<u32>,
    ground: &Grid<f32>,
    frame: &Frame,
    within_m: f64,
) -> Result<Vec<Surveyed>> {
    accumulation.same_shape(ground)?;
    let find = |&[x, y]: &[f64; 2]| {
        let cell = match snap_to_cells(accumulation, frame, &|_| true, (x, y), within_m, SnapTo::Largest) {
            Ok(cell) => cell,
            Err(Error::OutsideFootprint(_)) => return Ok(Surveyed::Outside),
            Err(other) => return Err(other),
        };
        let index = accumulation.index(cell);
        let cells = Threshold::most(accumulation.values()[index]);
        if u64::from(cells) < FEWEST_CELLS {
            return Ok(Surveyed::OffValley(cells.into()));
        }
        let (cx, cy) = frame.centre(cell);
        Ok(Surveyed::On {
            cell,
            moved_m: (cx - x).hypot(cy - y) * frame.unit_m,
            area: Threshold::cells(cells),
            slope: slope_at(ground, cell.row, cell.col, frame.cell_m()).unwrap_or(0.0).into(),
        })
    };
    points.iter().map(find).collect()
}

/// What heads have in common.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct HeadAreas {
    /// how many lie on a way of the flow
    pub heads: usize,
    /// the smallest contributing area of one
    pub least: Threshold,
    /// a quarter gathers no more
    pub quarter: Threshold,
    /// half of them gather no more
    pub median: Threshold,
    /// three quarters gather no more
    pub three_quarters: Threshold,
    /// how area falls with slope, where there are heads enough
    pub fit: Option<SlopeFit>,
}

/// Contributing area at heads as a power of slope: `area = constant / slope^exponent` (after Montgomery and Dietrich 1992, Science 255, 826-830), by least squares on the
/// logarithms.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SlopeFit {
    /// the exponent
    pub exponent: f64,
    /// its standard error
    pub error: f64,
    /// share of the scatter of the logarithm of area that slope explains
    pub explained: f64,
    /// the mean of slopes by their logarithm, m/m: there the fit gives the mean of areas by theirs
    pub at_slope: f64,
    /// that mean
    pub at_area: Threshold,
    /// heads on sloping ground
    pub heads: usize,
}

impl HeadAreas {
    /// Of the heads that lie on a way of the flow; none where there are none. `told` gives the largest threshold, in cells, at which a cell is stream: where that is not
    /// the contributing area alone, the figures are in its measure. The fit is always that of the area.
    pub fn of(all: &[Surveyed], told: impl Fn(Cell) -> u32) -> Option<Self> {
        let on = |s: &Surveyed| match *s {
            Surveyed::On { area, slope, .. } => Some((area, slope)),
            _ => None,
        };
        let known: Vec<(Threshold, f64)> = all.iter().filter_map(on).collect();
        let cells = all.iter().filter_map(Surveyed::cell);
        let mut areas: Vec<Threshold> = cells.map(|cell| Threshold::cells(told(cell))).collect();
        areas.sort_unstable();
        let at = |share: f64| {
            // Between the two that it lies between, by their logarithms, as areas scatter by factors.
            let place = share * (areas.len() - 1) as f64;
            let log = |at: usize| f64::from(areas[at].as_cells()).ln();
            let (low, high) = (log(place.floor() as usize), log(place.ceil() as usize));
            Threshold::cells((low + (high - low) * place.fract()).exp().round() as u32)
        };
        Some(Self {
            heads: areas.len(),
            least: *areas.first()?,
            quarter: at(0.25),
            median: at(0.5),
            three_quarters: at(0.75),
            fit: fitted(&known),
        })
    }
}

/// A line through the logarithms, by least squares.
fn fitted(known: &[(Threshold, f64)]) -> Option<SlopeFit> {
    let logs: Vec<(f64, f64)> = known
        .iter()
        .filter(|(_, slope)| *slope > 0.0)
        .map(|(area, slope)| (slope.ln(), f64::from(area.as_cells()).ln()))
        .collect();
    if logs.len() < FEWEST_FITTED {
        return None;
    }
    let n = logs.len() as f64;
    let (mx, my) = logs.iter().fold((0.0, 0.0), |(x, y), l| (x + l.0 / n, y + l.1 / n));
    let sum = |of: &dyn Fn(f64, f64) -> f64| logs.iter().map(|l| of(l.0 - mx, l.1 - my)).sum::<f64>();
    let (xx, xy, yy) = (sum(&|x, _| x * x), sum(&|x, y| x * y), sum(&|_, y| y * y));
    // Slopes or areas that are all alike tell nothing.
    if xx < 1e-9 || yy < 1e-9 {
        return None;
    }
    let b = xy / xx;
    let left = (yy - b * xy).max(0.0);
    Some(SlopeFit {
        exponent: -b,
        error: (left / (n - 2.0) / xx).sqrt(),
        explained: 1.0 - left / yy,
        at_slope: mx.exp(),
        at_area: Threshold::cells(my.exp().round() as u32),
        heads: logs.len(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: Frame = Frame { rows: 3, cols: 5, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };

    #[test]
    fn heads_are_found_on_the_flow_or_told_as_off_it() {
        let accumulation = Grid::from_vec(3, 5, vec![0, 0, 1, 0, u32::MAX, 0, 0, 20, 0, 0, 0, 0, 30, 0, 0]);
        let slope = Grid::from_fn(3, 5, |c| 50.0 - 2.5 * c.col as f32);
        let found = surveyed_heads(
            &[[22.0, 18.0], [5.0, 25.0], [45.0, 25.0], [-9.0, 5.0]],
            &accumulation,
            &slope,
            &FRAME,
            7.0,
        )
        .unwrap();
        let on = Surveyed::On {
            cell: Cell { row: 1, col: 2 },
            moved_m: 18f64.sqrt(),
            area: Threshold::cells(21),
            slope: 0.25,
        };
        assert_eq!(found, [on, Surveyed::OffValley(1), Surveyed::Outside, Surveyed::Outside]);
        assert_eq!(areas_of(&found).unwrap().median, Threshold::cells(21));
        assert_eq!(areas_of(&found[1..]), None);
        // A survey that may be farther off is moved farther.
        let far = surveyed_heads(&[[22.0, 18.0]], &accumulation, &slope, &FRAME, 15.0).unwrap();
        assert!(matches!(far[0], Surveyed::On { cell: Cell { row: 2, col: 2 }, .. }));
    }

    fn areas_of(all: &[Surveyed]) -> Option<HeadAreas> {
        let cells = |cell| {
            let of = |s: &Surveyed| match *s {
                Surveyed::On { cell: own, area, .. } if own == cell => Some(area.as_cells()),
                _ => None,
            };
            all.iter().find_map(of).unwrap_or(0)
        };
        HeadAreas::of(all, cells)
    }

    fn head(cells: u32, slope: f64) -> Surveyed {
        Surveyed::On {
            cell: Cell { row: 0, col: cells as usize },
            moved_m: 0.0,
            area: Threshold::cells(cells),
            slope,
        }
    }

    #[test]
    fn a_power_of_slope_is_found_again() {
        // area = 100 / slope^1.5
        let exact: Vec<Surveyed> = (1..=12)
            .map(|i| f64::from(i) * 0.03)
            .map(|slope| head((100.0 / slope.powf(1.5)).round() as u32, slope))
            .collect();
        let areas = areas_of(&exact).unwrap();
        let fit = areas.fit.unwrap();
        assert!((fit.exponent - 1.5).abs() < 0.002 && fit.explained > 0.9999 && fit.error < 0.001, "{fit:?}");
        assert!(areas.least < areas.quarter && areas.quarter < areas.median);
        // Too few, or all on one slope: nothing is fitted.
        assert_eq!(areas_of(&exact[..7]).unwrap().fit, None);
        let alike: Vec<Surveyed> = (1..20).map(|i| head(i * 10, 0.1)).collect();
        assert_eq!(areas_of(&alike).unwrap().fit, None);
    }

    /// The worked regression of "Anscombe's quartet" (Anscombe 1973, The American Statistician 27, 17-21): of the first set slope 0.500, standard error 0.118,
    /// r² 0.667; its figures stand for logarithms here.
    #[test]
    fn the_line_is_that_of_least_squares() {
        let x = [10.0, 8.0, 13.0, 9.0, 11.0, 14.0, 6.0, 4.0, 12.0, 7.0, 5.0f64];
        let y = [8.04, 6.95, 7.58, 8.81, 8.33, 9.96, 7.24, 4.26, 10.84, 4.82, 5.68f64];
        let heads: Vec<Surveyed> =
            x.iter().zip(y).map(|(x, y)| head(y.exp().round() as u32, (x - 15.0).exp())).collect();
        let fit = areas_of(&heads).unwrap().fit.unwrap();
        assert!((fit.exponent + 0.500).abs() < 2e-3, "{fit:?}");
        assert!((fit.error - 0.118).abs() < 2e-3 && (fit.explained - 0.667).abs() < 2e-3, "{fit:?}");
    }
}
