//! Files and coordinates: rasters and vectors read and written, CRS, warping. GDAL and PROJ do the
//! work; this crate knows nothing of the database or the interface.
//!
//! Files are opened with a fixed list of drivers, from a path that the caller made up, so that no
//! file can make the program read another file or an address.

// GDAL and the limits of a process are reached through C.
#![allow(unsafe_code)]

mod apart;
mod crs;
mod error;
mod geojson_read;
mod geojson_write;
mod geopackage;
mod heard;
mod mosaic;
mod picture;
mod raster_read;
mod raster_write;
mod read_onto;
mod remote;
mod unpack;
mod utility;
mod vector_read;
mod vector_write;
mod warp;

pub use apart::{ReaderProcess, read_apart, serve_reader};
pub use crs::{Crs, CrsEntry, CrsKind, Transform, degree_m, search_crs, utm_zone};
pub use error::{Error, Result};
pub use geojson_write::GeoJsonShape;
pub use mosaic::{Laying, MOST_PIECES, Mosaic, MosaicPlan, Overlap, Piece, Wish, plan_mosaic, read_mosaic};
pub use picture::{
    LaidPicture, Picture, decode_png, encode_png, laid_extent, lay_onto, lay_picture, read_picture,
    write_picture,
};
pub use raster_read::{
    BandInfo, RasterInfo, VerticalUnit, check_place, inspect, is_north_up, is_square, read_elevation,
};
pub use raster_write::{copy_cog, write_cog, write_geographic, write_geographic_cog, write_netcdf};
pub use read_onto::read_onto;
pub use remote::fetch_part;
pub use unpack::{layer_file_name, unpack};
pub use vector_read::{Asked, ReadFeature, ReadLayer, Wanted, read_features, read_features_heard, widen};
pub use vector_write::{
    Field, FieldKind, Geometry, Layer, Shape, Value, VectorFormat, short_names, write_layers,
};
pub use warp::{Placed, Resampling, WarpPlan, frame_of, plan_warp, sensible_cell_size, warp, warp_onto};

use std::sync::Once;

/// Prepares GDAL and PROJ: no network, no side files, errors returned or heard rather than printed.
pub(crate) fn prepare() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        for (key, value) in [
            ("GDAL_PAM_ENABLED", "NO"),
            ("GDAL_DISABLE_READDIR_ON_OPEN", "FALSE"),
            ("CPL_VSIL_CURL_ALLOWED_EXTENSIONS", ".none"),
            ("GDAL_HTTP_TIMEOUT", "1"),
            ("GDAL_NUM_THREADS", "ALL_CPUS"),
            ("OGR_SQLITE_SYNCHRONOUS", "OFF"),
            // A database that is read may neither load programs nor look at other files.
            ("OGR_SQLITE_PRAGMA", "trusted_schema=0"),
            ("OGR_SQLITE_LOAD_EXTENSIONS", ""),
            ("OGR_SQLITE_STATIC_VIRTUAL_OGR", "NO"),
            ("SPATIALITE_LOAD", "NO"),
            ("CPL_CURL_ENABLE_VSIMEM", "NO"),
        ] {
            // Setting an option fails only on a NUL byte in it.
            let _ = gdal::config::set_config_option(key, value);
        }
        // SAFETY: both calls only set process-wide flags of the libraries.
        unsafe {
            gdal_sys::OSRSetPROJEnableNetwork(0);
            gdal_sys::CPLSetErrorHandler(Some(heard::hear));
        }
    });
}

/// Settles what the libraries read from the environment, once for the process.
///
/// HDF5, which NetCDF-4 rests on, locks each file that it has open. A process that is begun meanwhile (PostgreSQL, a reader) takes the open file
/// along with its lock, so that GDAL cannot open again what it has just written. The files are new and nobody else knows them: they need no lock.
///
/// # Safety
/// The process must have no other thread yet.
pub unsafe fn settle() {
    // SAFETY: by the promise of the caller nobody reads the environment meanwhile.
    unsafe { std::env::set_var("HDF5_USE_FILE_LOCKING", "FALSE") };
}
