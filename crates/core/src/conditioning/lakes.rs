//! Lakes: water surfaces made level, with a way out.

use serde::{Deserialize, Serialize};

use crate::{Frame, Grid, cells_within};

/// Polygons: each a list of rings of `[x, y]` in CRS units.
pub type Polygons = Vec<Vec<Vec<[f64; 2]>>>;

/// What a lake was levelled to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LakeLevel {
    /// elevation of its surface, metres; `None` where no cell of it has an elevation
    pub level_m: Option<f64>,
    /// number of its cells
    pub cells: u64,
}

/// Makes each lake level. `lakes` holds the polygons of one lake each; `dem` is elevation in metres
/// at `frame`.
///
/// The level is the median of the lake's own cells (a survey of a water surface is noisy, its median
/// is not), or the lowest ground round it where that is higher: so the lake is never below its own
/// outflow, and has a way out. Where lakes share cells the later one counts.
///
/// The rule is ours.
///
/// ```
/// use bothros_core::{Frame, Grid, conditioning::level_lakes};
/// let dem = Grid::from_vec(3, 4, vec![
///     9.0, 9.0, 9.0, 9.0,
///     9.0, 4.8, 5.2, 6.0,
///     9.0, 9.0, 9.0, 9.0f32]);
/// let frame = Frame { rows: 3, cols: 4, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };
/// let lake = vec![vec![vec![[1.0, 1.0], [3.0, 1.0], [3.0, 2.0], [1.0, 2.0], [1.0, 1.0]]]];
/// let (level, found) = level_lakes(&dem, &frame, &[lake]);
/// assert_eq!(found[0].level_m, Some(6.0));
/// assert_eq!(&level.values()[4..8], [9.0, 6.0, 6.0, 6.0]);
/// ```
pub fn level_lakes(dem: &Grid<f32>, frame: &Frame, lakes: &[Polygons]) -> (Grid<f32>, Vec<LakeLevel>) {
    let mut level = dem.clone();
    let found = lakes.iter().map(|lake| level_one(&mut level, frame, lake)).collect();
    (level, found)
}

fn level_one(dem: &mut Grid<f32>, frame: &Frame, lake: &Polygons) -> LakeLevel {
    let cells: Vec<usize> = cells_within(lake, frame)
        .into_iter()
        .map(|cell| dem.index(cell))
        .filter(|&i| !dem.values()[i].is_nan())
        .collect();
    let mut own: Vec<f32> = cells.iter().map(|&i| dem.values()[i]).collect();
    if own.is_empty() {
        return LakeLevel { level_m: None, cells: 0 };
    }
    own.sort_unstable_by(f32::total_cmp);
    let median = own[(own.len() - 1) / 2];
    let mut lowest = f32::INFINITY;
    let mut reaches_out = false;
    for &cell in &cells {
        reaches_out |= dem.is_edge(cell);
        for (_, n) in dem.neighbours(cell) {
            if !dem.values()[n].is_nan() && cells.binary_search(&n).is_err() {
                lowest = lowest.min(dem.values()[n]);
            }
        }
    }
    // A lake at the footprint's edge has its way out there.
    let level = if reaches_out || lowest == f32::INFINITY { median } else { median.max(lowest) };
    for &cell in &cells {
        dem.values_mut()[cell] = level;
    }
    LakeLevel { level_m: Some(level as f64), cells: cells.len() as u64 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;

    #[test]
    fn a_levelled_lake_needs_no_filling() {
        let frame = Frame { rows: 20, cols: 20, left: 0.0, top: 20.0, cell_size: 1.0, unit_m: 1.0 };
        let dem = Grid::from_fn(20, 20, |c| {
            let noise = ((c.row * 7 + c.col * 13) % 5) as f32 * 0.1;
            if (5..12).contains(&c.row) && (5..12).contains(&c.col) {
                10.0 + noise
            } else {
                40.0 - c.col as f32
            }
        });
        let lake = vec![vec![vec![[5.0, 8.0], [12.0, 8.0], [12.0, 15.0], [5.0, 15.0]]]];
        let (level, found) = level_lakes(&dem, &frame, &[lake]);
        assert_eq!(found[0], LakeLevel { level_m: Some(28.0), cells: 49 });
        assert_eq!(fill(&level, &Silent).unwrap(), level, "the way out is at its lowest rim");
    }

    #[test]
    fn a_lake_outside_is_nothing() {
        let frame = Frame { rows: 2, cols: 2, left: 0.0, top: 2.0, cell_size: 1.0, unit_m: 1.0 };
        let dem = Grid::filled(2, 2, 1.0);
        let lake = vec![vec![vec![[50.0, 50.0], [60.0, 50.0], [60.0, 60.0]]]];
        assert_eq!(level_lakes(&dem, &frame, &[lake]).1, [LakeLevel { level_m: None, cells: 0 }]);
    }
}
