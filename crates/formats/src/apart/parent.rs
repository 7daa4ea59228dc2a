//! Asking a process to read a file, and the error when it does not answer.

use std::io::{BufReader, Read};
use std::os::unix::process::ExitStatusExt;
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;
use std::sync::mpsc::{RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

use bothros_core::Monitor;

use super::child::{MEMORY, SECONDS};
use super::jail::DEFINITIONS;
use super::wire::{Answer, Frame, Request};
use super::{ReaderProcess, reader};
use crate::raster_read::Strip;
use crate::{Error, Result};

/// A process that waits for a request.
static READY: Mutex<Option<Child>> = Mutex::new(None);

/// Time between two questions whether to stop.
const LOOK_EVERY: Duration = Duration::from_millis(20);

fn start(with: &ReaderProcess) -> std::io::Result<Child> {
    let mut command = Command::new(&with.program);
    command.args(&with.arguments).env_clear();
    // Passwords and addresses are none of its business.
    for name in DEFINITIONS.iter().chain(&["PATH", "LANG", "LD_LIBRARY_PATH", "TMPDIR"]) {
        if let Some(value) = std::env::var_os(name) {
            command.env(name, value);
        }
    }
    command.env(MEMORY, with.memory_bytes.to_string()).env(SECONDS, with.seconds.to_string());
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()
}

/// Starts a process ahead of time.
pub(super) fn make_ready() {
    let Some(with) = reader() else { return };
    // In its own thread, since starting takes as long as reading a small file.
    std::thread::spawn(|| {
        let Ok(mut ready) = READY.lock() else { return };
        if ready.is_none() {
            // Where it cannot be started now, the one who asks will be told.
            *ready = start(with).ok();
        }
    });
}

fn free(with: &ReaderProcess) -> Result<Child> {
    // One that is being started is not waited for.
    let waiting = READY.try_lock().ok().and_then(|mut ready| ready.take());
    let child = match waiting.map(|mut child| (child.try_wait(), child)) {
        Some((Ok(None), child)) => child,
        _ => start(with)?,
    };
    make_ready();
    Ok(child)
}

/// A process that is ended together with the one that asked it.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Asks for anything but values; `None` where files are read in this process.
pub(crate) fn ask(request: &Request, monitor: &dyn Monitor) -> Option<Result<Answer>> {
    ask_for_values(request, monitor, &mut |_| Ok(()))
}

/// Asks a process to read a file; `None` where files are read in this process. Values are given away as they come.
pub(crate) fn ask_for_values(
    request: &Request,
    monitor: &dyn Monitor,
    take: &mut dyn FnMut(Strip<'_>) -> Result<()>,
) -> Option<Result<Answer>> {
    Some(converse(reader()?, request, monitor, take))
}

fn converse(
    with: &ReaderProcess,
    request: &Request,
    monitor: &dyn Monitor,
    take: &mut dyn FnMut(Strip<'_>) -> Result<()>,
) -> Result<Answer> {
    let mut process = Ended(free(with)?);
    let (Some(mut to), Some(from), Some(mut complaints)) =
        (process.0.stdin.take(), process.0.stdout.take(), process.0.stderr.take())
    else {
        return Err(Error::Io(std::io::Error::other("a process without pipes")));
    };
    request.write(&mut to)?;
    let (tell, told) = sync_channel(8);
    std::thread::spawn(move || {
        let mut from = BufReader::with_capacity(1 << 20, from);
        loop {
            let frame = Frame::read(&mut from);
            let last = !matches!(frame, Ok(Frame::Progress(_) | Frame::Size(..) | Frame::Values(_)));
            if tell.send(frame).is_err() || last {
                break;
            }
        }
    });
    let said = std::thread::spawn(move || {
        let mut text = Vec::new();
        // What it complains of is only a hint.
        let _ = complaints.by_ref().take(4096).read_to_end(&mut text);
        let _ = std::io::copy(&mut complaints, &mut std::io::sink());
        String::from_utf8_lossy(&text).into_owned()
    });
    let mut heard = Instant::now();
    loop {
        if monitor.is_cancelled() {
            return Err(Error::Cancelled);
        }
        match told.recv_timeout(LOOK_EVERY) {
            Ok(Ok(frame)) => {
                heard = Instant::now();
                match frame {
                    Frame::Progress(share) => monitor.progress(share),
                    Frame::Size(rows, cols) => take(Strip::Size(rows, cols))?,
                    Frame::Values(values) => take(Strip::Values(&values))?,
                    Frame::End(end) => return end,
                }
            }
            Err(RecvTimeoutError::Timeout) if heard.elapsed() > with.silence => {
                let why = format!("nothing came of it for {} s", with.silence.as_secs());
                return Err(Error::Unreadable { name: request.name().to_owned(), why });
            }
            Err(RecvTimeoutError::Timeout) => {}
            Ok(Err(_)) | Err(RecvTimeoutError::Disconnected) => {
                let status = process.0.wait().ok();
                let said = said.join().unwrap_or_default();
                let why = reason(with, status, &said);
                tracing::warn!(?status, said, "a file could not be read");
                return Err(Error::Unreadable { name: request.name().to_owned(), why });
            }
        }
    }
}

/// Why a process ended without an answer, in words.
fn reason(with: &ReaderProcess, status: Option<std::process::ExitStatus>, said: &str) -> String {
    let memory = format!("it needs more than {} MB of memory to be read", with.memory_bytes / 1_000_000);
    if said.contains("memory allocation") || said.contains("bad_alloc") || said.contains("cannot allocate") {
        return memory;
    }
    match status.and_then(|s| s.signal()) {
        Some(libc::SIGXCPU) => "reading it took more processor time than a file of its size may take".into(),
        // The kernel ends a process at its hard limit of processor time like this, and when memory is short.
        Some(libc::SIGKILL) => {
            "reading it took more processor time or memory than a file of its size may take".into()
        }
        Some(libc::SIGABRT) => memory,
        _ => "the process that read it ended; it is damaged, or made to harm".into(),
    }
}
