//! Memory that lies on disk where it must: large blocks of a process in files, within a limit of resident memory.
//!
//! Grids of a large DEM do not fit memory, but what works on them goes through them by tiles and rows, and needs few of
//! their pages at a time. While a [`Limit`] lives, each block of [`LARGE`] bytes or more is a mapped file without a name:
//! the system reads and writes its pages as they are touched, and they are let go of when the process holds
//! more of them than it may. Nothing that computes knows of it, so that results are the same to the bit.
//!
//! The program installs [`Spilling`] as its allocator; without it a limit is refused.
//!
//! ```
//! use bothros_spill::{Error, Limit};
//! // Documentation is built with the usual allocator.
//! assert!(matches!(Limit::begin(&std::env::temp_dir(), 1 << 30), Err(Error::NotInstalled)));
//! ```
// Memory is asked of the system itself here.
#![allow(unsafe_code)]

mod blocks;
mod watch;

use std::alloc::{GlobalAlloc, Layout, System};
use std::os::fd::{IntoRawFd, OwnedFd};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};

pub use watch::resident;

/// Blocks of so many bytes and more lie on disk while there is a limit.
pub const LARGE: usize = 8 << 20;

/// The directory of the files; negative where there is no limit.
static DIRECTORY: AtomicI32 = AtomicI32::new(-1);
/// Whether [`Spilling`] is the allocator of this process.
static INSTALLED: AtomicBool = AtomicBool::new(false);
/// Whether a file could not be made, e.g. as the disk is full, and memory was taken in its place.
static REFUSED: AtomicBool = AtomicBool::new(false);

/// Why there is no limit.
#[derive(Debug)]
pub enum Error {
    /// the program was built with another allocator
    NotInstalled,
    /// another limit holds already
    Held,
    /// the directory takes no files without a name
    Directory(std::io::Error),
}

impl std::fmt::Display for Error {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NotInstalled => f.write_str("this program cannot keep its memory on disk"),
            Self::Held => f.write_str("another run of this process keeps its memory on disk already"),
            Self::Directory(error) => write!(f, "memory cannot be kept on disk there: {error}"),
        }
    }
}

impl std::error::Error for Error {}

/// The allocator of the system, but for large blocks while there is a [`Limit`].
pub struct Spilling;

// SAFETY: blocks come from the system's allocator, or are mappings of their own that are as large as was asked, begin at a page, and
// are kept in a list until they are given back; each is given back to where it came from.
unsafe impl GlobalAlloc for Spilling {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        match on_disk(layout) {
            Some(block) => block,
            // SAFETY: as the caller promises.
            None => unsafe { System.alloc(layout) },
        }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        match on_disk(layout) {
            // A new file reads as zeros.
            Some(block) => block,
            // SAFETY: as the caller promises.
            None => unsafe { System.alloc_zeroed(layout) },
        }
    }

    unsafe fn dealloc(&self, block: *mut u8, layout: Layout) {
        if layout.size() < LARGE || !blocks::give_back(block, layout.size()) {
            // SAFETY: it did not come from a file, so that it came from there.
            unsafe { System.dealloc(block, layout) };
        }
    }

    unsafe fn realloc(&self, block: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        let Ok(new) = Layout::from_size_align(size, layout.align()) else {
            return std::ptr::null_mut();
        };
        let moves = is_on_disk(new) || (layout.size() >= LARGE && blocks::holds(block));
        if !moves {
            // SAFETY: it came from there, and as the caller promises.
            return unsafe { System.realloc(block, layout, size) };
        }
        // SAFETY: the new block is another one and holds at least as much as is copied; the old one is given back once.
        unsafe {
            let to = self.alloc(new);
            if !to.is_null() {
                std::ptr::copy_nonoverlapping(block, to, layout.size().min(size));
                self.dealloc(block, layout);
            }
            to
        }
    }
}

fn is_on_disk(layout: Layout) -> bool {
    layout.size() >= LARGE && DIRECTORY.load(Ordering::Acquire) >= 0
}

/// A block in a file; nothing where the system's allocator is to be asked.
fn on_disk(layout: Layout) -> Option<*mut u8> {
    if layout.size() < LARGE {
        return None;
    }
    INSTALLED.store(true, Ordering::Relaxed);
    let directory = DIRECTORY.load(Ordering::Acquire);
    if directory < 0 || layout.align() > 4096 {
        return None;
    }
    let block = blocks::take(directory, layout.size());
    if block.is_none() {
        REFUSED.store(true, Ordering::Relaxed);
    }
    block
}

/// Bytes that a directory's disk has room for.
///
/// # Errors
/// Where there is no such directory.
pub fn room(directory: &Path) -> std::io::Result<u64> {
    let path = std::ffi::CString::new(directory.as_os_str().as_encoded_bytes())?;
    let mut told = std::mem::MaybeUninit::<libc::statvfs>::uninit();
    // SAFETY: the path ends with a NUL, and the call fills what it is given where it returns 0.
    match unsafe { libc::statvfs(path.as_ptr(), told.as_mut_ptr()) } {
        0 => {
            // SAFETY: it was filled.
            let told = unsafe { told.assume_init() };
            Ok(told.f_bavail * told.f_frsize)
        }
        _ => Err(std::io::Error::last_os_error()),
    }
}

/// Gives memory back to the system that was freed but is kept for later, as after a step that took many small blocks.
pub fn trim() {
    #[cfg(target_env = "gnu")]
    // SAFETY: it concerns memory that nobody holds.
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Keeps the process within so much resident memory while it lives, as far as large blocks go.
pub struct Limit {
    watch: Option<watch::Watch>,
    directory: i32,
}

impl Limit {
    /// Lets large blocks lie in files of this directory from now on. They have no name, and go with the process
    /// whatever ends it.
    ///
    /// # Errors
    /// [`Error`].
    pub fn begin(directory: &Path, bytes: u64) -> Result<Self, Error> {
        // An allocation of this size shows whether this is the allocator.
        drop(std::hint::black_box(vec![0u8; LARGE]));
        if !INSTALLED.load(Ordering::Relaxed) {
            return Err(Error::NotInstalled);
        }
        let open = std::fs::File::open(directory).map_err(Error::Directory)?;
        let handle = OwnedFd::from(open).into_raw_fd();
        let close = || {
            // SAFETY: it was opened above, and nobody else knows of it.
            unsafe { libc::close(handle) };
        };
        match blocks::take(handle, LARGE) {
            Some(block) => {
                blocks::give_back(block, LARGE);
            }
            None => {
                let error = std::io::Error::last_os_error();
                close();
                return Err(Error::Directory(error));
            }
        }
        if DIRECTORY.compare_exchange(-1, handle, Ordering::AcqRel, Ordering::Acquire).is_err() {
            close();
            return Err(Error::Held);
        }
        REFUSED.store(false, Ordering::Relaxed);
        let mut limit = Self { watch: None, directory: handle };
        limit.watch = Some(watch::Watch::begin(bytes).map_err(Error::Directory)?);
        Ok(limit)
    }

    /// Whether the disk could not take a block, which lies in memory instead.
    pub fn was_refused(&self) -> bool {
        REFUSED.load(Ordering::Relaxed)
    }
}

impl Drop for Limit {
    fn drop(&mut self) {
        DIRECTORY.store(-1, Ordering::Release);
        self.watch.take();
        // SAFETY: it was opened when the limit began. Who has loaded the number meanwhile fails to make a file, and takes memory.
        unsafe { libc::close(self.directory) };
    }
}
