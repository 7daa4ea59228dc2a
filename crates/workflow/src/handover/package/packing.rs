//! The files of a package on their way into its zip, each as soon as it is written.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc;

use bothros_core::Monitor;
use bothros_store::{Growing, JobHandle};

use crate::Result;

/// Level of Deflate of layers and tables: larger by a tenth than the usual one, in a third of the time.
const FAST: i64 = 1;

/// Files that are being written, in their order.
pub(super) struct Writing<'a> {
    pub dir: &'a Path,
    pub short: &'a str,
    pub handle: &'a JobHandle,
    /// names of all that were begun
    pub files: Vec<String>,
    /// how many of them are packed, or wait for it
    packed: usize,
    packing: mpsc::Sender<String>,
}

impl<'a> Writing<'a> {
    pub fn new(dir: &'a Path, short: &'a str, handle: &'a JobHandle, packing: &mpsc::Sender<String>) -> Self {
        Self { dir, short, handle, files: Vec::new(), packed: 0, packing: packing.clone() }
    }

    /// The path of the next file.
    pub fn file(&mut self, suffix: &str) -> Result<PathBuf> {
        if self.handle.is_cancelled() {
            return Err(bothros_core::Error::Cancelled.into());
        }
        let name = format!("{}_{suffix}", self.short);
        let path = self.dir.join(&name);
        self.files.push(name);
        Ok(path)
    }

    /// As [`Writing::file`], where all before it are written; says what is being done and how much is.
    pub fn begin(&mut self, suffix: &str, what: &str, share: f64) -> Result<PathBuf> {
        self.are_written()?;
        self.handle.say(what);
        self.handle.progress(share);
        self.file(suffix)
    }

    /// Hands over to be packed what was begun.
    pub fn are_written(&mut self) -> Result<()> {
        for name in &self.files[self.packed..] {
            // Why nothing is packed any more is told by whoever packs.
            self.packing.send(name.clone()).map_err(|_| bothros_core::Error::Cancelled)?;
        }
        self.packed = self.files.len();
        Ok(())
    }

    /// The names of all, which are written.
    pub fn all_written(mut self) -> Result<Vec<String>> {
        self.are_written()?;
        Ok(self.files)
    }
}

/// Packs the files in `dir` that are told to be written to `target`, until no more come; tells how far the zip is as it will stay.
pub(super) fn pack(
    written: mpsc::Receiver<String>,
    (dir, target): (&Path, &Path),
    growing: &Growing,
    handle: &JobHandle,
) -> Result<()> {
    let mut zip = zip::ZipWriter::new(std::fs::File::create(target)?);
    for name in written {
        // Rasters are compressed already.
        let (method, level) = if name.ends_with(".tif") || name.ends_with(".nc") {
            (zip::CompressionMethod::Stored, None)
        } else {
            (zip::CompressionMethod::Deflated, Some(FAST))
        };
        let before = std::fs::metadata(target)?.len();
        zip.start_file(
            &name,
            zip::write::SimpleFileOptions::default()
                .compression_method(method)
                .compression_level(level)
                .large_file(true),
        )?;
        // What tells the size of a file stands before it, and is written when the next is begun.
        if !growing.has(before) {
            // Why nobody keeps it is told by whoever did.
            return Err(bothros_core::Error::Cancelled.into());
        }
        let mut file = std::fs::File::open(dir.join(&name))?;
        let mut piece = vec![0; 1 << 20];
        loop {
            if handle.is_cancelled() {
                return Err(bothros_core::Error::Cancelled.into());
            }
            let read = file.read(&mut piece)?;
            if read == 0 {
                break;
            }
            zip.write_all(&piece[..read])?;
        }
    }
    zip.finish()?;
    growing.is_whole(std::fs::metadata(target)?.len());
    Ok(())
}

/// What both parts of a work came to, or the error that ended it: the other part only stopped.
pub(super) fn both<A, B>(one: Result<A>, other: Result<B>) -> Result<(A, B)> {
    match (one, other) {
        (Err(error), Err(other)) if error.is_cancelled() => Err(other),
        (one, other) => Ok((one?, other?)),
    }
}
