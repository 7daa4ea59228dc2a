//! Errors of the core, worded to say what to do.

use crate::Cell;

/// The errors of the core.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Error {
    /// The [`Monitor`](crate::Monitor) asked to stop; there is no result.
    #[error("cancelled")]
    Cancelled,
    /// There is no cell with an elevation.
    #[error("the DEM holds no cell with an elevation: every cell is nodata")]
    NoData,
    /// More cells than a 32-bit cell number can tell apart.
    #[error("the DEM has {cells} cells; at most {max} can be processed, so use a larger cell size or a smaller area", max = u32::MAX - 1)]
    TooManyCells {
        /// rows x columns
        cells: u64,
    },
    /// Two rasters that must share one grid do not.
    #[error("the rasters do not share one grid: {a_rows} x {a_cols} cells and {b_rows} x {b_cols} cells")]
    ShapeMismatch {
        /// rows of the first
        a_rows: usize,
        /// columns of the first
        a_cols: usize,
        /// rows of the second
        b_rows: usize,
        /// columns of the second
        b_cols: usize,
    },
    /// A place that has no elevation, or lies beyond the raster.
    #[error("row {}, column {} lies outside the footprint of the DEM", .0.row, .0.col)]
    OutsideFootprint(Cell),
    /// Two outlets that are one cell.
    #[error("two outlets lie in the same cell, row {}, column {}: keep one of them", .0.row, .0.col)]
    SameOutlet(Cell),
    /// Points by which a picture cannot be placed.
    #[error(
        "{points} points do not place the picture: at least three are needed that do not lie on one line"
    )]
    TooFewTiePoints {
        /// how many there are
        points: usize,
    },
    /// Snapping found no stream near enough.
    #[error("no stream cell within {distance_m} m: raise the snapping distance or lower the threshold")]
    NoStreamNear {
        /// the distance searched, metres
        distance_m: f64,
    },
    /// An error of the DEM that is none.
    #[error("the vertical error must be above 0: without an error every realisation is the DEM itself")]
    ErrorOfNothing,
    /// An error of the DEM in which the land itself is lost.
    #[error(
        "a vertical error of {sd_m} m is as large as the relief of the DEM ({relief_m:.1} m): nothing would be left of the land"
    )]
    ErrorTooLarge {
        /// its standard deviation, metres
        sd_m: f64,
        /// from the lowest to the highest elevation, metres
        relief_m: f64,
    },
    /// An error that would move the DEM as a whole.
    #[error(
        "a correlation length of {correlation_m} m does not fit the DEM, whose shorter side is {side_m:.0} m: such an error moves the DEM as a whole, and changes no flow"
    )]
    CorrelationTooLong {
        /// the correlation length, metres
        correlation_m: f64,
        /// the shorter side of the DEM, metres
        side_m: f64,
    },
    /// Neighbours that are sought too far away.
    #[error(
        "figures are found within {most} cells at most, and this is {cells}: use a shorter distance or larger cells"
    )]
    RadiusTooLarge {
        /// the distance, cells
        cells: u64,
        /// the largest
        most: u64,
    },
    /// More realisations than are counted.
    #[error("at most {most} realisations can be counted")]
    TooManyRealisations {
        /// how many
        most: u16,
    },
}

/// The result of work in the core.
pub type Result<T> = std::result::Result<T, Error>;
