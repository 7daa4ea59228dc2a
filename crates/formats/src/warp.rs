//! Warping a DEM to a projected, square, north-up grid.

use std::ffi::{CStr, CString};

use bothros_core::{Frame, Grid, Monitor};
use gdal::raster::{Buffer, ResampleAlg};
use gdal::{Dataset, DriverManager};
use serde::{Deserialize, Serialize};

use crate::utility::{Arguments, hear};
use crate::{Crs, Error, Result, prepare};

/// How values between cells are found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Resampling {
    /// weights of the four nearest cells: never beyond them, so it makes no pit that was not there
    #[default]
    Bilinear,
    /// cubic convolution of the sixteen nearest cells
    Cubic,
    /// the nearest cell: for codes, not for elevations, which it turns into steps
    Nearest,
}

impl Resampling {
    /// As it is written in recipes and forms.
    pub fn code(self) -> &'static str {
        match self {
            Self::Bilinear => "bilinear",
            Self::Cubic => "cubic",
            Self::Nearest => "nearest",
        }
    }
    fn gdal(self) -> &'static CStr {
        match self {
            Self::Bilinear => c"bilinear",
            Self::Cubic => c"cubic",
            Self::Nearest => c"near",
        }
    }
}

/// Elevations with their place, which may be turned, stretched or in degrees.
pub struct Placed<'a> {
    /// elevations, `NaN` for nodata
    pub values: &'a Grid<f32>,
    /// left, width of a cell, rotation, top, rotation, height of a cell
    pub geo_transform: [f64; 6],
    /// its CRS
    pub crs: &'a Crs,
}

impl Placed<'_> {
    fn dataset(&self) -> Result<Dataset> {
        let (rows, cols) = (self.values.rows(), self.values.cols());
        let mut dataset =
            DriverManager::get_driver_by_name("MEM")?.create_with_band_type::<f32, _>("", cols, rows, 1)?;
        dataset.set_geo_transform(&self.geo_transform)?;
        dataset.set_spatial_ref(&self.crs.reference()?)?;
        let mut band = dataset.rasterband(1)?;
        band.set_no_data_value(Some(f64::NAN))?;
        let rows_at_once = ((1 << 22) / cols.max(1)).max(1);
        for row in (0..rows).step_by(rows_at_once) {
            let count = rows_at_once.min(rows - row);
            let strip = self.values.values()[row * cols..(row + count) * cols].to_vec();
            band.write((0, row as isize), (cols, count), &mut Buffer::new((cols, count), strip))?;
        }
        Ok(dataset)
    }
}

/// Where a warped DEM would lie.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct WarpPlan {
    /// extent in the target CRS: west, south, east, north
    pub extent: [f64; 4],
    /// the edge of a square cell that keeps the number of cells, target units
    pub native_cell_size: f64,
    /// the same, rounded to a convenient number
    pub sensible_cell_size: f64,
}

/// The nearest of 1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8 times a power of ten, by ratio.
///
/// ```
/// # use bothros_formats::sensible_cell_size;
/// assert_eq!(sensible_cell_size(26.4), 25.0);
/// assert_eq!(sensible_cell_size(0.97), 1.0);
/// assert_eq!(sensible_cell_size(83.3), 80.0);
/// ```
pub fn sensible_cell_size(size: f64) -> f64 {
    let power = 10f64.powf(size.log10().floor());
    let lead = size / power;
    let ratio = |candidate: f64| (candidate / lead).ln().abs();
    let best = [1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .min_by(|a, b| ratio(*a).total_cmp(&ratio(*b)))
        .unwrap_or(1.0);
    // Powers below one do not multiply exactly.
    ((best * power) * 1e9).round() / 1e9
}

/// Finds the extent and a fitting cell size of a raster in another CRS, from its size, place and
/// CRS alone.
pub fn plan_warp(
    rows: usize,
    cols: usize,
    geo_transform: [f64; 6],
    from: &Crs,
    to: &Crs,
) -> Result<WarpPlan> {
    prepare();
    let transform = crate::Transform::new(from, to)?;
    let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    const STEPS: usize = 21;
    for i in 0..=STEPS {
        for j in 0..=STEPS {
            let (c, r) = (cols as f64 * i as f64 / STEPS as f64, rows as f64 * j as f64 / STEPS as f64);
            let [x0, dx, rx, y0, ry, dy] = geo_transform;
            let (x, y) = transform.point(x0 + c * dx + r * rx, y0 + c * ry + r * dy)?;
            extent = [extent[0].min(x), extent[1].min(y), extent[2].max(x), extent[3].max(y)];
        }
    }
    // The ground that one cell in the middle covers.
    let [x0, dx, rx, y0, ry, dy] = geo_transform;
    let at = |c: f64, r: f64| transform.point(x0 + c * dx + r * rx, y0 + c * ry + r * dy);
    let (c, r) = (cols as f64 / 2.0, rows as f64 / 2.0);
    let ((ax, ay), (bx, by), (px, py)) = (at(c, r)?, at(c + 1.0, r)?, at(c, r + 1.0)?);
    let native = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)).abs().sqrt();
    Ok(WarpPlan { extent, native_cell_size: native, sensible_cell_size: sensible_cell_size(native) })
}

