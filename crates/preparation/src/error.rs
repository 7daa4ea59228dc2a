//! What can go wrong in preparing a DEM.

/// The errors of preparing a DEM.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// nothing tells what the coordinates mean
    #[error("choose the CRS of the file first")]
    NoCrs,
    /// a CRS in degrees, or of another kind
    #[error("{crs} is not projected: areas and slopes need eastings and northings")]
    NotProjected {
        /// what it is called
        crs: String,
    },
    /// a clip beside the DEM
    #[error("{clip} does not cover any cell of the DEM: choose another clip")]
    Outside {
        /// what it is called
        clip: String,
    },
    /// from the computation
    #[error("{0}")]
    Core(#[from] bothros_core::Error),
    /// from a CRS, or warping
    #[error("{0}")]
    Formats(#[from] bothros_formats::Error),
    /// more memory than a step may take
    #[error("{0}")]
    Memory(#[from] bothros_core::memory::TooMuch),
}

/// The result of preparing a DEM.
pub type Result<T> = std::result::Result<T, Error>;
