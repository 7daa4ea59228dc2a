//! Fetching part of a cloud-optimised GeoTIFF from where it lies, without the rest of it.

use std::ffi::CString;
use std::path::Path;

use bothros_core::Monitor;
use gdal::{Dataset, DatasetOptions, GdalOpenFlags};

use crate::apart::{self, Answer, Request};
use crate::raster_read::{detail, guard_size};
use crate::utility::{Arguments, hear};
use crate::{Crs, Error, Result, Transform, prepare};

/// What the library may do on this thread while a file is fetched, and no longer: reach one address.
struct Reach;

/// Options of the library that hold on one thread.
const HOLD: [&str; 6] = [
    "CPL_VSIL_CURL_ALLOWED_FILENAME",
    "GDAL_HTTP_CONNECTTIMEOUT",
    "GDAL_HTTP_TIMEOUT",
    "GDAL_HTTP_MAX_RETRY",
    "GDAL_HTTP_RETRY_DELAY",
    "GDAL_DISABLE_READDIR_ON_OPEN",
];

impl Reach {
    fn to(file: &str) -> Result<Self> {
        for (key, value) in HOLD.into_iter().zip([file, "10", "60", "2", "0.5", "EMPTY_DIR"]) {
            gdal::config::set_thread_local_config_option(key, value)?;
        }
        let file = CString::new(file).map_err(std::io::Error::other)?;
        // What was seen there before, or not seen, may have changed.
        // SAFETY: the name outlives the call.
        unsafe { gdal_sys::VSICurlPartialClearCache(file.as_ptr()) };
        Ok(Self)
    }
}

impl Drop for Reach {
    fn drop(&mut self) {
        for key in HOLD {
            // Fails only on a NUL byte in the name.
            let _ = gdal::config::clear_thread_local_config_option(key);
        }
    }
}

/// The rows and columns of a raster that cover an extent: first column, first row, columns, rows.
fn window(dataset: &Dataset, extent: [f64; 4], name: &str) -> Result<Option<[usize; 4]>> {
    let nowhere = || Error::NoCrs { name: name.to_owned() };
    let crs = Crs::of(&dataset.spatial_ref().map_err(|_| nowhere())?)?;
    let [left, width, x_turn, top, y_turn, height] = dataset.geo_transform().map_err(|_| nowhere())?;
    if x_turn != 0.0 || y_turn != 0.0 || width <= 0.0 || height >= 0.0 {
        let detail = "its rows do not run from west to east".to_owned();
        return Err(Error::Damaged { name: name.to_owned(), detail });
    }
    let transform = Transform::new(&Crs::parse("EPSG:4326")?, &crs)?;
    let [west, south, east, north] = extent;
    let (mut x0, mut x1) = (f64::INFINITY, f64::NEG_INFINITY);
    let (mut y0, mut y1) = (f64::INFINITY, f64::NEG_INFINITY);
    // Edges may bend: points along them, not the corners alone.
    const STEPS: i32 = 16;
    for i in 0..=STEPS {
        for j in 0..=STEPS {
            if i % STEPS != 0 && j % STEPS != 0 {
                continue;
            }
            let along = |from: f64, to: f64, at: i32| from + (to - from) * at as f64 / STEPS as f64;
            let (x, y) = transform.point(along(west, east, i), along(south, north, j))?;
            (x0, x1) = (x0.min(x), x1.max(x));
            (y0, y1) = (y0.min(y), y1.max(y));
        }
    }
    let (cols, rows) = dataset.raster_size();
    let within = |at: f64, most: usize| at.clamp(0.0, most as f64) as usize;
    let (c0, c1) = (within(((x0 - left) / width).floor(), cols), within(((x1 - left) / width).ceil(), cols));
    let (r0, r1) = (within(((y1 - top) / height).floor(), rows), within(((y0 - top) / height).ceil(), rows));
    Ok((c1 > c0 && r1 > r0).then_some([c0, r0, c1 - c0, r1 - r0]))
}

/// Fetches the part of a GeoTIFF at an address (http or https) that covers `extent` (west, south, east,
/// north, degrees on WGS 84), and writes it to `to` as it is: same CRS, grid, type and nodata. Only the
/// blocks that are needed travel. Returns rows and columns, or `None` where the file does not reach there.
///
/// `name` is what the user calls the file.
///
/// # Errors
/// [`Error::Remote`] where it cannot be reached or is no GeoTIFF, [`Error::NoCrs`], [`Error::Damaged`],
/// [`Error::TooLarge`], [`Error::Cancelled`].
pub fn fetch_part(
    address: &str,
    name: &str,
    extent: [f64; 4],
    to: &Path,
    monitor: &dyn Monitor,
) -> Result<Option<(usize, usize)>> {
    let request =
        Request::Fetch { address: address.to_owned(), name: name.to_owned(), extent, to: to.to_owned() };
    match apart::ask(&request, monitor) {
        Some(answer) => match answer? {
            Answer::Fetched(size) => Ok(size),
            _ => Err(Error::unexpected(name)),
        },
        None => fetch_here(address, name, extent, to, monitor),
    }
}

