//! Why a package cannot be proved, in one sentence each.

/// Why a package cannot be proved.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// the package cannot be read
    #[error("{path} cannot be read: {what}")]
    Unreadable {
        /// the package
        path: String,
        /// what the system says
        what: String,
    },
    /// a table is missing
    #[error("the package has no table {0}")]
    Missing(&'static str),
    /// a table has a value that cannot be used
    #[error("{table}, line {line}: {column} {what}")]
    Value {
        /// the table
        table: &'static str,
        /// the line of the file, from 1
        line: u64,
        /// the column
        column: &'static str,
        /// what is wrong with it
        what: String,
    },
    /// the scheme is not connected as a model must be
    #[error("the scheme cannot be run: {0}")]
    Scheme(String),
    /// the settings of the run make no sense
    #[error("{0}")]
    Settings(&'static str),
}

/// The result of reading or proving a package.
pub type Result<T> = std::result::Result<T, Error>;
