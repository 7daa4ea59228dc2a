//! Asking a process to read a file, and the error when it does not answer.

use std::io::{BufReader, PipeReader, PipeWriter, Read};
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::os::unix::process::ExitStatusExt;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::Mutex;
use std::sync::mpsc::{RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

use bothros_core::Monitor;

use super::child::{MEMORY, SECONDS};
use super::jail::DEFINITIONS;
use super::starter::ask_for_reader;
use super::wire::{Answer, Frame, Request};
use super::{ReaderProcess, reader};
use crate::raster_read::Strip;
use crate::{Error, Result};

/// The process that starts readers, and the connection on which it is asked.
struct Starter {
    process: Child,
    ask: UnixStream,
}

static STARTER: Mutex<Option<Starter>> = Mutex::new(None);

/// Time between two questions whether to stop.
const LOOK_EVERY: Duration = Duration::from_millis(20);
/// How long the end of a reader that says no more is waited for.
const END: Duration = Duration::from_secs(5);

impl Starter {
    fn begin(with: &ReaderProcess) -> std::io::Result<Self> {
        let mut command = Command::new(&with.program);
        command.args(&with.arguments).env_clear();
        // Passwords and addresses are none of its business.
        for name in DEFINITIONS.iter().chain(&["PATH", "LANG", "LD_LIBRARY_PATH", "TMPDIR"]) {
            if let Some(value) = std::env::var_os(name) {
                command.env(name, value);
            }
        }
        command.env(MEMORY, with.memory_bytes.to_string()).env(SECONDS, with.seconds.to_string());
        let (ask, asked) = UnixStream::pair()?;
        command.stdin(OwnedFd::from(asked)).stdout(Stdio::null()).stderr(Stdio::null());
        Ok(Self { process: command.spawn()?, ask })
    }
}

impl Drop for Starter {
    fn drop(&mut self) {
        // It may have ended by itself; its readers go on without it.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// Begins to load what readers need, ahead of time.
pub(super) fn make_ready() {
    let Some(with) = reader() else { return };
    let Ok(mut starter) = STARTER.lock() else { return };
    if starter.is_none() {
        // Where it cannot be started now, the one who asks will be told.
        *starter = Starter::begin(with).ok();
    }
}

/// A process that reads a file. It is ended when this goes.
struct Reader {
    to: PipeWriter,
    from: PipeReader,
    complaints: PipeReader,
    wanted: UnixStream,
}

impl Reader {
    fn begin(with: &ReaderProcess) -> std::io::Result<Self> {
        let mut starter = STARTER.lock().map_err(|_| std::io::Error::other("another thread failed"))?;
        let (input, to) = std::io::pipe()?;
        let (from, output) = std::io::pipe()?;
        let (complaints, complain) = std::io::pipe()?;
        let (wanted, known) = UnixStream::pair()?;
        let given: [OwnedFd; 4] = [input.into(), output.into(), complain.into(), known.into()];
        let asked = starter.as_ref().map(|starter| ask_for_reader(&starter.ask, given.each_ref()));
        if !matches!(asked, Some(Ok(()))) {
            // It was never started, or has ended.
            *starter = None;
            let anew = Starter::begin(with)?;
            ask_for_reader(&anew.ask, given.each_ref())?;
            *starter = Some(anew);
        }
        Ok(Self { to, from, complaints, wanted })
    }
}

/// How a reader ended, which says no more.
fn end_of(mut wanted: UnixStream) -> Option<ExitStatus> {
    let mut status = [0; 4];
    wanted.set_read_timeout(Some(END)).ok()?;
    wanted.read_exact(&mut status).ok()?;
    Some(ExitStatus::from_raw(i32::from_ne_bytes(status)))
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
    let Reader { mut to, from, mut complaints, wanted } = Reader::begin(with)?;
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
                let status = end_of(wanted);
                let said = said.join().unwrap_or_default();
                let why = reason(with, status, &said);
                tracing::warn!(?status, said, "a file could not be read");
                return Err(Error::Unreadable { name: request.name().to_owned(), why });
            }
        }
    }
}

/// Why a process ended without an answer, in words.
fn reason(with: &ReaderProcess, status: Option<ExitStatus>, said: &str) -> String {
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
