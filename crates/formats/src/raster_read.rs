//! Reading a DEM from a file.

use std::path::Path;

use bothros_core::{Grid, Monitor, Silent, memory};
use gdal::raster::{ColorInterpretation, GdalDataType, RasterBand, ResampleAlg};
use gdal::{Dataset, DatasetOptions, GdalOpenFlags};
use serde::{Deserialize, Serialize};

use crate::apart::{self, Answer, Request};
use crate::{Crs, CrsKind, Error, Result, prepare};

/// The drivers that a DEM may be opened with.
const DRIVERS: [&str; 2] = ["GTiff", "AAIGrid"];

/// Unit of elevations in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum VerticalUnit {
    /// metre
    #[serde(rename = "m")]
    Metre,
    /// international foot, 0.3048 m
    #[serde(rename = "ft")]
    Foot,
    /// US survey foot, 1200/3937 m
    #[serde(rename = "us-ft")]
    UsSurveyFoot,
}

impl VerticalUnit {
    /// Metres in one unit.
    pub fn metres(self) -> f64 {
        match self {
            Self::Metre => 1.0,
            Self::Foot => 0.3048,
            Self::UsSurveyFoot => 1200.0 / 3937.0,
        }
    }
    /// As it is written in recipes and forms.
    pub fn code(self) -> &'static str {
        match self {
            Self::Metre => "m",
            Self::Foot => "ft",
            Self::UsSurveyFoot => "us-ft",
        }
    }
    /// As it is told in a sentence.
    pub fn name(self) -> &'static str {
        match self {
            Self::Metre => "metres",
            Self::Foot => "feet",
            Self::UsSurveyFoot => "US survey feet",
        }
    }
    /// From what a file calls its unit.
    pub fn from_name(name: &str) -> Option<Self> {
        match name.trim().to_lowercase().as_str() {
            "m" | "metre" | "meter" | "metres" | "meters" => Some(Self::Metre),
            "ft" | "foot" | "feet" | "international foot" => Some(Self::Foot),
            "us-ft" | "ftus" | "us survey foot" | "us_survey_foot" | "us survey feet" => {
                Some(Self::UsSurveyFoot)
            }
            _ => None,
        }
    }
}

/// A band of a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandInfo {
    /// from 1
    pub number: usize,
    /// type of the values, e.g. `Float32`
    pub value_type: String,
    /// declared nodata value
    pub nodata: Option<f64>,
    /// what the file says the band is
    pub description: String,
    /// unit the file declares for the values
    pub unit: String,
}

/// The metadata of a raster file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RasterInfo {
    /// format in plain words
    pub format: String,
    /// columns
    pub cols: usize,
    /// rows
    pub rows: usize,
    /// the bands
    pub bands: Vec<BandInfo>,
    /// the CRS, where the file tells it
    pub crs: Option<Crs>,
    /// left, width of a cell, rotation, top, rotation, height of a cell (negative: north is up)
    pub geo_transform: [f64; 6],
    /// whether the file tells where it lies
    pub georeferenced: bool,
}

/// Whether rows run east and columns south.
pub fn is_north_up(geo_transform: &[f64; 6]) -> bool {
    let [_, width, x_turn, _, y_turn, height] = *geo_transform;
    x_turn == 0.0 && y_turn == 0.0 && width > 0.0 && height < 0.0
}

/// Whether cells are square, to a millionth.
pub fn is_square(geo_transform: &[f64; 6]) -> bool {
    let [_, width, _, _, _, height] = *geo_transform;
    (width.abs() - height.abs()).abs() <= 1e-6 * width.abs()
}

impl RasterInfo {
    /// Whether rows run east and columns south, so that the grid needs no turning.
    pub fn is_north_up(&self) -> bool {
        is_north_up(&self.geo_transform)
    }
    /// Whether cells are square, to a millionth.
    pub fn is_square(&self) -> bool {
        is_square(&self.geo_transform)
    }
    /// Whether it can be computed on as it is: projected, north up, square.
    pub fn is_ready(&self) -> bool {
        self.crs.as_ref().is_some_and(|c| c.kind == CrsKind::Projected)
            && self.is_north_up()
            && self.is_square()
    }
    /// The unit of elevations that the file declares for a band.
    pub fn vertical_unit(&self, band: usize) -> Option<VerticalUnit> {
        self.bands.get(band.checked_sub(1)?).and_then(|b| VerticalUnit::from_name(&b.unit))
    }
    /// Coordinates of the centre, in the file's CRS.
    pub fn centre(&self) -> (f64, f64) {
        let [x, dx, rx, y, ry, dy] = self.geo_transform;
        let (c, r) = (self.cols as f64 / 2.0, self.rows as f64 / 2.0);
        (x + c * dx + r * rx, y + c * ry + r * dy)
    }
}

