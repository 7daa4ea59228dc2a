//! Pictures to judge a study against: aerial images and scanned maps, read and laid onto the ground.

use std::path::Path;

use bothros_core::Silent;
use gdal::raster::{ColorInterpretation, GdalDataType, ResampleAlg};
use gdal::{Dataset, DatasetOptions, GdalOpenFlags};
use serde::{Deserialize, Serialize};

use crate::apart::{self, Answer, Request};
use crate::heard::written;
use crate::raster_read::{check_place, detail};
use crate::{Crs, Error, Result, Transform, prepare};

/// The drivers that a picture may be opened with.
const DRIVERS: [&str; 3] = ["GTiff", "PNG", "JPEG"];
/// Largest number of pixels along the longer side of a stored picture.
const LONGEST: usize = 4096;

/// A picture in memory.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Picture {
    /// columns
    pub width: usize,
    /// rows
    pub height: usize,
    /// red, green, blue, opacity of each pixel, row by row from the upper left
    pub pixels: Vec<u8>,
    /// columns and rows of the file, where that is larger
    pub original: (usize, usize),
    /// the CRS, where the file tells it
    pub crs: Option<Crs>,
    /// the place of these pixels, where the file tells it: left, column step, row step, top, column step,
    /// row step
    pub geo_transform: Option<[f64; 6]>,
}

fn open(path: &Path, name: &str) -> Result<Dataset> {
    prepare();
    let options = DatasetOptions {
        open_flags: GdalOpenFlags::GDAL_OF_RASTER | GdalOpenFlags::GDAL_OF_READONLY,
        allowed_drivers: Some(&DRIVERS),
        ..Default::default()
    };
    Dataset::open_ex(path, options).map_err(|_| Error::NotAPicture { name: name.to_owned() })
}

/// Reads a picture of 8 bits: grey, with a palette, or colours, each with opacity or without. A large one is
/// reduced. `name` is what the user calls it; a world file lies beside it where there is one.
///
/// # Errors
/// [`Error::NotAPicture`], [`Error::Damaged`], [`Error::Place`], [`Error::Unreadable`].
pub fn read_picture(path: &Path, name: &str) -> Result<Picture> {
    let request = Request::Picture { path: path.to_owned(), name: name.to_owned() };
    match apart::ask(&request, &Silent) {
        Some(answer) => match answer? {
            Answer::Picture(picture) if picture.pixels.len() == picture.width * picture.height * 4 => {
                Ok(picture)
            }
            _ => Err(Error::unexpected(name)),
        },
        None => read_here(path, name),
    }
}

/// As [`read_picture`], in this process.
pub(crate) fn read_here(path: &Path, name: &str) -> Result<Picture> {
    let dataset = open(path, name)?;
    let damaged = |e: gdal::errors::GdalError| Error::Damaged { name: name.to_owned(), detail: detail(&e) };
    let no_picture = || Error::NotAPicture { name: name.to_owned() };
    let (cols, rows) = dataset.raster_size();
    let bands = dataset.raster_count();
    if bands == 0 || bands > 4 || cols < 2 || rows < 2 {
        return Err(no_picture());
    }
    let scale = (cols.max(rows) as f64 / LONGEST as f64).max(1.0);
    let (width, height) =
        (((cols as f64 / scale).round() as usize).max(1), ((rows as f64 / scale).round() as usize).max(1));
    let first = dataset.rasterband(1).map_err(damaged)?;
    let palette = first.color_interpretation() == ColorInterpretation::PaletteIndex;
    // Numbers of colours have no means.
    let resampling = if palette { ResampleAlg::NearestNeighbour } else { ResampleAlg::Average };
    let mut planes = Vec::new();
    for number in 1..=bands {
        let band = dataset.rasterband(number).map_err(damaged)?;
        if band.band_type() != GdalDataType::UInt8 {
            return Err(no_picture());
        }
        let read = band.read_as::<u8>((0, 0), (cols, rows), (width, height), Some(resampling));
        planes.push(read.map_err(damaged)?.data().to_vec());
    }
    let colours: Option<Vec<[u8; 4]>> = first.color_table().filter(|_| palette).map(|table| {
        let entry = |i: usize| table.entry_as_rgb(i).map(|c| [c.r as u8, c.g as u8, c.b as u8, c.a as u8]);
        (0..table.entry_count()).map(|i| entry(i).unwrap_or([0; 4])).collect()
    });
    let nodata = first.no_data_value();
    let mut pixels = Vec::with_capacity(width * height * 4);
    for at in 0..width * height {
        let value = |plane: usize| planes.get(plane).map_or(0, |values: &Vec<u8>| values[at]);
        let mut pixel = match (&colours, bands) {
            (Some(table), 1) => table.get(value(0) as usize).copied().unwrap_or([0; 4]),
            (_, 1) => [value(0), value(0), value(0), 255],
            (_, 2) => [value(0), value(0), value(0), value(1)],
            (_, 3) => [value(0), value(1), value(2), 255],
            _ => [value(0), value(1), value(2), value(3)],
        };
        if let Some(nodata) = nodata
            && (0..bands.min(3)).all(|plane| value(plane) as f64 == nodata)
        {
            pixel[3] = 0;
        }
        pixels.extend(pixel);
    }
    let (across, down) = (cols as f64 / width as f64, rows as f64 / height as f64);
    let geo_transform = dataset.geo_transform().ok();
    if let Some(place) = geo_transform {
        check_place(place, (cols, rows), name)?;
    }
    let geo_transform =
        geo_transform.map(|g| [g[0], g[1] * across, g[2] * down, g[3], g[4] * across, g[5] * down]);
    let crs = dataset.spatial_ref().ok().and_then(|r| Crs::of(&r).ok());
    Ok(Picture { width, height, pixels, original: (cols, rows), crs, geo_transform })
}

