//! Closed basins: sinks that are real, or too deep to be filled, and are kept.

use serde::{Deserialize, Serialize};

use super::{Polygons, Sink, fill_to_outlets, list_sinks};
use crate::{Cell, Frame, Grid, Monitor, Part, Result, cells_within};

/// Where somebody says that a sink is real.
#[derive(Debug, Clone, PartialEq)]
pub enum ClosedBasin {
    /// the sink that holds this place, `[x, y]` in CRS units
    At([f64; 2]),
    /// the sink at the lowest cell of these polygons
    Within(Polygons),
}

/// Finds the bottoms of closed basins: for each the lowest cell of the sink that is meant (of equals
/// the first in row order), or `None` where there is no sink at that place.
///
/// `filled` is what [`fill`](super::fill()) makes of `dem`; both are elevations in metres at `frame`.
/// The bottoms, given to [`fill_to_outlets`] as outlets, keep their basins open: smaller sinks
/// inside them are filled to their own way down.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
pub fn closed_basin_bottoms(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    frame: &Frame,
    basins: &[ClosedBasin],
) -> Result<Vec<Option<Cell>>> {
    dem.same_shape(filled)?;
    let in_sink = |i: usize| filled.values()[i] > dem.values()[i];
    let lower = |a: usize, b: usize| (dem.values()[a], a) < (dem.values()[b], b);
    let found = basins.iter().map(|basin| match basin {
        ClosedBasin::At([x, y]) => {
            let start = frame.cell_at(*x, *y).map(|c| dem.index(c)).filter(|&i| in_sink(i))?;
            // The sink: connected cells that were raised to one level.
            let level = filled.values()[start];
            let (mut open, mut seen) = (vec![start], std::collections::HashSet::from([start]));
            let mut bottom = start;
            while let Some(at) = open.pop() {
                if lower(at, bottom) {
                    bottom = at;
                }
                for (_, n) in dem.neighbours(at) {
                    if in_sink(n) && filled.values()[n] == level && seen.insert(n) {
                        open.push(n);
                    }
                }
            }
            Some(dem.cell(bottom))
        }
        ClosedBasin::Within(polygons) => cells_within(polygons, frame)
            .into_iter()
            .map(|c| dem.index(c))
            .filter(|&i| in_sink(i))
            .reduce(|best, at| if lower(at, best) { at } else { best })
            .map(|i| dem.cell(i)),
    });
    Ok(found.collect())
}

/// What filling with a limit did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeptSinks {
    /// sinks deeper than the limit, which were not filled, in the order in which they were found;
    /// depth, area and volume are what filling would have raised
    pub kept: Vec<Sink>,
}

/// Fills sinks up to `most_m` deep (metres below the spill level) and keeps deeper ones.
///
/// A kept sink stays open at its deepest cell; sinks inside it are filled towards that cell, or kept
/// in turn where they too are deeper than the limit. `outlets` are further cells that stay open, by
/// number in row order, ascending. Returns the surface, what was kept, and all cells that stayed
/// open.
///
/// # Errors
/// Those of [`fill`](super::fill()).
pub fn fill_no_deeper(
    dem: &Grid<f32>,
    frame: &Frame,
    outlets: &[u32],
    most_m: f64,
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, KeptSinks, Vec<u32>)> {
    let mut open = outlets.to_vec();
    let mut kept = Vec::new();
    loop {
        let filled = fill_to_outlets(dem, &open, &Part::new(monitor, 0.0, 0.6))?;
        let sinks = list_sinks(dem, &filled, frame, usize::MAX, &Part::new(monitor, 0.6, 1.0))?;
        let deep: Vec<Sink> = sinks.largest.into_iter().filter(|sink| sink.depth_m as f64 > most_m).collect();
        if deep.is_empty() {
            return Ok((filled, KeptSinks { kept }, open));
        }
        open.extend(deep.iter().map(|sink| dem.index(sink.bottom) as u32));
        open.sort_unstable();
        open.dedup();
        kept.extend(deep);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    const FRAME: Frame = Frame { rows: 3, cols: 9, left: 0.0, top: 3.0, cell_size: 1.0, unit_m: 1.0 };

    /// A deep hollow with a small pit on its slope, and a shallow hollow beside it.
    fn hollows() -> Grid<f32> {
        let middle = [9.0, 2.0, 5.0, 4.0, 6.0, 8.5, 8.0, 8.5, 8.5];
        Grid::from_fn(3, 9, |c| if c.row == 1 { middle[c.col] } else { 9.0 })
    }

    #[test]
    fn a_closed_basin_keeps_its_bottom_and_loses_its_pits() {
        let dem = hollows();
        let filled = fill(&dem, &Silent).unwrap();
        let at = |x: f64| ClosedBasin::At([x, 1.5]);
        let area = ClosedBasin::Within(vec![vec![vec![[1.0, 0.0], [5.0, 0.0], [5.0, 3.0], [1.0, 3.0]]]]);
        let basins = [at(3.5), at(0.5), area, ClosedBasin::At([99.0, 1.5])];
        let found = closed_basin_bottoms(&dem, &filled, &FRAME, &basins).unwrap();
        let bottom = Cell { row: 1, col: 1 };
        assert_eq!(found, [Some(bottom), None, Some(bottom), None]);
        let open = fill_to_outlets(&dem, &[dem.index(bottom) as u32], &Silent).unwrap();
        assert_eq!(&open.values()[9..18], [9.0, 2.0, 5.0, 5.0, 6.0, 8.5, 8.5, 8.5, 8.5]);
    }

    #[test]
    fn deep_sinks_are_kept_and_reported() {
        let dem = hollows();
        let (filled, kept, open) = fill_no_deeper(&dem, &FRAME, &[], 2.0, &Silent).unwrap();
        assert_eq!(kept.kept.len(), 1);
        assert_eq!((kept.kept[0].bottom, kept.kept[0].depth_m), (Cell { row: 1, col: 1 }, 6.5));
        assert_eq!(open, [10]);
        assert_eq!(&filled.values()[9..18], [9.0, 2.0, 5.0, 5.0, 6.0, 8.5, 8.5, 8.5, 8.5]);
        let (all, none, _) = fill_no_deeper(&dem, &FRAME, &[], 7.0, &Silent).unwrap();
        assert!(none.kept.is_empty());
        assert_eq!(all, fill(&dem, &Silent).unwrap());
    }

    proptest! {
        #[test]
        fn nothing_is_raised_by_more_than_the_limit(dem in any_terrain(14), most in 0.0f64..40.0) {
            let frame = Frame { rows: dem.rows(), cols: dem.cols(), ..FRAME };
            let (filled, _, _) = fill_no_deeper(&dem, &frame, &[], most, &Silent).unwrap();
            for (z, f) in dem.values().iter().zip(filled.values()) {
                prop_assert!(z.is_nan() || (f >= z && (f - z) as f64 <= most));
            }
        }
    }
}
