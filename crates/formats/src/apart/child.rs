//! The process that reads one file.

use std::io::{BufWriter, Read, Write};
use std::process::ExitCode;
use std::sync::Mutex;

use bothros_core::Monitor;

use super::jail::{self, Limits, Reach};
use super::starter::{self, Role};
use super::wire::{Answer, Frame, Request, VALUES};
use crate::raster_read::Strip;
use crate::{Error, Result};

/// Environment variables that pass a reader its limits.
pub(super) const MEMORY: &str = "BOTHROS_READER_MEMORY_BYTES";
pub(super) const SECONDS: &str = "BOTHROS_READER_SECONDS";

/// What a reader writes to; shared by progress and values.
struct Out(Mutex<BufWriter<std::io::Stdout>>);

impl Out {
    fn send(&self, frame: &Frame) -> std::io::Result<()> {
        match self.0.lock() {
            Ok(mut out) => frame.write(&mut *out),
            Err(_) => Err(std::io::Error::other("another thread failed")),
        }
    }

    fn flush(&self) -> std::io::Result<()> {
        self.0.lock().map_err(|_| std::io::Error::other("another thread failed"))?.flush()
    }
}

/// Reports the progress of reading to the asking process. Cancelling ends this process, so nothing is polled here.
struct Told<'a> {
    out: &'a Out,
    last: Mutex<f64>,
}

impl Monitor for Told<'_> {
    fn progress(&self, share: f64) {
        let Ok(mut last) = self.last.lock() else { return };
        // Two hundred steps are enough for any bar.
        if (share - *last).abs() >= 0.005 || share >= 1.0 {
            *last = share;
            // Nobody may be there to hear it; then the answer cannot be sent either.
            let _ = self.out.send(&Frame::Progress(share));
        }
    }
    fn is_cancelled(&self) -> bool {
        false
    }
}

fn limit(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Starts readers as they are asked for on standard input, which must be a socket; each reads one request, answers it, and ends. To
/// be called at the start of the program, before there is another thread.
pub fn serve_reader() -> ExitCode {
    // Definitions and drivers are loaded once, before anything is read.
    crate::prepare();
    gdal::DriverManager::register_all();
    let _ = crate::Crs::parse("EPSG:4326");
    match starter::serve() {
        Ok(Role::Reader) => serve_one(),
        Ok(Role::Ended) => ExitCode::SUCCESS,
        Err(_) => ExitCode::FAILURE,
    }
}

/// Reads the one request that comes on standard input, answers it on standard output, and ends.
fn serve_one() -> ! {
    let Ok(request) = Request::read(&mut std::io::stdin().lock()) else { std::process::exit(0) };
    let out = Out(Mutex::new(BufWriter::with_capacity(4 * VALUES + 64, std::io::stdout())));
    let end = match restrict(&request) {
        Ok(()) => {
            // When the asking process ends, so does this one.
            std::thread::spawn(|| {
                let mut rest = [0; 1];
                while !matches!(std::io::stdin().lock().read(&mut rest), Ok(0) | Err(_)) {}
                std::process::exit(3);
            });
            read(request, &out)
        }
        Err(error) => Err(Error::Io(error)),
    };
    let sent = out.send(&Frame::End(end)).and_then(|()| out.flush()).and_then(|()| std::io::stdout().flush());
    // Libraries that put everything away in good order would first make copies of what they share with the starter.
    // SAFETY: nothing of this process is wanted any more.
    unsafe { libc::_exit(i32::from(sent.is_err())) }
}

fn restrict(request: &Request) -> std::io::Result<()> {
    let usual = super::ReaderProcess::new(Default::default(), Vec::new());
    let bytes = request.path().and_then(|p| std::fs::metadata(p).ok()).map_or(0, |m| m.len());
    let limits = Limits {
        memory_bytes: limit(MEMORY).unwrap_or(usual.memory_bytes),
        // A second for every two megabytes; what a file unpacks to is bounded by memory.
        seconds: limit(SECONDS).unwrap_or(usual.seconds).saturating_add(bytes / 2_000_000),
        written_bytes: match request {
            // What passes the limit is told in words; this is only the last resort.
            Request::Unpack { limit, .. } => limit.saturating_add(1 << 20),
            Request::Fetch { .. } => 1 << 40,
            _ => 0,
        },
    };
    let read = request.path().and_then(|p| p.parent()).map(Into::into);
    let reach = Reach {
        read: read.into_iter().collect(),
        written: request.written(),
        network: matches!(request, Request::Fetch { .. }),
    };
    jail::enter(limits, &reach)
}

fn read(request: Request, out: &Out) -> Result<Answer> {
    let monitor = Told { out, last: Mutex::new(0.0) };
    Ok(match request {
        Request::Inspect { path, name } => Answer::Info(crate::raster_read::inspect_here(&path, &name)?),
        Request::Elevation { path, name, band, unit } => {
            let mut give = |piece: Strip<'_>| -> Result<()> {
                match piece {
                    Strip::Size(rows, cols) => out.send(&Frame::Size(rows, cols))?,
                    Strip::Values(values) => {
                        for piece in values.chunks(VALUES) {
                            out.send(&Frame::Values(piece.to_vec()))?;
                        }
                    }
                }
                Ok(())
            };
            crate::raster_read::read_strips(&path, &name, band, unit, &monitor, &mut give)?;
            Answer::Done
        }
        Request::Features { path, name, layer, wanted, to, assumed } => {
            let asked = crate::vector_read::Asked {
                layer: layer.as_deref(),
                wanted,
                to: &to,
                assumed: assumed.as_ref(),
            };
            Answer::Layer(crate::vector_read::read_here(&path, &name, &asked, &monitor)?)
        }
        Request::Picture { path, name } => Answer::Picture(crate::picture::read_here(&path, &name)?),
        Request::Unpack { path, name, into, limit } => {
            Answer::Unpacked(crate::unpack::unpack_here(&path, &name, &into, limit)?)
        }
        Request::Fetch { address, name, extent, to } => {
            Answer::Fetched(crate::remote::fetch_here(&address, &name, extent, &to, &monitor)?)
        }
    })
}
