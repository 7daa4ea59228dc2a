//! Writing results as cloud-optimised GeoTIFF.

use std::ffi::CString;
use std::path::Path;

use bothros_core::{Cell, Frame, Grid};
use gdal::raster::{Buffer, GdalType};
use gdal::{Dataset, DriverManager};

use crate::{Crs, Error, Result, prepare};

/// How coarser views of a raster are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RasterKind {
    /// means, e.g. of elevations
    Mean,
    /// greatest values, so that streams do not break when seen from afar
    Greatest,
    /// every other value, for codes that cannot be averaged
    Every,
}

/// Writes `values` at `frame` as a cloud-optimised GeoTIFF, compressed without loss.
///
/// `nodata` marks cells without a value, `description` tells content and unit, `unit` the unit
/// alone (empty for none).
///
/// # Errors
/// [`Error::Library`], e.g. where the disk is full.
#[allow(clippy::too_many_arguments)]
pub fn write_cog<T: GdalType + Copy + PartialOrd + Into<f64> + FromMean>(
    path: &Path,
    values: &Grid<T>,
    frame: &Frame,
    crs: &Crs,
    nodata: T,
    kind: RasterKind,
    description: &str,
    unit: &str,
) -> Result<()> {
    let mut dataset = in_memory(values, frame, crs)?;
    {
        let mut band = dataset.rasterband(1)?;
        band.set_no_data_value(Some(nodata.into()))?;
        let (text, unit) = (c_text(description), c_text(unit));
        // SAFETY: the band handle is valid while `band` lives; both texts are copied.
        unsafe {
            gdal_sys::GDALSetDescription(band.c_rasterband(), text.as_ptr());
            gdal_sys::GDALSetRasterUnitType(band.c_rasterband(), unit.as_ptr());
        }
    }

    let mut factors = Vec::new();
    let mut factor = 2;
    while values.cols().max(values.rows()).div_ceil(factor / 2) > 512 {
        factors.push(factor as i32);
        factor *= 2;
    }
    if !factors.is_empty() {
        dataset.build_overviews("NONE", &factors, &[1])?;
        let mut coarser = coarsen(values, nodata, kind);
        for level in 0..factors.len() {
            fill_band(&mut dataset, Some(level), &coarser)?;
            if level + 1 < factors.len() {
                coarser = coarsen(&coarser, nodata, kind);
            }
        }
    }

    copy_as_cog(&dataset, path)
}

/// Writes `values` at `frame` as NetCDF-4 by the CF conventions, compressed without loss: one variable, called `name`, on the coordinates of the
/// CRS. `nodata` marks cells without a value, `meaning` and `unit` (empty for none) tell what they are. CF 1.5 knows no unsigned whole numbers:
/// bytes are written as signed ones of 16 bits, longer ones as real numbers of 64 bits, which hold them exactly.
///
/// # Errors
/// [`Error::Library`], e.g. where the disk is full.
#[allow(clippy::too_many_arguments)]
pub fn write_netcdf<T: GdalType + Copy + Into<f64>>(
    path: &Path,
    values: &Grid<T>,
    frame: &Frame,
    crs: &Crs,
    nodata: T,
    name: &str,
    meaning: &str,
    unit: &str,
) -> Result<()> {
    let wider = |v: T| -> f64 { v.into() };
    let shape = (values.rows(), values.cols());
    let told = (name, meaning, unit);
    match T::gdal_ordinal() {
        gdal_sys::GDALDataType::GDT_Byte => {
            let signed = values.values().iter().map(|&v| wider(v) as i16).collect();
            netcdf(path, &Grid::from_vec(shape.0, shape.1, signed), (frame, crs), wider(nodata), told)
        }
        gdal_sys::GDALDataType::GDT_UInt16 | gdal_sys::GDALDataType::GDT_UInt32 => {
            let real = values.values().iter().map(|&v| wider(v)).collect();
            netcdf(path, &Grid::<f64>::from_vec(shape.0, shape.1, real), (frame, crs), wider(nodata), told)
        }
        _ => netcdf(path, values, (frame, crs), wider(nodata), told),
    }
}

/// Writes one variable of NetCDF, with cells as they are.
fn netcdf<T: GdalType + Copy>(
    path: &Path,
    values: &Grid<T>,
    (frame, crs): (&Frame, &Crs),
    nodata: f64,
    (name, meaning, unit): (&str, &str, &str),
) -> Result<()> {
    use gdal::Metadata;
    let mut dataset = in_memory(values, frame, crs)?;
    {
        let mut band = dataset.rasterband(1)?;
        band.set_no_data_value(Some(nodata))?;
        band.set_metadata_item("NETCDF_VARNAME", name, "")?;
        band.set_metadata_item("long_name", meaning, "")?;
        if !unit.is_empty() {
            band.set_metadata_item("units", unit, "")?;
        }
    }
    dataset.set_metadata_item("NC_GLOBAL#title", meaning, "")?;
    dataset.set_metadata_item("NC_GLOBAL#source", concat!("Bothros ", env!("CARGO_PKG_VERSION")), "")?;
    let driver = DriverManager::get_driver_by_name("netCDF")?;
    let path = path.to_str().ok_or_else(|| std::io::Error::other("the path is not UTF-8"))?;
    let mut options = gdal::cpl::CslStringList::new();
    for (key, value) in [
        ("FORMAT", "NC4"),
        ("COMPRESS", "DEFLATE"),
        ("ZLEVEL", "4"),
        ("WRITE_GDAL_VERSION", "NO"),
        ("WRITE_GDAL_HISTORY", "NO"),
    ] {
        options.set_name_value(key, value)?;
    }
    dataset.create_copy(&driver, path, &options)?.close()?;
    Ok(())
}

