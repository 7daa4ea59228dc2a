//! Indices of the land by its flow: specific catchment area, wetness, stream power, height above the nearest stream.

use rayon::prelude::*;

use super::{ACCUMULATION_NODATA, DIRECTION_NODATA, downstream};
use crate::monitor::Pace;
use crate::{Frame, Grid, Monitor, Result};

/// Slopes are taken to be no gentler than this where they divide, m/m: over level ground the index would have no bound. (Ours.)
pub const LEAST_SLOPE: f32 = 1e-3;

/// Contributing area of each cell over the width of a cell, m²/m; the cell itself counts. `NaN` outside.
///
/// `accumulation` holds the cells upstream of each.
///
/// # Source
/// Specific catchment area `a` of Beven and Kirkby 1979, Hydrological Sciences Bulletin 24, 43-69; that the width of flow is that of a cell, whatever its direction, is
/// common practice with no source.
pub fn specific_area(accumulation: &Grid<u32>, frame: &Frame) -> Grid<f32> {
    let cell_m = frame.cell_m();
    let of = |&cells: &u32| match cells {
        ACCUMULATION_NODATA => f32::NAN,
        cells => ((f64::from(cells) + 1.0) * cell_m) as f32,
    };
    Grid::from_vec(
        accumulation.rows(),
        accumulation.cols(),
        accumulation.values().par_iter().map(of).collect(),
    )
}

/// Specific catchment area and slope, joined cell by cell.
fn joined(
    accumulation: &Grid<u32>,
    slope: &Grid<f32>,
    frame: &Frame,
    of: impl Fn(f32, f32) -> f32 + Sync,
) -> Result<Grid<f32>> {
    accumulation.same_shape(slope)?;
    let mut area = specific_area(accumulation, frame);
    area.values_mut().par_iter_mut().zip(slope.values()).for_each(|(a, &tan)| *a = of(*a, tan));
    Ok(area)
}

/// Wetness index `ln(a / tan b)`: `a` is the specific catchment area, m²/m, `tan b` the slope, m/m, at least [`LEAST_SLOPE`]. `NaN` outside.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// # Source
/// Beven and Kirkby 1979, Hydrological Sciences Bulletin 24, 43-69.
///
/// ```
/// use bothros_core::{Frame, Grid, routing::wetness_index};
/// let frame = Frame { rows: 1, cols: 2, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
/// let index = wetness_index(&Grid::from_vec(1, 2, vec![0, 99]), &Grid::from_vec(1, 2, vec![0.1, 0.1]), &frame)?;
/// assert!((index.values()[0] - 100f32.ln()).abs() < 1e-5);
/// assert!((index.values()[1] - 10_000f32.ln()).abs() < 1e-5);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn wetness_index(accumulation: &Grid<u32>, slope: &Grid<f32>, frame: &Frame) -> Result<Grid<f32>> {
    // The largest of a number and nothing is the number.
    joined(
        accumulation,
        slope,
        frame,
        |a, tan| if tan.is_nan() { tan } else { (a / tan.max(LEAST_SLOPE)).ln() },
    )
}

/// Stream power index `a tan b`, m²/m; `a` and `tan b` as in [`wetness_index`], level ground counts as level. `NaN` outside.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
///
/// # Source
/// Moore, Grayson and Ladson 1991, Hydrological Processes 5, 3-30.
pub fn stream_power_index(accumulation: &Grid<u32>, slope: &Grid<f32>, frame: &Frame) -> Result<Grid<f32>> {
    joined(accumulation, slope, frame, |a, tan| a * tan)
}