/// A picture north up on the ground.
#[derive(Debug, Clone, PartialEq)]
pub struct LaidPicture {
    /// columns
    pub width: usize,
    /// rows
    pub height: usize,
    /// red, green, blue, opacity; beyond the picture all is 0
    pub pixels: Vec<u8>,
    /// west, south, east, north, CRS units
    pub extent: [f64; 4],
}

/// Where a picture of `(width, height)` pixels comes to lie north up: west, south, east, north; the edge of
/// a pixel; columns and rows.
///
/// # Errors
/// [`Error::NotConvertible`] where it reaches beyond what the CRS can tell.
pub fn laid_extent(
    (width, height): (usize, usize),
    geo_transform: [f64; 6],
    from: &Crs,
    to: &Crs,
) -> Result<([f64; 4], f64, usize, usize)> {
    let same = from.same_as(to)?;
    let forth = Transform::new(from, to)?;
    let g = geo_transform;
    let (w, h) = (width as f64, height as f64);
    let ground = |c: f64, r: f64| (g[0] + c * g[1] + r * g[2], g[3] + c * g[4] + r * g[5]);
    let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    for step in 0..=16 {
        let t = step as f64 / 16.0;
        for (c, r) in [(t * w, 0.0), (t * w, h), (0.0, t * h), (w, t * h)] {
            let (x, y) = ground(c, r);
            let (x, y) = if same { (x, y) } else { forth.point(x, y)? };
            extent = [extent[0].min(x), extent[1].min(y), extent[2].max(x), extent[3].max(y)];
        }
    }
    let (span_x, span_y) = (extent[2] - extent[0], extent[3] - extent[1]);
    // As many pixels as the picture has along its diagonal, square on the ground.
    let step = (span_x.hypot(span_y) / w.hypot(h)).max(span_x.max(span_y) / LONGEST as f64);
    let (width, height) =
        (((span_x / step).ceil() as usize).max(1), ((span_y / step).ceil() as usize).max(1));
    let extent = [extent[0], extent[3] - height as f64 * step, extent[0] + width as f64 * step, extent[3]];
    Ok((extent, step, width, height))
}

/// Pixels between places that are converted exactly; between them places are found by proportion.
const LATTICE: usize = 16;

/// Lays a picture, whose place is `geo_transform` in `from`, north up onto the ground in `to`. Colours
/// between pixels are found bilinearly.
///
/// # Errors
/// [`Error::NotConvertible`] where it reaches beyond what the CRS can tell.
pub fn lay_picture(picture: &Picture, geo_transform: [f64; 6], from: &Crs, to: &Crs) -> Result<LaidPicture> {
    let size = (picture.width, picture.height);
    let (extent, _, width, height) = laid_extent(size, geo_transform, from, to)?;
    let pixels = lay_onto(picture, geo_transform, from, to, extent, (width, height))?;
    Ok(LaidPicture { width, height, pixels, extent })
}