fn open(path: &Path, name: &str) -> Result<Dataset> {
    prepare();
    let options = DatasetOptions {
        open_flags: GdalOpenFlags::GDAL_OF_RASTER | GdalOpenFlags::GDAL_OF_READONLY,
        allowed_drivers: Some(&DRIVERS),
        // A directory is never looked through; the .prj beside an ASCII grid is found by name.
        ..Default::default()
    };
    Dataset::open_ex(path, options).map_err(|error| {
        let head = std::fs::File::open(path)
            .and_then(|mut f| {
                let mut head = [0u8; 4];
                std::io::Read::read_exact(&mut f, &mut head).map(|_| head)
            })
            .unwrap_or_default();
        let is_tiff = [b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"].contains(&&head);
        if is_tiff {
            Error::Damaged { name: name.to_owned(), detail: detail(&error) }
        } else {
            Error::NotARaster { name: name.to_owned() }
        }
    })
}

/// The part of a library's message that says what, without the path of our own making.
pub(crate) fn detail(error: &gdal::errors::GdalError) -> String {
    let text = match error {
        gdal::errors::GdalError::CplError { msg, .. } => msg.clone(),
        other => other.to_string(),
    };
    let text = text.rsplit(": ").next().unwrap_or_default().trim().to_owned();
    if text.is_empty() { "it cannot be read to its end".into() } else { text }
}

/// More bands than any DEM has: satellites have dozens, and each costs memory before it is read.
const MOST_BANDS: usize = 256;
/// Most bytes that one block of all bands may take: files say how large their blocks are, and a
/// damaged or malicious one can say anything.
const MOST_BLOCK: u64 = 1 << 30;

/// Largest coordinate accepted, in any unit.
const FARTHEST: f64 = 1e9;
/// Smallest cell accepted, in any unit.
const LEAST_CELL: f64 = 1e-9;

/// Fails if coordinates or cell sizes are not numbers, or out of bounds.
///
/// # Errors
/// [`Error::Place`].
pub fn check_place(place: [f64; 6], (cols, rows): (usize, usize), name: &str) -> Result<()> {
    let bad = |what: String| Err(Error::Place { name: name.to_owned(), what });
    if let Some(value) = place.iter().find(|v| !v.is_finite()) {
        return bad(format!("a coordinate or cell size of {value}"));
    }
    let [left, width, x_turn, top, y_turn, height] = place;
    for size in [width.hypot(y_turn), x_turn.hypot(height)] {
        if !(LEAST_CELL..=FARTHEST).contains(&size) {
            return bad(format!("a cell size of {size:e}"));
        }
    }
    let (cols, rows) = (cols as f64, rows as f64);
    for (c, r) in [(0.0, 0.0), (cols, 0.0), (0.0, rows), (cols, rows)] {
        let corner = [left + c * width + r * x_turn, top + c * y_turn + r * height];
        if let Some(value) = corner.into_iter().find(|v| v.abs() > FARTHEST) {
            return bad(format!("a corner at {value:e}"));
        }
    }
    // Cells so small that neighbours have one coordinate.
    let step = width.hypot(y_turn).min(x_turn.hypot(height));
    if left.abs().max(top.abs()) * f64::EPSILON * 1e3 > step {
        return bad(format!("cells of {step:e} at {left:e}, {top:e}"));
    }
    if width * height - x_turn * y_turn == 0.0 {
        return bad("cells without an area".into());
    }
    Ok(())
}

/// Fails if a file declares more than can be read.
pub(crate) fn guard_size(dataset: &Dataset, name: &str) -> Result<()> {
    let (cols, rows) = dataset.raster_size();
    let cells = cols as u64 * rows as u64;
    if cells >= u32::MAX as u64 {
        return Err(Error::TooLarge { name: name.to_owned(), cols, rows });
    }
    let bands = dataset.raster_count();
    if bands > MOST_BANDS {
        return Err(Error::TooManyBands { name: name.to_owned(), bands });
    }
    if bands > 0 {
        let band = dataset
            .rasterband(1)
            .map_err(|e| Error::Damaged { name: name.to_owned(), detail: detail(&e) })?;
        let (width, height) = band.block_size();
        // Eight bytes at most for a value; blocks may hold all bands.
        if (width as u64).saturating_mul(height as u64).saturating_mul(8 * bands as u64) > MOST_BLOCK {
            let detail = format!("blocks of {width} x {height} cells in {bands} bands");
            return Err(Error::Damaged { name: name.to_owned(), detail });
        }
    }
    Ok(())
}

/// Reads the metadata of a raster file. `name` is what the user calls it.
///
/// # Errors
/// [`Error::NotARaster`], [`Error::Damaged`], [`Error::Picture`], [`Error::ValueType`],
/// [`Error::TooSmall`], [`Error::TooLarge`], [`Error::TooManyBands`], [`Error::Place`], [`Error::Unreadable`].
pub fn inspect(path: &Path, name: &str) -> Result<RasterInfo> {
    let request = Request::Inspect { path: path.to_owned(), name: name.to_owned() };
    match apart::ask(&request, &Silent) {
        Some(answer) => match answer? {
            Answer::Info(info) => Ok(info),
            _ => Err(Error::unexpected(name)),
        },
        None => inspect_here(path, name),
    }
}

/// As [`inspect`], in this process.
pub(crate) fn inspect_here(path: &Path, name: &str) -> Result<RasterInfo> {
    let dataset = open(path, name)?;
    let damaged = |e: gdal::errors::GdalError| Error::Damaged { name: name.to_owned(), detail: detail(&e) };
    let (cols, rows) = dataset.raster_size();
    guard_size(&dataset, name)?;
    let mut bands = Vec::new();
    let mut colours = 0;
    for number in 1..=dataset.raster_count() {
        let band = dataset.rasterband(number).map_err(damaged)?;
        let kind = band.band_type();
        let colour = matches!(
            band.color_interpretation(),
            ColorInterpretation::RedBand
                | ColorInterpretation::GreenBand
                | ColorInterpretation::BlueBand
                | ColorInterpretation::AlphaBand
                | ColorInterpretation::PaletteIndex
        );
        colours += usize::from(kind == GdalDataType::UInt8 && colour);
        let complex = !kind.is_integer() && !matches!(kind, GdalDataType::Float32 | GdalDataType::Float64);
        if complex {
            return Err(Error::ValueType { name: name.to_owned(), kind: kind.name() });
        }
        bands.push(BandInfo {
            number,
            value_type: kind.name(),
            nodata: band.no_data_value(),
            description: band_description(&band),
            unit: band.unit(),
        });
    }
    if bands.is_empty() {
        return Err(Error::NotARaster { name: name.to_owned() });
    }
    if colours == bands.len() {
        return Err(Error::Picture { name: name.to_owned(), bands: bands.len() });
    }
    if cols < 2 || rows < 2 {
        return Err(Error::TooSmall { name: name.to_owned(), cols, rows });
    }
    let format = match dataset.driver().short_name().as_str() {
        "AAIGrid" => "ASCII grid",
        _ => "GeoTIFF",
    };
    let geo_transform = dataset.geo_transform().ok();
    if let Some(place) = geo_transform {
        check_place(place, (cols, rows), name)?;
    }
    let crs = dataset.spatial_ref().ok().and_then(|r| Crs::of(&r).ok());
    Ok(RasterInfo {
        format: format.into(),
        cols,
        rows,
        bands,
        crs,
        georeferenced: geo_transform.is_some(),
        // Without a place on the ground, cells are laid out north up, one unit each.
        geo_transform: geo_transform.unwrap_or([0.0, 1.0, 0.0, rows as f64, 0.0, -1.0]),
    })
}

fn band_description(band: &RasterBand) -> String {
    // SAFETY: the handle is valid while `band` lives; the library owns the text.
    unsafe {
        let text = gdal_sys::GDALGetDescription(band.c_rasterband());
        if text.is_null() {
            String::new()
        } else {
            std::ffi::CStr::from_ptr(text).to_string_lossy().into_owned()
        }
    }
}

/// Reads a band as elevations in metres: rows x columns from the north-west corner as the file has
/// them, nodata, masked, infinite and not-a-number values as `NaN`. Values are scaled as the file
/// declares, then by `unit`.
///
/// Whole numbers beyond 2^24 and `Float64` are rounded to `f32`: at an elevation of 8,000 m that
/// is half a millimetre.
///
/// # Errors
/// [`Error::NoBand`], [`Error::Damaged`], [`Error::Cancelled`].
pub fn read_elevation(
    path: &Path,
    name: &str,
    band: usize,
    unit: VerticalUnit,
    monitor: &dyn Monitor,
) -> Result<Grid<f32>> {
    let mut values: Vec<f32> = Vec::new();
    let mut size = (0, 0);
    let mut keep = |piece: Strip<'_>| -> Result<()> {
        match piece {
            Strip::Size(rows, cols) => {
                size = (rows, cols);
                let cells = rows.checked_mul(cols).ok_or_else(|| Error::unexpected(name))?;
                memory::check(&format!("reading {name}"), cells as u64 * 4)?;
                values.try_reserve_exact(cells).map_err(std::io::Error::other)?;
            }
            Strip::Values(strip) => values.extend_from_slice(strip),
        }
        Ok(())
    };
    let request = Request::Elevation { path: path.to_owned(), name: name.to_owned(), band, unit };
    match apart::ask_for_values(&request, monitor, &mut keep) {
        Some(answer) => match answer? {
            Answer::Done => {}
            _ => return Err(Error::unexpected(name)),
        },
        None => read_strips(path, name, band, unit, monitor, &mut keep)?,
    }
    let (rows, cols) = size;
    if values.is_empty() || values.len() != rows * cols {
        return Err(Error::unexpected(name));
    }
    Ok(Grid::from_vec(rows, cols, values))
}