/// As [`fetch_part`], in this process.
pub(crate) fn fetch_here(
    address: &str,
    name: &str,
    extent: [f64; 4],
    to: &Path,
    monitor: &dyn Monitor,
) -> Result<Option<(usize, usize)>> {
    prepare();
    if !address.starts_with("http://") && !address.starts_with("https://") {
        return Err(Error::Remote { name: name.to_owned(), detail: "its address is not of the web".into() });
    }
    let file = format!("/vsicurl/{address}");
    let _reach = Reach::to(&file)?;
    let remote = |e: gdal::errors::GdalError| match detail(&e).as_str() {
        "" | "''" => Error::Remote { name: name.to_owned(), detail: "nothing is there".into() },
        told => Error::Remote { name: name.to_owned(), detail: told.to_owned() },
    };
    let options = DatasetOptions {
        open_flags: GdalOpenFlags::GDAL_OF_RASTER | GdalOpenFlags::GDAL_OF_READONLY,
        allowed_drivers: Some(&["GTiff"]),
        ..Default::default()
    };
    let dataset = Dataset::open_ex(&file, options).map_err(remote)?;
    guard_size(&dataset, name)?;
    let Some([col, row, cols, rows]) = window(&dataset, extent, name)? else {
        return Ok(None);
    };
    copy(&dataset, [col, row, cols, rows], to, name, monitor)?;
    keep_units(&dataset, to)?;
    Ok(Some((rows, cols)))
}

/// Copies what the library leaves out: the units of the values.
fn keep_units(from: &Dataset, to: &Path) -> Result<()> {
    let bands = 1..=from.raster_count();
    let units = bands.map(|number| Ok((number, from.rasterband(number)?.unit())));
    let units: Vec<(usize, String)> = units.collect::<Result<_>>()?;
    if units.iter().all(|(_, unit)| unit.is_empty()) {
        return Ok(());
    }
    let options = DatasetOptions {
        open_flags: GdalOpenFlags::GDAL_OF_RASTER | GdalOpenFlags::GDAL_OF_UPDATE,
        allowed_drivers: Some(&["GTiff"]),
        ..Default::default()
    };
    let written = Dataset::open_ex(to, options)?;
    for (number, unit) in units {
        let band = written.rasterband(number)?;
        let unit = CString::new(unit).map_err(std::io::Error::other)?;
        // SAFETY: the band handle is valid while `band` lives; the text is copied.
        unsafe { gdal_sys::GDALSetRasterUnitType(band.c_rasterband(), unit.as_ptr()) };
    }
    Ok(written.close()?)
}

/// Writes a window of a raster as a GeoTIFF.
fn copy(from: &Dataset, window: [usize; 4], to: &Path, name: &str, monitor: &dyn Monitor) -> Result<()> {
    let mut arguments: Vec<String> = ["-q", "-of", "GTiff", "-srcwin"].map(str::to_owned).into();
    arguments.extend(window.map(|n| n.to_string()));
    for option in ["COMPRESS=DEFLATE", "TILED=YES", "BIGTIFF=IF_SAFER"] {
        arguments.extend(["-co".to_owned(), option.to_owned()]);
    }
    let owned: Vec<CString> = arguments.into_iter().filter_map(|a| CString::new(a).ok()).collect();
    let mut arguments = Arguments::new(owned);
    let path = to.to_str().and_then(|p| CString::new(p).ok());
    let path = path.ok_or_else(|| std::io::Error::other("the path is not UTF-8"))?;
    let mut heard: &dyn Monitor = monitor;
    // SAFETY: arguments, path, source and monitor outlive the call; options and result are freed.
    let done = unsafe {
        let options = gdal_sys::GDALTranslateOptionsNew(arguments.as_mut_ptr(), std::ptr::null_mut());
        gdal_sys::GDALTranslateOptionsSetProgress(options, Some(hear), (&raw mut heard).cast());
        let mut misuse = 0;
        let result = gdal_sys::GDALTranslate(path.as_ptr(), from.c_dataset(), options, &mut misuse);
        gdal_sys::GDALTranslateOptionsFree(options);
        if !result.is_null() {
            gdal_sys::GDALClose(result);
        }
        !result.is_null()
    };
    if monitor.is_cancelled() {
        return Err(Error::Cancelled);
    }
    if done {
        return Ok(());
    }
    Err(Error::Remote { name: name.to_owned(), detail: "the connection was cut".into() })
}
