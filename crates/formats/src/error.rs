//! What can be wrong with a file, in one sentence that tells what to do.

use serde::{Deserialize, Serialize};

/// The errors of reading and writing.
#[derive(Debug, thiserror::Error, Serialize, Deserialize)]
pub enum Error {
    /// Not one of the formats that are read.
    #[error("{name} is neither a GeoTIFF nor an ASCII grid: choose a DEM in one of these formats")]
    NotARaster {
        /// name of the file as the user knows it
        name: String,
    },
    /// The file is damaged.
    #[error("{name} is damaged or cut short ({detail}): export or copy it again")]
    Damaged {
        /// name of the file as the user knows it
        name: String,
        /// what the library said
        detail: String,
    },
    /// A picture instead of elevations.
    #[error(
        "{name} is a picture ({bands} bands of 8-bit colour), not elevations: choose the DEM it was drawn from"
    )]
    Picture {
        /// name of the file as the user knows it
        name: String,
        /// number of bands
        bands: usize,
    },
    /// Not a picture that is read.
    #[error(
        "{name} is no picture that can be shown: choose a GeoTIFF, PNG or JPEG of 8 bits, grey or in colours"
    )]
    NotAPicture {
        /// name of the file as the user knows it
        name: String,
    },
    /// A type of value that is no elevation.
    #[error(
        "{name} holds values of type {kind}, which cannot be elevations: choose a DEM with whole or real numbers"
    )]
    ValueType {
        /// name of the file as the user knows it
        name: String,
        /// the type's name
        kind: String,
    },
    /// A DEM too small to hold any slope.
    #[error("{name} has {cols} x {rows} cells; a DEM needs at least 2 x 2")]
    TooSmall {
        /// name of the file as the user knows it
        name: String,
        /// columns
        cols: usize,
        /// rows
        rows: usize,
    },
    /// A DEM with more cells than can be told apart.
    #[error(
        "{name} has {cols} x {rows} cells; at most 4 294 967 294 can be processed, so use a larger cell size or a smaller area"
    )]
    TooLarge {
        /// name of the file as the user knows it
        name: String,
        /// columns
        cols: usize,
        /// rows
        rows: usize,
    },
    /// A mosaic of more cells than can be told apart.
    #[error(
        "together the files have {cells} cells; at most 4 294 967 294 can be processed, so use a larger cell size or fewer files"
    )]
    TooManyCells {
        /// number of cells
        cells: u64,
    },
    /// More bands than one.
    #[error("{name} has {bands} bands; one is needed")]
    OneBand {
        /// name of the file as the user knows it
        name: String,
        /// number of bands
        bands: usize,
    },
    /// A raster of another area.
    #[error(
        "{name} does not cover any cell of the DEM: check that it belongs to this area and says the right CRS"
    )]
    Elsewhere {
        /// name of the file as the user knows it
        name: String,
    },
    /// More files than can be put together at once, or none.
    #[error("{files} files cannot be put together; between 1 and {most} can")]
    TooManyFiles {
        /// number of files
        files: usize,
        /// the most
        most: usize,
    },
    /// More bands than a DEM can have.
    #[error("{name} has {bands} bands; a DEM has one or a few: choose the file that holds elevations")]
    TooManyBands {
        /// name of the file as the user knows it
        name: String,
        /// number of bands
        bands: usize,
    },
    /// A band that is not there.
    #[error("there is no band {band}: the file has {bands}")]
    NoBand {
        /// the band asked for, from 1
        band: usize,
        /// number of bands
        bands: usize,
    },
    /// A CRS that is not known.
    #[error(
        "“{0}” is no coordinate reference system that is known here: give an EPSG code such as EPSG:32628, or search by name"
    )]
    UnknownCrs(String),
    /// Coordinates that cannot be converted.
    #[error("these coordinates cannot be converted to {0}: they lie outside its area")]
    NotConvertible(String),
    /// A warp that would give an unreasonably large raster.
    #[error(
        "a cell size of {cell_size} would give {cols} x {rows} cells; choose a cell size between {least} and {most}"
    )]
    CellSize {
        /// the size asked for, CRS units
        cell_size: f64,
        /// columns
        cols: f64,
        /// rows
        rows: f64,
        /// least sensible
        least: f64,
        /// greatest sensible
        most: f64,
    },
    /// Not a vector file that is read.
    #[error(
        "{name} is no GeoPackage, GeoJSON, Shapefile, FlatGeobuf or CSV that can be read: export it as one of these"
    )]
    NotAVector {
        /// name of the file as the user knows it
        name: String,
    },
    /// A layer that does not exist, or an ambiguous one.
    #[error("{name} holds the layers {layers}: name one of them{}", if layer.is_empty() { String::new() } else { format!(", there is no {layer}") })]
    NoLayer {
        /// name of the file as the user knows it
        name: String,
        /// what was asked for, empty for nothing
        layer: String,
        /// what is there
        layers: String,
    },
    /// No feature of the sort that is wanted.
    #[error("{name} holds no {wanted}: choose a file or layer that does")]
    NothingWanted {
        /// name of the file as the user knows it
        name: String,
        /// points, lines, polygons
        wanted: String,
    },
    /// Features that do not tell their CRS.
    #[error("{name} does not tell its CRS: choose the one its coordinates are in")]
    LayerWithoutCrs {
        /// name of the file as the user knows it
        name: String,
        /// west, south, east and north of its features, in its own units
        extent: [f64; 4],
    },
    /// A file that does not tell its CRS.
    #[error("{name} does not tell its CRS: assign the one its coordinates are in and save it again")]
    NoCrs {
        /// name of the file as the user knows it
        name: String,
    },
    /// A file somewhere else that cannot be fetched.
    #[error("{name} cannot be fetched ({detail}): try again, or ask who runs the archive")]
    Remote {
        /// name of the file as the user knows it
        name: String,
        /// what the connection says
        detail: String,
    },
    /// A table that cannot be read.
    #[error("{name}, line {line}: {what}")]
    Table {
        /// name of the file as the user knows it
        name: String,
        /// from 1
        line: u64,
        /// what is wrong
        what: String,
    },
    /// The work was cancelled.
    #[error("cancelled")]
    Cancelled,
    /// A file that says that it lies nowhere.
    #[error("{name} tells no place that can be: {what}. Export it again with a sound georeference")]
    Place {
        /// name of the file as the user knows it
        name: String,
        /// what it says
        what: String,
    },
    /// A file that holds more than data.
    #[error("{name} is not read: {what}")]
    Hostile {
        /// name of the file as the user knows it
        name: String,
        /// what it holds, and what to do
        what: String,
    },
    /// A file whose reading was ended.
    #[error("{name} could not be read: {why}. Export it again, or a smaller part of it")]
    Unreadable {
        /// name of the file as the user knows it
        name: String,
        /// why
        why: String,
    },
    /// More memory than work may take.
    #[error("{0}")]
    Memory(String),
    /// An archive that cannot be unpacked.
    #[error("{name} {what}")]
    Archive {
        /// name of the file as the user knows it
        name: String,
        /// what is wrong, and what to do
        what: String,
    },
    /// Anything else from the library.
    #[error("{0}")]
    Library(String),
    /// A file that cannot be read or written.
    #[error("{0}")]
    Io(
        #[from]
        #[serde(with = "io_in_words")]
        std::io::Error,
    ),
}

impl Error {
    /// The error when a reader gives an unexpected answer.
    pub(crate) fn unexpected(name: &str) -> Self {
        Self::Unreadable { name: name.to_owned(), why: "what came of it was not all of it".into() }
    }
}

impl From<gdal::errors::GdalError> for Error {
    fn from(error: gdal::errors::GdalError) -> Self {
        Self::Library(error.to_string())
    }
}

impl From<bothros_core::memory::TooMuch> for Error {
    fn from(error: bothros_core::memory::TooMuch) -> Self {
        Self::Memory(error.to_string())
    }
}

/// An error of the system as its number and words.
mod io_in_words {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use std::io::Error;

    pub fn serialize<S: Serializer>(error: &Error, to: S) -> Result<S::Ok, S::Error> {
        (error.raw_os_error(), error.to_string()).serialize(to)
    }
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Error, D::Error> {
        let (number, text): (Option<i32>, String) = Deserialize::deserialize(from)?;
        Ok(number.map_or_else(|| Error::other(text), Error::from_raw_os_error))
    }
}

/// The result of reading or writing.
pub type Result<T> = std::result::Result<T, Error>;
