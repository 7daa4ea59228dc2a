//! Errors of map servers, each one sentence that says what to do.

/// The errors of asking a map server.
#[derive(Debug, Clone, thiserror::Error)]
pub enum Error {
    /// The list of servers cannot be read.
    #[error("the list of map servers: {0}")]
    Config(String),
    /// Nobody answers, or not in time.
    #[error("the map server of “{name}” does not answer ({why})")]
    Silent {
        /// name of the map
        name: String,
        /// what the connection says
        why: String,
    },
    /// It answers that it cannot.
    #[error("the map server of “{name}” refuses: {why}")]
    Refused {
        /// name of the map
        name: String,
        /// status, or what it says
        why: String,
    },
    /// The answer cannot be understood.
    #[error("the map server of “{name}” answers with something else than {wanted}")]
    Odd {
        /// name of the map
        name: String,
        /// what was asked for
        wanted: &'static str,
    },
    /// Places cannot be converted to the CRS of the map.
    #[error("“{name}” cannot be laid onto this study: {why}")]
    Place {
        /// name of the map
        name: String,
        /// what the conversion says
        why: String,
    },
    /// There is no such map.
    #[error("there is no such map server")]
    Unknown,
}

/// The result of asking a map server.
pub type Result<T> = std::result::Result<T, Error>;
