//! A raster of any sort brought onto the grid of a DEM.

use std::path::Path;

use bothros_core::{Frame, Grid, Monitor, Part};

use crate::{Crs, Error, Placed, Resampling, Result, VerticalUnit, inspect, read_elevation, warp_onto};

/// Reads the only band of a raster onto a grid in `crs`, as it is where it lies on that grid already, else
/// resampled. Also tells the CRS that it was warped from. Cells that it does not reach are `NaN`. `name`
/// is what the user calls it.
///
/// # Errors
/// [`Error::NoCrs`], [`Error::OneBand`], [`Error::Elsewhere`] where it reaches no cell; those of
/// [`read_elevation`].
pub fn read_onto(
    path: &Path,
    name: &str,
    crs: &Crs,
    frame: &Frame,
    resampling: Resampling,
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, Option<Crs>)> {
    let info = inspect(path, name)?;
    let own = info.crs.clone().ok_or_else(|| Error::NoCrs { name: name.into() })?;
    if info.bands.len() != 1 {
        return Err(Error::OneBand { name: name.into(), bands: info.bands.len() });
    }
    let values = read_elevation(path, name, 1, VerticalUnit::Metre, &Part::new(monitor, 0.0, 0.5))?;
    let [left, width, _, top, _, _] = info.geo_transform;
    let same = own.same_as(crs)?
        && (info.rows, info.cols) == (frame.rows, frame.cols)
        && info.is_north_up()
        && info.is_square()
        && (left - frame.left).abs() < 1e-3 * frame.cell_size
        && (top - frame.top).abs() < 1e-3 * frame.cell_size
        && (width - frame.cell_size).abs() < 1e-6 * frame.cell_size;
    if same {
        return Ok((values, None));
    }
    let placed = Placed { values: &values, geo_transform: info.geo_transform, crs: &own };
    let onto = warp_onto(&placed, crs, frame, resampling, &Part::new(monitor, 0.5, 1.0))?;
    if onto.values().iter().all(|w| w.is_nan()) {
        return Err(Error::Elsewhere { name: name.into() });
    }
    Ok((onto, Some(own)))
}