/// Height of each cell above the stream cell that its flow meets first, metres: 0 on a stream, `NaN` outside and where water leaves without meeting a stream.
///
/// `directions` holds D8 codes without cycles, `is_stream` marks stream cells, `surface` is the conditioned ground, metres.
///
/// # Errors
/// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch), [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Nobre et al. 2011, Journal of Hydrology 404, 13-29.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, routing::height_above_stream};
/// let directions = Grid::from_vec(1, 4, vec![1, 1, 1, 0]);
/// let stream = Grid::from_vec(1, 4, vec![false, false, true, true]);
/// let surface = Grid::from_vec(1, 4, vec![9.0, 7.5, 5.0, 4.0]);
/// let height = height_above_stream(&directions, &stream, &surface, &Silent)?;
/// assert_eq!(height.values(), [4.0, 2.5, 0.0, 0.0]);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn height_above_stream(
    directions: &Grid<u8>,
    is_stream: &Grid<bool>,
    surface: &Grid<f32>,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    directions.same_shape(is_stream)?;
    directions.same_shape(surface)?;
    let mut pace = Pace::new(monitor, directions.len());
    /// not known yet, and no stream at all
    const OPEN: u32 = u32::MAX;
    const NONE: u32 = u32::MAX - 1;
    let mut met = vec![OPEN; directions.len()];
    let mut path = Vec::new();
    for start in 0..directions.len() {
        pace.advance(1)?;
        let mut at = start;
        while met[at] == OPEN {
            if directions.values()[at] == DIRECTION_NODATA {
                met[at] = NONE;
            } else if is_stream.values()[at] {
                met[at] = at as u32;
            } else if let Some(next) = downstream(directions, at) {
                path.push(at);
                at = next;
            } else {
                met[at] = NONE;
            }
        }
        let stream = met[at];
        path.drain(..).for_each(|passed| met[passed] = stream);
    }
    let z = surface.values();
    let height = met.par_iter().zip(z).map(|(&stream, &own)| match stream {
        NONE => f32::NAN,
        stream => own - z[stream as usize],
    });
    let height = height.collect();
    monitor.progress(1.0);
    Ok(Grid::from_vec(directions.rows(), directions.cols(), height))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;
    use crate::conditioning::fill;
    use crate::routing::{flow_accumulation, flow_directions};
    use crate::terrain::slope;
    use crate::terrain::tests_support::any_terrain;
    use proptest::prelude::*;

    #[test]
    fn on_a_plane_indices_are_what_the_formulas_say() {
        // It falls to the east by 2 m a cell of 10 m: tan b is 0.2, and n cells to the west drain to a cell.
        let dem = Grid::from_fn(7, 9, |c| 100.0 - 2.0 * c.col as f32);
        let frame = Frame { rows: 7, cols: 9, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let tan = slope(&dem, 10.0, &Silent).unwrap();
        let area = specific_area(&accumulation, &frame);
        let wet = wetness_index(&accumulation, &tan, &frame).unwrap();
        let power = stream_power_index(&accumulation, &tan, &frame).unwrap();
        for col in 1..8 {
            let at = 3 * 9 + col;
            let a = 10.0 * (col as f32 + 1.0);
            assert_eq!(area.values()[at], a);
            assert!((wet.values()[at] - (a / 0.2).ln()).abs() < 1e-4, "{col}: {}", wet.values()[at]);
            assert!((power.values()[at] - a * 0.2).abs() < 1e-3);
        }
    }

    #[test]
    fn level_ground_has_a_bound_and_nodata_stays() {
        let frame = Frame { rows: 1, cols: 3, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
        let accumulation = Grid::from_vec(1, 3, vec![0, 0, ACCUMULATION_NODATA]);
        let tan = Grid::from_vec(1, 3, vec![0.0, f32::NAN, 0.1]);
        let wet = wetness_index(&accumulation, &tan, &frame).unwrap();
        assert!((wet.values()[0] - 1000f32.ln()).abs() < 1e-4);
        assert!(wet.values()[1].is_nan(), "no slope is known");
        assert!(wet.values()[2].is_nan());
        assert_eq!(stream_power_index(&accumulation, &tan, &frame).unwrap().values()[0], 0.0);
    }

    proptest! {
        #[test]
        fn heights_add_up_along_the_flow(dem in any_terrain(14), seed in any::<u64>()) {
            let filled = fill(&dem, &Silent).unwrap();
            let directions = flow_directions(&filled, &Silent).unwrap();
            let stream = Grid::from_fn(dem.rows(), dem.cols(), |c| (seed >> ((c.row * 5 + c.col) % 64)) & 1 == 1);
            let height = height_above_stream(&directions, &stream, &filled, &Silent).unwrap();
            for i in 0..dem.len() {
                let own = height.values()[i];
                if filled.values()[i].is_nan() {
                    prop_assert!(own.is_nan());
                } else if stream.values()[i] {
                    prop_assert_eq!(own, 0.0);
                } else if let Some(next) = downstream(&directions, i) {
                    let below = height.values()[next];
                    prop_assert_eq!(own.is_nan(), below.is_nan());
                    if !own.is_nan() {
                        let drop = filled.values()[i] - filled.values()[next];
                        prop_assert!((own - below - drop).abs() < 1e-2 && own >= 0.0);
                    }
                } else {
                    prop_assert!(own.is_nan());
                }
            }
        }
    }
}
