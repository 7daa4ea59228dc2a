//! Writing results as cloud-optimised GeoTIFF.

use std::ffi::CString;
use std::path::Path;

use bothros_core::{Coarser, Frame, FromMean, Grid, coarsen};
use gdal::raster::GdalType;
use gdal::{Dataset, DriverManager};

use crate::heard::written;
use crate::{Crs, Error, Result, prepare};

/// Writes `values` at `frame` as a cloud-optimised GeoTIFF, compressed without loss.
///
/// `nodata` marks cells without a value, `description` tells content and unit, `unit` the unit
/// alone (empty for none).
///
/// # Errors
/// [`Error::Io`] where the disk takes no more; [`Error::Library`].
#[allow(clippy::too_many_arguments)]
pub fn write_cog<T: GdalType + Copy + PartialOrd + Into<f64> + FromMean + Send + Sync>(
    path: &Path,
    values: &Grid<T>,
    frame: &Frame,
    crs: &Crs,
    nodata: T,
    kind: Coarser,
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

    copy_as_cog(&dataset, path, kind == Coarser::Mean)
}

/// Where the description of a raster stands in its file: among the first of its bytes, as all that is told about it.
const HEAD: usize = 16 << 20;

/// Makes a raster that [`write_cog`] has written, with the same cells, a second time under another description. False, and
/// nothing written, where the description cannot be changed so.
///
/// # Errors
/// [`Error::Io`], e.g. where the disk is full.
pub fn copy_cog(from: &Path, to: &Path, was: &str, description: &str) -> Result<bool> {
    use std::io::{Read, Seek, SeekFrom, Write};
    const END: &[u8] = b"</GDALMetadata>";
    let plain = |text: &str| !text.contains(['&', '<', '>', '"', '\'']);
    if !(plain(was) && plain(description)) {
        return Ok(false);
    }
    let mut head = Vec::new();
    std::fs::File::open(from)?.take(HEAD as u64).read_to_end(&mut head)?;
    let find = |what: &[u8], from: usize| {
        head[from..].windows(what.len()).position(|bytes| bytes == what).map(|at| from + at)
    };
    let told = format!(">{was}<");
    let Some(begin) = find(told.as_bytes(), 0) else { return Ok(false) };
    let Some(end) = find(END, begin) else { return Ok(false) };
    if find(told.as_bytes(), begin + 1).is_some_and(|again| again < end) {
        return Ok(false);
    }
    // The text keeps its length: what is left of it is blank, which means nothing after its end.
    let (tail, end) = (&head[begin + told.len()..end + END.len()], end + END.len());
    let mut text = [format!(">{description}<").as_bytes(), tail].concat();
    if text.len() > end - begin {
        return Ok(false);
    }
    text.resize(end - begin, b' ');
    std::fs::copy(from, to)?;
    let mut file = std::fs::OpenOptions::new().write(true).open(to)?;
    file.seek(SeekFrom::Start(begin as u64))?;
    file.write_all(&text)?;
    Ok(true)
}

/// Writes `values` at `frame` as NetCDF-4 by the CF conventions, compressed without loss: one variable, called `name`, on the coordinates of the
/// CRS. `nodata` marks cells without a value, `meaning` and `unit` (empty for none) tell what they are. CF 1.5 knows no unsigned whole numbers:
/// bytes are written as signed ones of 16 bits, longer ones as real numbers of 64 bits, which hold them exactly.
///
/// # Errors
/// [`Error::Io`] where the disk takes no more; [`Error::Library`].
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
    written(|| Ok(dataset.create_copy(&driver, path, &options)?.close()?))
}

/// A raster in memory with one band, whose cells are those of a grid: it goes before the grid.
struct Lent<'a> {
    dataset: Dataset,
    cells: std::marker::PhantomData<&'a [u8]>,
}

impl std::ops::Deref for Lent<'_> {
    type Target = Dataset;

    fn deref(&self) -> &Dataset {
        &self.dataset
    }
}

impl std::ops::DerefMut for Lent<'_> {
    fn deref_mut(&mut self) -> &mut Dataset {
        &mut self.dataset
    }
}

