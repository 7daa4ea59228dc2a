//! What can go wrong with what is kept.

/// The errors of the store.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The database refused or could not be reached.
    #[error("the database does not answer as expected: {0}")]
    Database(#[from] sea_orm::DbErr),
    /// The job queue could not be reached.
    #[error("the job queue does not answer as expected: {0}")]
    Queue(String),
    /// Something that is not there, or not any more.
    #[error("there is no such {0}; it may have been deleted")]
    NotFound(&'static str),
    /// A raster block that cannot be decompressed.
    #[error("a block of the raster is damaged")]
    DamagedBlock,
    /// Reading or writing a file failed.
    #[error("{0}")]
    Io(#[from] std::io::Error),
    /// PostgreSQL could not be started.
    #[error("PostgreSQL cannot be started: {0}")]
    Server(String),
    /// The study is busy.
    #[error("the study is busy: wait until “{0}” has finished, or cancel it")]
    Busy(String),
}

impl From<sea_orm::SqlxError> for Error {
    fn from(error: sea_orm::SqlxError) -> Self {
        Self::Database(sea_orm::DbErr::Custom(error.to_string()))
    }
}

impl From<serde_json::Error> for Error {
    fn from(error: serde_json::Error) -> Self {
        Self::Database(sea_orm::DbErr::Json(error.to_string()))
    }
}

/// The result of work in the store.
pub type Result<T> = std::result::Result<T, Error>;
