//! What can go wrong in a step, in one sentence for the person who asked for it.

/// The errors of the steps.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// from the computation
    #[error("{0}")]
    Core(#[from] bothros_core::Error),
    /// from reading or writing a file
    #[error("{0}")]
    Formats(#[from] bothros_formats::Error),
    /// from preparing a DEM
    #[error("{0}")]
    Preparation(bothros_preparation::Error),
    /// from an elevation archive
    #[error("{0}")]
    Archive(#[from] bothros_archive::Error),
    /// from the store
    #[error("{0}")]
    Store(#[from] bothros_store::Error),
    /// from the disk
    #[error("{0}")]
    Io(#[from] std::io::Error),
    /// more memory than a step may take
    #[error("{0}")]
    Memory(#[from] bothros_core::memory::TooMuch),
    /// facts that cannot be read
    #[error("what is kept of the study cannot be read: {0}")]
    Facts(#[from] serde_json::Error),
    /// from putting tables together
    #[error("{0}")]
    Products(#[from] bothros_products::Error),
    /// from laying out a sheet
    #[error("{0}")]
    Sheets(#[from] bothros_sheets::Error),
    /// writing the package
    #[error("the package cannot be written: {0}")]
    Zip(#[from] zip::result::ZipError),
    /// from what is shared with other workers
    #[error("what workers share: {0}")]
    Shared(bothros_joint::Error),
    /// asked for something that cannot be
    #[error("{0}")]
    Refused(String),
}

impl Error {
    /// Asked for what needs the prepared DEM, before there is one.
    pub fn not_prepared() -> Self {
        Self::Refused("prepare the DEM first".into())
    }
    /// As [`Error::not_prepared`], where the Terrain stage tells what is missing.
    pub fn not_ready() -> Self {
        Self::Refused("the DEM is not ready yet: see the findings of the Terrain stage".into())
    }
    /// Asked for what needs flow, before flow is routed.
    pub fn not_routed() -> Self {
        Self::Refused("there is no flow accumulation yet: condition and route flow first".into())
    }
    /// whether it only reports cancellation.
    pub fn is_cancelled(&self) -> bool {
        matches!(
            self,
            Self::Core(bothros_core::Error::Cancelled) | Self::Formats(bothros_formats::Error::Cancelled)
        ) || matches!(self, Self::Store(bothros_store::Error::Io(e)) if e.kind() == std::io::ErrorKind::Interrupted)
    }
    /// Whether the fault lies with what was asked for, rather than with the server.
    pub fn is_users(&self) -> bool {
        match self {
            Self::Core(_) | Self::Archive(_) | Self::Preparation(_) | Self::Refused(_) => true,
            Self::Formats(e) => {
                !matches!(e, bothros_formats::Error::Library(_) | bothros_formats::Error::Io(_))
            }
            Self::Store(e) => {
                use bothros_store::Error::{Busy, NotFound, NotKept};
                matches!(e, NotFound(_) | Busy(_) | NotKept(_))
            }
            Self::Memory(_) => true,
            Self::Sheets(e) => !matches!(e, bothros_sheets::Error::Written(_)),
            _ => false,
        }
    }
}

/// The result of a step.
pub type Result<T> = std::result::Result<T, Error>;

impl From<bothros_preparation::Error> for Error {
    fn from(error: bothros_preparation::Error) -> Self {
        use bothros_preparation::Error::{Core, Formats, Memory};
        match error {
            Core(error) => error.into(),
            Formats(error) => error.into(),
            Memory(error) => error.into(),
            other => Self::Preparation(other),
        }
    }
}

impl From<bothros_joint::Error> for Error {
    fn from(error: bothros_joint::Error) -> Self {
        match error {
            bothros_joint::Error::Core(error) => error.into(),
            other => Self::Shared(other),
        }
    }
}