/// A raster in memory, with one band: the cells of `values` themselves, which nobody writes to.
fn in_memory<'a, T: GdalType + Copy>(values: &'a Grid<T>, frame: &Frame, crs: &Crs) -> Result<Lent<'a>> {
    let mut dataset = lent(values, &[frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size])?;
    dataset.set_spatial_ref(&crs.reference()?)?;
    Ok(dataset)
}

fn lent<'a, T: GdalType + Copy>(values: &'a Grid<T>, geo_transform: &[f64; 6]) -> Result<Lent<'a>> {
    prepare();
    let memory = DriverManager::get_driver_by_name("MEM")?;
    let mut dataset = memory.create_with_band_type::<T, _>("", values.cols(), values.rows(), 0)?;
    dataset.set_geo_transform(geo_transform)?;
    let mut options = gdal::cpl::CslStringList::new();
    options.set_name_value("DATAPOINTER", &format!("{:p}", values.values().as_ptr()))?;
    // SAFETY: the handle is valid, and the options live as long as the call. The band reads `values`, which the result borrows.
    let told = unsafe { gdal_sys::GDALAddBand(dataset.c_dataset(), T::gdal_ordinal(), options.as_ptr()) };
    if told != gdal_sys::CPLErr::CE_None {
        return Err(Error::Io(std::io::Error::other("a raster in memory cannot be made")));
    }
    Ok(Lent { dataset, cells: std::marker::PhantomData })
}

/// Writes a raster that is ready in memory. Level 1 of Deflate takes half the time of the usual one, and the same room within a tenth.
/// Of elevations a predictor takes off a third; codes and sums it makes larger.
fn copy_as_cog(dataset: &Dataset, path: &Path, smooth: bool) -> Result<()> {
    let cog = DriverManager::get_driver_by_name("COG")?;
    let path = path.to_str().ok_or_else(|| std::io::Error::other("the path is not UTF-8"))?;
    let mut options = gdal::cpl::CslStringList::new();
    for (key, value) in [
        ("COMPRESS", "DEFLATE"),
        ("LEVEL", "1"),
        ("PREDICTOR", if smooth { "YES" } else { "NO" }),
        ("BIGTIFF", "IF_SAFER"),
        ("OVERVIEWS", "AUTO"),
        ("NUM_THREADS", "ALL_CPUS"),
    ] {
        options.set_name_value(key, value)?;
    }
    written(|| Ok(dataset.create_copy(&cog, path, &options)?.close()?))
}

/// As [`write_geographic`], cloud-optimised, as archives keep them.
///
/// # Errors
/// [`Error::Io`] where the disk takes no more; [`Error::Library`].
pub fn write_geographic_cog(
    path: &Path,
    values: &Grid<f32>,
    geo_transform: [f64; 6],
    crs: &Crs,
) -> Result<()> {
    let mut dataset = lent(values, &geo_transform)?;
    dataset.set_spatial_ref(&crs.reference()?)?;
    dataset.rasterband(1)?.set_no_data_value(Some(-9999.0))?;
    copy_as_cog(&dataset, path, true)
}

/// Writes elevations in geographic coordinates, as regional DEMs are given away: a tiled GeoTIFF.
///
/// # Errors
/// [`Error::Io`] where the disk takes no more; [`Error::Library`].
pub fn write_geographic(path: &Path, values: &Grid<f32>, geo_transform: [f64; 6], crs: &Crs) -> Result<()> {
    prepare();
    let driver = DriverManager::get_driver_by_name("GTiff")?;
    let options = gdal::raster::RasterCreationOptions::from_iter(["COMPRESS=DEFLATE", "TILED=YES"]);
    written(|| {
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
        Ok(dataset.close()?)
    })
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
    let (cols, rows) = (values.cols(), values.rows());
    // SAFETY: the band is as large as `values`, which it reads only.
    let told = unsafe {
        gdal_sys::GDALRasterIO(
            band.c_rasterband(),
            gdal_sys::GDALRWFlag::GF_Write,
            0,
            0,
            cols as i32,
            rows as i32,
            values.values().as_ptr().cast_mut().cast(),
            cols as i32,
            rows as i32,
            T::gdal_ordinal(),
            0,
            0,
        )
    };
    match told {
        gdal_sys::CPLErr::CE_None => Ok(()),
        _ => Err(Error::Io(std::io::Error::other("a raster cannot be written"))),
    }
}
