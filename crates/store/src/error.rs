//! What can go wrong with what is kept.

use sea_orm::{DbErr, RuntimeErr, SqlxError};

/// The errors of the store.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The database refused.
    #[error("the database does not answer as expected: {0}")]
    Database(DbErr),
    /// The database cannot be reached.
    #[error("the database does not answer at the moment; nothing was changed. Try again in a minute")]
    Away,
    /// There is no room left.
    #[error(
        "the disk that holds the studies is full; nothing was changed. Delete studies for good that nobody needs, or make room on that disk"
    )]
    DiskFull,
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
    Io(std::io::Error),
    /// PostgreSQL could not be started.
    #[error("PostgreSQL cannot be started: {0}")]
    Server(String),
    /// A backup that cannot be made or put back.
    #[error("{0}")]
    Backup(String),
    /// What could not be read again.
    #[error("this cannot be kept: {0}")]
    NotKept(String),
    /// What is kept and cannot be read.
    #[error("{what} cannot be read: {why}")]
    Unreadable {
        /// what it is
        what: &'static str,
        /// why
        why: String,
    },
    /// The study is busy.
    #[error("the study is busy: wait until “{0}” has finished, or cancel it")]
    Busy(String),
}

/// PostgreSQL's codes for a disk that is full.
const NO_ROOM: [&str; 2] = ["53100", "58030"];
/// PostgreSQL's codes for a server that stops or starts.
const NOT_THERE: [&str; 5] = ["57P01", "57P02", "57P03", "08006", "08003"];

impl From<DbErr> for Error {
    fn from(error: DbErr) -> Self {
        if let DbErr::Conn(RuntimeErr::SqlxError(sqlx))
        | DbErr::Exec(RuntimeErr::SqlxError(sqlx))
        | DbErr::Query(RuntimeErr::SqlxError(sqlx)) = &error
        {
            match &**sqlx {
                SqlxError::Io(_)
                | SqlxError::PoolTimedOut
                | SqlxError::PoolClosed
                | SqlxError::WorkerCrashed => {
                    return Self::Away;
                }
                SqlxError::Database(told) => {
                    let code = told.code().unwrap_or_default();
                    let full = NO_ROOM.contains(&code.as_ref())
                        && (code == "53100" || told.message().contains("No space left"));
                    if full {
                        return Self::DiskFull;
                    }
                    if NOT_THERE.contains(&code.as_ref()) {
                        return Self::Away;
                    }
                }
                _ => {}
            }
        }
        match error {
            DbErr::ConnectionAcquire(_) => Self::Away,
            other => Self::Database(other),
        }
    }
}

impl From<SqlxError> for Error {
    fn from(error: SqlxError) -> Self {
        DbErr::Query(RuntimeErr::SqlxError(error.into())).into()
    }
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Self {
        match error.kind() {
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => Self::DiskFull,
            _ => Self::Io(error),
        }
    }
}

impl From<serde_json::Error> for Error {
    fn from(error: serde_json::Error) -> Self {
        Self::Database(DbErr::Json(error.to_string()))
    }
}

/// The result of work in the store.
pub type Result<T> = std::result::Result<T, Error>;

impl From<bothros_packed::Damaged> for Error {
    fn from(_: bothros_packed::Damaged) -> Self {
        Self::DamagedBlock
    }
}