/// The pixels of a picture, whose place is `geo_transform` in `from`, north up over `extent` (west, south, east, north) of
/// `to`, in `(width, height)` pixels: red, green, blue, opacity, row by row; beyond the picture all is 0.
///
/// # Errors
/// [`Error::NotConvertible`] where it reaches beyond what the CRS can tell.
pub fn lay_onto(
    picture: &Picture,
    geo_transform: [f64; 6],
    from: &Crs,
    to: &Crs,
    extent: [f64; 4],
    (width, height): (usize, usize),
) -> Result<Vec<u8>> {
    let same = from.same_as(to)?;
    let back = Transform::new(to, from)?;
    let g = geo_transform;
    let (step_x, step_y) = ((extent[2] - extent[0]) / width as f64, (extent[3] - extent[1]) / height as f64);
    let determinant = g[1] * g[5] - g[2] * g[4];
    let source = |x: f64, y: f64| {
        let (dx, dy) = (x - g[0], y - g[3]);
        [(dx * g[5] - dy * g[2]) / determinant, (dy * g[1] - dx * g[4]) / determinant]
    };
    let (knots_x, knots_y) = (width.div_ceil(LATTICE) + 1, height.div_ceil(LATTICE) + 1);
    let mut knots = Vec::with_capacity(knots_x * knots_y);
    for j in 0..knots_y {
        for i in 0..knots_x {
            let (x, y) =
                (extent[0] + (i * LATTICE) as f64 * step_x, extent[3] - (j * LATTICE) as f64 * step_y);
            let (x, y) = if same { (x, y) } else { back.point(x, y)? };
            knots.push(source(x, y));
        }
    }
    let mut pixels = vec![0u8; width * height * 4];
    for (row, line) in pixels.chunks_exact_mut(width * 4).enumerate() {
        let v = (row as f64 + 0.5) / LATTICE as f64;
        let (j, v) = (v as usize, v.fract());
        for (col, pixel) in line.chunks_exact_mut(4).enumerate() {
            let u = (col as f64 + 0.5) / LATTICE as f64;
            let (i, u) = (u as usize, u.fract());
            let knot = |i: usize, j: usize| knots[j * knots_x + i];
            let (a, b, c, d) = (knot(i, j), knot(i + 1, j), knot(i, j + 1), knot(i + 1, j + 1));
            let between =
                |k: usize| (a[k] * (1.0 - u) + b[k] * u) * (1.0 - v) + (c[k] * (1.0 - u) + d[k] * u) * v;
            sample(picture, between(0), between(1), pixel);
        }
    }
    Ok(pixels)
}

/// The colour of a picture at a place in it, pixels from its upper left corner.
fn sample(picture: &Picture, x: f64, y: f64, out: &mut [u8]) {
    let (w, h) = (picture.width, picture.height);
    if !(x >= 0.0 && y >= 0.0 && x < w as f64 && y < h as f64) {
        return;
    }
    let (x, y) = ((x - 0.5).clamp(0.0, (w - 1) as f64), (y - 0.5).clamp(0.0, (h - 1) as f64));
    let (x0, y0) = (x as usize, y as usize);
    let (x1, y1) = ((x0 + 1).min(w - 1), (y0 + 1).min(h - 1));
    let (u, v) = (x.fract(), y.fract());
    let at = |x: usize, y: usize, k: usize| picture.pixels[(y * w + x) * 4 + k] as f64;
    for (k, out) in out.iter_mut().enumerate() {
        let above = at(x0, y0, k) * (1.0 - u) + at(x1, y0, k) * u;
        let below = at(x0, y1, k) * (1.0 - u) + at(x1, y1, k) * u;
        *out = (above * (1.0 - v) + below * v).round() as u8;
    }
}

/// Packs pixels (red, green, blue, opacity; row by row from the upper left) as PNG, fast rather than small.
///
/// # Errors
/// [`Error::Io`] where there are not `width` x `height` pixels.
pub fn encode_png(width: usize, height: usize, pixels: &[u8]) -> Result<Vec<u8>> {
    let mut out = Vec::with_capacity(pixels.len() / 3);
    let mut encoder = png::Encoder::new(&mut out, width as u32, height as u32);
    encoder.set_color(png::ColorType::Rgba);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_compression(png::Compression::Fast);
    let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(pixels));
    written.map_err(std::io::Error::other)?;
    Ok(out)
}

/// Unpacks what [`encode_png`] has packed.
///
/// # Errors
/// [`Error::Io`] for anything else.
pub fn decode_png(png: &[u8]) -> Result<Picture> {
    let reader = png::Decoder::new(std::io::Cursor::new(png)).read_info();
    let mut reader = reader.map_err(std::io::Error::other)?;
    let size =
        reader.output_buffer_size().ok_or_else(|| std::io::Error::other("the picture is too large"))?;
    let mut pixels = vec![0; size];
    let info = reader.next_frame(&mut pixels).map_err(std::io::Error::other)?;
    let (width, height) = (info.width as usize, info.height as usize);
    Ok(Picture { width, height, pixels, original: (width, height), crs: None, geo_transform: None })
}

