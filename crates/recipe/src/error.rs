//! What can go wrong with a recipe: one sentence that names the file or the key and says what to do.

use std::path::{Path, PathBuf};

/// The errors of recipes.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The recipe, or the call, is wrong.
    #[error("{0}")]
    Recipe(String),
    /// The data cannot be used.
    #[error("{0}")]
    Data(String),
    /// The work was cancelled.
    #[error("cancelled")]
    Cancelled,
    /// What is shared with other processes cannot be read or written.
    #[error("{0}")]
    Share(String),
    /// A result cannot be written.
    #[error("{}: {error}", path.display())]
    Write {
        /// where
        path: PathBuf,
        /// why
        error: String,
    },
}

impl Error {
    /// The exit status of the command line: 2 for the recipe or the call, 3 for data, 1 otherwise.
    pub fn exit_status(&self) -> u8 {
        match self {
            Self::Recipe(_) => 2,
            Self::Data(_) => 3,
            _ => 1,
        }
    }
    pub(crate) fn key(key: &str, what: impl std::fmt::Display) -> Self {
        Self::Recipe(format!("{key}: {what}"))
    }
    pub(crate) fn data(key: &str, what: impl std::fmt::Display) -> Self {
        Self::Data(format!("{key}: {what}"))
    }
    pub(crate) fn write(path: &Path, error: impl std::fmt::Display) -> Self {
        Self::Write { path: path.to_owned(), error: error.to_string() }
    }
}

impl From<bothros_core::Error> for Error {
    fn from(error: bothros_core::Error) -> Self {
        match error {
            bothros_core::Error::Cancelled => Self::Cancelled,
            other => Self::Data(other.to_string()),
        }
    }
}

impl From<bothros_joint::Error> for Error {
    fn from(error: bothros_joint::Error) -> Self {
        use bothros_joint::Error as E;
        match error {
            E::Core(error) => error.into(),
            E::Place { .. } | E::Other { .. } | E::Version { .. } => Self::key("--share", error),
            E::Access { .. } | E::Damaged { .. } => Self::Share(error.to_string()),
        }
    }
}

impl From<bothros_products::Error> for Error {
    fn from(error: bothros_products::Error) -> Self {
        match error {
            bothros_products::Error::Core(error) => error.into(),
            other => Self::Data(other.to_string()),
        }
    }
}

/// The result of reading or running a recipe.
pub type Result<T> = std::result::Result<T, Error>;
