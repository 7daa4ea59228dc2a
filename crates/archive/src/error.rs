//! Errors of archives, each one sentence that says what to do.

/// The errors of asking an archive.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The address is none.
    #[error("“{0}” is no address of an archive: give one that begins with http:// or https://")]
    Address(String),
    /// Nobody answers, or not in time.
    #[error("the elevation archive at {host} does not answer ({why}): check the connection and try again")]
    Silent {
        /// host and port
        host: String,
        /// what the connection says
        why: String,
    },
    /// It answers that it cannot.
    #[error("the elevation archive at {host} refuses ({status}): try again later, or ask who runs it")]
    Refused {
        /// host and port
        host: String,
        /// HTTP status
        status: u16,
    },
    /// The answer cannot be understood.
    #[error("the elevation archive at {host} gives an answer that is not STAC: {what}")]
    NotStac {
        /// host and port
        host: String,
        /// what is missing or wrong
        what: String,
    },
    /// Too much for one study.
    #[error("the archive answers with more than {most} files: choose a smaller area")]
    TooMany {
        /// the largest number examined
        most: usize,
    },
}

/// The result of asking an archive.
pub type Result<T> = std::result::Result<T, Error>;
