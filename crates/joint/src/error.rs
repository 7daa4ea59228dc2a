//! What can go wrong: one sentence that names the place and says what to do.

/// The errors of work that is shared.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The place is no directory and no address of an object store.
    #[error("{place} is no place to share work in: {why}")]
    Place {
        /// as it was given
        place: String,
        /// what is wrong
        why: String,
    },
    /// Something there cannot be read or written.
    #[error("{name} in {place}: {why}")]
    Access {
        /// as it was given
        place: String,
        /// what was read or written
        name: String,
        /// what is wrong
        why: String,
    },
    /// What was read is not what was written.
    #[error("{name} in {place} is damaged: delete what lies there, and begin anew")]
    Damaged {
        /// as it was given
        place: String,
        /// what was read
        name: String,
    },
    /// Another version of the program began.
    #[error(
        "the work in {place} was begun by {begun}, and this is {own}: take the same version on every machine, or another place"
    )]
    Version {
        /// as it was given
        place: String,
        /// who began
        begun: String,
        /// who is here
        own: String,
    },
    /// Other work lies there.
    #[error("{place} holds other work: {why}; take another place")]
    Other {
        /// as it was given
        place: String,
        /// how it differs
        why: String,
    },
    /// The computation failed.
    #[error(transparent)]
    Core(#[from] bothros_core::Error),
}

pub(crate) type Result<T> = std::result::Result<T, Error>;