/// Writes a picture with its place as a GeoTIFF of three colours.
///
/// # Errors
/// [`Error::Library`], e.g. where the disk is full.
pub fn write_picture(
    path: &Path,
    width: usize,
    rgb: &[u8],
    geo_transform: [f64; 6],
    crs: &Crs,
) -> Result<()> {
    prepare();
    let height = rgb.len() / 3 / width;
    let driver = gdal::DriverManager::get_driver_by_name("GTiff")?;
    let options =
        gdal::raster::RasterCreationOptions::from_iter(["COMPRESS=DEFLATE", "TILED=YES", "PHOTOMETRIC=RGB"]);
    written(|| {
        let mut dataset =
            driver.create_with_band_type_with_options::<u8, _>(path, width, height, 3, &options)?;
        dataset.set_geo_transform(&geo_transform)?;
        dataset.set_spatial_ref(&crs.reference()?)?;
        for plane in 0..3 {
            let values: Vec<u8> = rgb.chunks_exact(3).map(|p| p[plane]).collect();
            let mut buffer = gdal::raster::Buffer::new((width, height), values);
            dataset.rasterband(plane + 1)?.write((0, 0), (width, height), &mut buffer)?;
        }
        Ok(dataset.close()?)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chequers(width: usize, height: usize) -> Picture {
        let pixels = (0..width * height)
            .flat_map(|i| {
                if (i / width / 8 + i % width / 8).is_multiple_of(2) {
                    [200, 30, 30, 255]
                } else {
                    [20, 20, 220, 255]
                }
            })
            .collect();
        Picture { width, height, pixels, original: (width, height), crs: None, geo_transform: None }
    }

    #[test]
    fn a_picture_that_lies_north_up_stays_as_it_is() {
        let utm = Crs::parse("EPSG:32628").unwrap();
        let picture = chequers(64, 48);
        let laid = lay_picture(&picture, [500_000.0, 2.0, 0.0, 4_760_000.0, 0.0, -2.0], &utm, &utm).unwrap();
        assert_eq!(
            (laid.width, laid.height, laid.extent[0], laid.extent[3]),
            (64, 48, 500_000.0, 4_760_000.0)
        );
        assert_eq!(laid.pixels, picture.pixels);
    }

    #[test]
    fn a_turned_picture_lies_where_its_corners_do() {
        let utm = Crs::parse("EPSG:32628").unwrap();
        let picture = chequers(64, 64);
        // A quarter turn: columns run north, rows east.
        let laid = lay_picture(&picture, [1000.0, 0.0, 1.0, 2000.0, 1.0, 0.0], &utm, &utm).unwrap();
        assert_eq!(laid.extent, [1000.0, 2000.0, 1064.0, 2064.0]);
        // North-west on the ground is the upper right corner of the picture.
        assert_eq!(&laid.pixels[..4], &picture.pixels[63 * 4..64 * 4]);
        // Half a turn of 45 degrees leaves corners empty.
        let turned = lay_picture(&picture, [0.0, 0.7, 0.7, 0.0, 0.7, -0.7], &utm, &utm).unwrap();
        assert_eq!(turned.pixels[3], 0);
        let middle = (turned.height / 2 * turned.width + turned.width / 2) * 4;
        assert_eq!(turned.pixels[middle + 3], 255);
    }

    #[test]
    fn what_is_written_is_read_and_what_is_no_picture_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.tif");
        let utm = Crs::parse("EPSG:32628").unwrap();
        let rgb: Vec<u8> = (0..30 * 20 * 3).map(|i| (i % 251) as u8).collect();
        let place = [500_000.0, 2.0, 0.0, 4_760_000.0, 0.0, -2.0];
        write_picture(&path, 30, &rgb, place, &utm).unwrap();
        let read = read_picture(&path, "a.tif").unwrap();
        assert_eq!((read.width, read.height, read.geo_transform), (30, 20, Some(place)));
        assert_eq!(read.crs.unwrap().epsg, Some(32628));
        assert!(read.pixels.chunks(4).zip(rgb.chunks(3)).all(|(a, b)| a[..3] == *b && a[3] == 255));
        let text = dir.path().join("b.png");
        std::fs::write(&text, "no picture at all").unwrap();
        assert!(matches!(read_picture(&text, "b.png"), Err(Error::NotAPicture { .. })));
    }
}
