//! The ground that lies around a line.

use bothros_core::conditioning::Line;
use bothros_core::{Frame, Grid};
use bothros_store::{RasterRole, Store};

use crate::{Error, Facts, Result, boxed};

/// More cells are not read for a line.
const MOST_CELLS: usize = 16_000_000;

/// The DEM around a line, with some metres more, and where it lies.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared, and for a line that is too long.
#[boxed]
pub async fn ground_around(
    store: &Store,
    facts: &Facts,
    line: &[[f64; 2]],
    more_m: f64,
) -> Result<(Grid<f32>, Frame)> {
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let frame = &terrain.frame;
    let meta = store.raster(facts.study, RasterRole::Dem).await?.ok_or_else(Error::not_prepared)?;
    let more = more_m / frame.unit_m + 2.0 * frame.cell_size;
    let bound =
        |axis: usize, sign: f64| line.iter().map(|p| p[axis] * sign).fold(f64::NEG_INFINITY, f64::max) * sign;
    let col = |x: f64| (((x - frame.left) / frame.cell_size).floor().max(0.0) as usize).min(frame.cols - 1);
    let row = |y: f64| (((frame.top - y) / frame.cell_size).floor().max(0.0) as usize).min(frame.rows - 1);
    let (left, right) = (col(bound(0, -1.0) - more), col(bound(0, 1.0) + more));
    let (top, bottom) = (row(bound(1, 1.0) + more), row(bound(1, -1.0) - more));
    let (rows, cols) = (bottom - top + 1, right - left + 1);
    if rows * cols > MOST_CELLS {
        return Err(Error::Refused(
            "the line is too long to be looked at; draw it where the barrier is".into(),
        ));
    }
    let dem = store.read_window::<f32>(&meta, 0, (top as isize, left as isize), (rows, cols)).await?;
    Ok((dem, frame.window(top, left, rows, cols)))
}

/// Fails for a breach line that runs uphill or off the DEM, with what was found at its ends.
///
/// # Errors
/// [`Error::Refused`]; those of [`ground_around`].
pub(crate) async fn check_breach_line(store: &Store, facts: &Facts, line: &Line) -> Result<()> {
    let (dem, frame) = ground_around(store, facts, line, 0.0).await?;
    falls(&dem, &frame, line).map_err(Error::Refused)
}

/// Whether a breach line falls from its first point to its last, or why not.
fn falls(dem: &Grid<f32>, frame: &Frame, line: &Line) -> std::result::Result<(), String> {
    let z = |p: Option<&[f64; 2]>| {
        let cell = p.and_then(|p| frame.cell_at(p[0], p[1]))?;
        dem.get(cell).copied().filter(|z| !z.is_nan())
    };
    match (z(line.first()), z(line.last())) {
        (Some(from), Some(to)) if to > from => Err(format!(
            "this breach line runs uphill: it begins at {from:.2} m and ends at {to:.2} m. Draw it from upstream to downstream"
        )),
        (Some(_), Some(_)) => Ok(()),
        _ => Err("a breach line begins and ends where there are elevations; one end lies outside".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn breach_lines_fall_between_known_ends() {
        let mut dem = Grid::from_fn(3, 5, |c| 10.0 - c.col as f32);
        let frame = Frame { rows: 3, cols: 5, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };
        let line = |from: f64, to: f64| vec![[from, 15.0], [to, 15.0]];
        assert_eq!(falls(&dem, &frame, &line(5.0, 45.0)), Ok(()));
        assert_eq!(falls(&dem, &frame, &line(15.0, 16.0)), Ok(()));
        let uphill = falls(&dem, &frame, &line(45.0, 5.0)).unwrap_err();
        assert!(uphill.contains("begins at 6.00 m and ends at 10.00 m"), "{uphill}");
        assert!(falls(&dem, &frame, &line(5.0, 55.0)).unwrap_err().contains("outside"));
        dem.values_mut()[5] = f32::NAN;
        assert!(falls(&dem, &frame, &line(5.0, 45.0)).unwrap_err().contains("outside"));
    }
}