/// A piece of a raster on its way: first its size, then its values row by row.
pub(crate) enum Strip<'a> {
    /// rows and columns
    Size(usize, usize),
    /// elevations, metres
    Values(&'a [f32]),
}

/// As [`read_elevation`], in this process; pieces are given away as they are read.
pub(crate) fn read_strips(
    path: &Path,
    name: &str,
    band: usize,
    unit: VerticalUnit,
    monitor: &dyn Monitor,
    give: &mut dyn FnMut(Strip<'_>) -> Result<()>,
) -> Result<()> {
    let dataset = open(path, name)?;
    guard_size(&dataset, name)?;
    let bands = dataset.raster_count();
    if band == 0 || band > bands {
        return Err(Error::NoBand { band, bands });
    }
    let damaged = |e: gdal::errors::GdalError| Error::Damaged { name: name.to_owned(), detail: detail(&e) };
    let band = dataset.rasterband(band).map_err(damaged)?;
    let (cols, rows) = band.size();
    let nodata = band.no_data_value();
    let flags = band.mask_flags().map_err(damaged)?;
    let mask = (!flags.is_all_valid() && !flags.is_nodata())
        .then(|| band.open_mask_band())
        .transpose()
        .map_err(damaged)?;
    let scale = band.scale().unwrap_or(1.0) * unit.metres();
    let offset = band.offset().unwrap_or(0.0) * unit.metres();
    let plain = scale == 1.0 && offset == 0.0;
    let double = band.band_type() == GdalDataType::Float64;

    give(Strip::Size(rows, cols))?;
    let mut values: Vec<f32> = Vec::new();
    let block_rows = band.block_size().1.max(1);
    let at_once = block_rows * (((1 << 22) / (cols * block_rows)).max(1));
    let mut row = 0;
    while row < rows {
        if monitor.is_cancelled() {
            return Err(Error::Cancelled);
        }
        let count = at_once.min(rows - row);
        let window = ((0, row as isize), (cols, count));
        values.clear();
        if double {
            // Nodata of a Float64 band may lie beyond f32, so it is told apart before rounding.
            let strip =
                band.read_as::<f64>(window.0, window.1, window.1, None::<ResampleAlg>).map_err(damaged)?;
            values.extend(strip.data().iter().map(|&v| if Some(v) == nodata { f32::NAN } else { v as f32 }));
        } else {
            let strip =
                band.read_as::<f32>(window.0, window.1, window.1, None::<ResampleAlg>).map_err(damaged)?;
            let nodata = nodata.map(|v| v as f32);
            values.extend(strip.data().iter().map(|&v| if Some(v) == nodata { f32::NAN } else { v }));
        }
        if let Some(mask) = &mask {
            let mask =
                mask.read_as::<u8>(window.0, window.1, window.1, None::<ResampleAlg>).map_err(damaged)?;
            for (value, &seen) in values.iter_mut().zip(mask.data()) {
                if seen == 0 {
                    *value = f32::NAN;
                }
            }
        }
        for value in &mut values {
            if !plain {
                *value = (*value as f64 * scale + offset) as f32;
            }
            if !value.is_finite() {
                *value = f32::NAN;
            } else if *value == 0.0 {
                // One zero: minus zero would be told from it bit by bit.
                *value = 0.0;
            }
        }
        give(Strip::Values(&values))?;
        row += count;
        monitor.progress(row as f64 / rows as f64);
    }
    Ok(())
}