/// Warps elevations to `to`, on cells of `cell_size` (target units) whose corners lie on multiples
/// of it. Cells that the source does not reach are `NaN`.
///
/// # Errors
/// [`Error::CellSize`] for a size that is no positive number, or would give more than 2^32 cells
/// or less than two in a row; [`Error::Cancelled`]; [`Error::NotConvertible`].
pub fn warp(
    source: &Placed,
    to: &Crs,
    cell_size: f64,
    resampling: Resampling,
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, Frame)> {
    let plan = plan_warp(source.values.rows(), source.values.cols(), source.geo_transform, source.crs, to)?;
    let frame = frame_of(plan.extent, cell_size, to)?;
    Ok((warp_onto(source, to, &frame, resampling, monitor)?, frame))
}

/// The grid of cells of `cell_size` (CRS units), whose corners lie on multiples of it, that holds an
/// extent (west, south, east, north).
///
/// # Errors
/// [`Error::CellSize`] as for [`warp()`].
pub fn frame_of([west, south, east, north]: [f64; 4], cell_size: f64, crs: &Crs) -> Result<Frame> {
    let (left, top) = ((west / cell_size).floor() * cell_size, (north / cell_size).ceil() * cell_size);
    let (cols, rows) = (((east - left) / cell_size).ceil(), ((top - south) / cell_size).ceil());
    let sensible = cell_size > 0.0 && cols >= 2.0 && rows >= 2.0 && cols * rows < u32::MAX as f64;
    if !sensible {
        let (width, height) = (east - west, north - south);
        return Err(Error::CellSize {
            cell_size,
            cols,
            rows,
            least: sensible_cell_size((width * height / 4e9).sqrt()),
            most: sensible_cell_size(width.min(height) / 4.0),
        });
    }
    Ok(Frame { rows: rows as usize, cols: cols as usize, left, top, cell_size, unit_m: crs.unit_m })
}

/// Warps elevations onto a given grid in `to`. Cells that the source does not reach are `NaN`.
///
/// # Errors
/// [`Error::Cancelled`], [`Error::NotConvertible`].
pub fn warp_onto(
    source: &Placed,
    to: &Crs,
    frame: &Frame,
    resampling: Resampling,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let from = source.dataset()?;
    let target = DriverManager::get_driver_by_name("MEM")?;
    let mut target = target.create_with_band_type::<f32, _>("", frame.cols, frame.rows, 1)?;
    target.set_geo_transform(&[frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size])?;
    target.set_spatial_ref(&to.reference()?)?;
    {
        let mut band = target.rasterband(1)?;
        band.set_no_data_value(Some(f64::NAN))?;
        band.fill(f64::NAN, None)?;
    }
    run_warp(&from, &target, resampling, monitor)?;
    let band = target.rasterband(1)?;
    let mut values = vec![f32::NAN; frame.cells()];
    let rows_at_once = ((1 << 22) / frame.cols).max(1);
    for (at, strip) in values.chunks_mut(rows_at_once * frame.cols).enumerate() {
        let rows = strip.len() / frame.cols;
        let size = (frame.cols, rows);
        band.read_into_slice((0, (at * rows_at_once) as isize), size, size, strip, None::<ResampleAlg>)?;
    }
    for value in &mut values {
        if !value.is_finite() {
            *value = f32::NAN;
        }
    }
    Ok(Grid::from_vec(frame.rows, frame.cols, values))
}

fn run_warp(from: &Dataset, to: &Dataset, resampling: Resampling, monitor: &dyn Monitor) -> Result<()> {
    let arguments = [
        c"-r",
        resampling.gdal(),
        c"-multi",
        c"-wo",
        c"NUM_THREADS=ALL_CPUS",
        c"-et",
        c"0.01",
        c"-wm",
        c"128",
    ];
    let owned: Vec<CString> = arguments.iter().map(|a| (*a).to_owned()).collect();
    let mut arguments = Arguments::new(owned);
    let mut heard: &dyn Monitor = monitor;
    // SAFETY: the arguments, both datasets and the monitor outlive the call; the options are freed.
    let done = unsafe {
        let options = gdal_sys::GDALWarpAppOptionsNew(arguments.as_mut_ptr(), std::ptr::null_mut());
        gdal_sys::GDALWarpAppOptionsSetProgress(options, Some(hear), (&raw mut heard).cast());
        let mut sources = [from.c_dataset()];
        let mut misuse = 0;
        let result = gdal_sys::GDALWarp(
            std::ptr::null(),
            to.c_dataset(),
            1,
            sources.as_mut_ptr(),
            options,
            &mut misuse,
        );
        gdal_sys::GDALWarpAppOptionsFree(options);
        !result.is_null()
    };
    if monitor.is_cancelled() {
        return Err(Error::Cancelled);
    }
    if done { Ok(()) } else { Err(Error::NotConvertible("the chosen CRS".into())) }
}