/// A raster in memory, with one band.
fn in_memory<T: GdalType + Copy>(values: &Grid<T>, frame: &Frame, crs: &Crs) -> Result<Dataset> {
    prepare();
    let memory = DriverManager::get_driver_by_name("MEM")?;
    let mut dataset = memory.create_with_band_type::<T, _>("", values.cols(), values.rows(), 1)?;
    dataset.set_geo_transform(&[frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size])?;
    dataset.set_spatial_ref(&crs.reference()?)?;
    fill_band(&mut dataset, None, values)?;
    Ok(dataset)
}

/// Writes a raster that is ready in memory.
fn copy_as_cog(dataset: &Dataset, path: &Path) -> Result<()> {
    let cog = DriverManager::get_driver_by_name("COG")?;
    let path = path.to_str().ok_or_else(|| std::io::Error::other("the path is not UTF-8"))?;
    let mut options = gdal::cpl::CslStringList::new();
    for (key, value) in [
        ("COMPRESS", "DEFLATE"),
        ("LEVEL", "4"),
        ("PREDICTOR", "YES"),
        ("BIGTIFF", "IF_SAFER"),
        ("OVERVIEWS", "AUTO"),
        ("NUM_THREADS", "ALL_CPUS"),
    ] {
        options.set_name_value(key, value)?;
    }
    dataset.create_copy(&cog, path, &options)?.close()?;
    Ok(())
}

/// As [`write_geographic`], cloud-optimised, as archives keep them.
///
/// # Errors
/// [`Error::Library`], e.g. where the disk is full.
pub fn write_geographic_cog(
    path: &Path,
    values: &Grid<f32>,
    geo_transform: [f64; 6],
    crs: &Crs,
) -> Result<()> {
    prepare();
    let memory = DriverManager::get_driver_by_name("MEM")?;
    let mut dataset = memory.create_with_band_type::<f32, _>("", values.cols(), values.rows(), 1)?;
    dataset.set_geo_transform(&geo_transform)?;
    dataset.set_spatial_ref(&crs.reference()?)?;
    dataset.rasterband(1)?.set_no_data_value(Some(-9999.0))?;
    fill_band(&mut dataset, None, values)?;
    copy_as_cog(&dataset, path)
}

/// Writes elevations in geographic coordinates, as regional DEMs are given away: a tiled GeoTIFF.
///
/// # Errors
/// [`Error::Library`], e.g. where the disk is full.
pub fn write_geographic(path: &Path, values: &Grid<f32>, geo_transform: [f64; 6], crs: &Crs) -> Result<()> {
    prepare();
    let driver = DriverManager::get_driver_by_name("GTiff")?;
    let options = gdal::raster::RasterCreationOptions::from_iter(["COMPRESS=DEFLATE", "TILED=YES"]);
    let mut dataset = driver.create_with_band_type_with_options::<f32, _>(
        path,
        values.cols(),
        values.rows(),
        1,
        &options,
    )?;
    dataset.set_geo_transform(&geo_transform)?;
    dataset.set_spatial_ref(&crs.reference()?)?;
    dataset.rasterband(1)?.set_no_data_value(Some(-9999.0))?;
    fill_band(&mut dataset, None, values)?;
    dataset.close()?;
    Ok(())
}

fn c_text(text: &str) -> CString {
    CString::new(text.replace('\0', " ")).unwrap_or_default()
}

fn fill_band<T: GdalType + Copy>(
    dataset: &mut Dataset,
    overview: Option<usize>,
    values: &Grid<T>,
) -> Result<()> {
    let mut band = dataset.rasterband(1)?;
    if let Some(level) = overview {
        band = band.overview(level)?;
    }
    if band.size() != (values.cols(), values.rows()) {
        return Err(Error::Io(std::io::Error::other("an overview has another size than expected")));
    }
    let rows_at_once = ((1 << 22) / values.cols().max(1)).max(1);
    let mut row = 0;
    while row < values.rows() {
        let rows = rows_at_once.min(values.rows() - row);
        let strip = values.values()[row * values.cols()..(row + rows) * values.cols()].to_vec();
        let mut buffer = Buffer::new((values.cols(), rows), strip);
        band.write((0, row as isize), (values.cols(), rows), &mut buffer)?;
        row += rows;
    }
    Ok(())
}

/// A value from a mean.
pub trait FromMean {
    /// Rounds where it must.
    fn from_mean(mean: f64) -> Self;
}
macro_rules! from_mean {
    ($($t:ty),*) => { $(impl FromMean for $t { fn from_mean(mean: f64) -> Self { mean as $t } })* };
}
from_mean!(f32, f64, u8, u32);

/// Halves a raster; cells at the far rims may stand for fewer than four.
fn coarsen<T: Copy + PartialOrd + Into<f64> + FromMean>(
    fine: &Grid<T>,
    nodata: T,
    kind: RasterKind,
) -> Grid<T> {
    let is_nodata = |v: T| v == nodata || v.into().is_nan();
    Grid::from_fn(fine.rows().div_ceil(2), fine.cols().div_ceil(2), |c| {
        let (mut sum, mut count, mut greatest, mut first) = (0.0, 0, nodata, nodata);
        for (row, col) in [(0, 0), (0, 1), (1, 0), (1, 1)] {
            let Some(&value) = fine.get(Cell { row: 2 * c.row + row, col: 2 * c.col + col }) else {
                continue;
            };
            if is_nodata(value) {
                continue;
            }
            if count == 0 {
                first = value;
            }
            if count == 0 || value > greatest {
                greatest = value;
            }
            sum += value.into();
            count += 1;
        }
        match kind {
            _ if count == 0 => nodata,
            RasterKind::Mean => T::from_mean(sum / count as f64),
            RasterKind::Greatest => greatest,
            RasterKind::Every => first,
        }
    })
}
