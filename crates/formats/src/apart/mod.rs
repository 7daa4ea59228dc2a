//! Reading files in a process of their own.
//!
//! An uploaded file may be malicious: to read other files, to open an address, to take all memory or
//! to keep a processor busy for ever. So files are read by another process, which begins with one file and ends
//! with it. Before it opens the file it gives up the network, other files, and memory and processor time beyond a
//! limit ([`jail`]). However it ends, the caller gets values or an [`Error`](crate::Error).
//!
//! A program sets once, with [`read_apart`], the command that starts such a process; that command calls
//! [`serve_reader`]. Without it (in unit tests of this crate) files are read where they are asked for. The
//! command is started once, loads what readers need, and forks for each file ([`starter`]): to load it takes longer than to read a
//! small file.

mod child;
mod jail;
mod parent;
mod starter;
mod wire;

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

pub use child::serve_reader;
pub(crate) use parent::{ask, ask_for_values};
pub(crate) use wire::{Answer, Request};

/// How a process that reads files is started, and what it may use.
#[derive(Debug, Clone)]
pub struct ReaderProcess {
    /// the program
    pub program: PathBuf,
    /// its arguments; the program calls [`serve_reader`] when it is started with them
    pub arguments: Vec<OsString>,
    /// address space that it may take, bytes
    pub memory_bytes: u64,
    /// processor time for a small file, seconds; larger files get more
    pub seconds: u64,
    /// how long it may be silent, without progress, before it is ended
    pub silence: Duration,
}

impl ReaderProcess {
    /// A reader with the usual limits: 3 GiB, 30 s of processor time for a small file, two minutes of silence.
    pub fn new(program: PathBuf, arguments: Vec<OsString>) -> Self {
        Self { program, arguments, memory_bytes: 3 << 30, seconds: 30, silence: Duration::from_secs(120) }
    }
}

static READER: OnceLock<ReaderProcess> = OnceLock::new();

/// Has files read in processes of their own from now on. Only the first call counts.
pub fn read_apart(with: ReaderProcess) {
    if READER.set(with).is_ok() {
        parent::make_ready();
    }
}

fn reader() -> Option<&'static ReaderProcess> {
    READER.get()
}
