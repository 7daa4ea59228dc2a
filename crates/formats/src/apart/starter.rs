//! The process that starts readers: it has loaded all that a reader needs and has seen no file, and forks for each.
//!
//! To load the libraries takes some 50 ms, to fork a few. So a reader ends with its file as before, and a thousand files do not
//! wait a minute for their readers.

use std::io::{IoSlice, IoSliceMut, PipeReader, Write};
use std::os::fd::{AsFd, AsRawFd, FromRawFd, OwnedFd, RawFd};
use std::os::unix::net::UnixStream;

use nix::errno::Errno;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::signal::{Signal, kill};
use nix::sys::socket::{ControlMessage, ControlMessageOwned, MsgFlags, recvmsg, sendmsg};
use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, dup2_stderr, dup2_stdin, dup2_stdout, fork};

/// What a reader is given: input, output, complaints, and the connection on which its end is told.
const GIVEN: usize = 4;

/// What this process is from now on.
pub(super) enum Role {
    /// a reader, with standard input and output of its own
    Reader,
    /// nobody asks any more
    Ended,
}

/// A reader at work.
struct AtWork {
    pid: Pid,
    /// ends when nobody wants the reader any more, and is told how it ended; none once it is being ended
    wanted: Option<UnixStream>,
    /// ends with the reader
    alive: PipeReader,
}

/// Asks a starter, at the other end of `to`, for a reader with these files.
pub(super) fn ask_for_reader(to: &UnixStream, given: [&OwnedFd; GIVEN]) -> std::io::Result<()> {
    let given = given.map(AsRawFd::as_raw_fd);
    let what = [ControlMessage::ScmRights(&given)];
    sendmsg::<()>(to.as_raw_fd(), &[IoSlice::new(&[1])], &what, MsgFlags::MSG_NOSIGNAL, None)?;
    Ok(())
}

/// The files of the next reader; nothing when nobody asks any more.
fn next(from: &UnixStream) -> std::io::Result<Option<[OwnedFd; GIVEN]>> {
    let mut byte = [0];
    let mut bytes = [IoSliceMut::new(&mut byte)];
    let mut room = nix::cmsg_space!([RawFd; GIVEN]);
    let message = recvmsg::<()>(from.as_raw_fd(), &mut bytes, Some(&mut room), MsgFlags::MSG_CMSG_CLOEXEC)?;
    let mut given = Vec::new();
    for part in message.cmsgs()? {
        if let ControlMessageOwned::ScmRights(files) = part {
            // SAFETY: the kernel has just made these for this process, and nobody else knows them.
            given.extend(files.into_iter().map(|file| unsafe { OwnedFd::from_raw_fd(file) }));
        }
    }
    Ok(given.try_into().ok())
}

/// Starts readers as they are asked for on standard input. Returns in each reader, and here when nobody asks any more. There must
/// be no other thread.
pub(super) fn serve() -> std::io::Result<Role> {
    let asked = UnixStream::from(std::io::stdin().as_fd().try_clone_to_owned()?);
    let mut at_work: Vec<AtWork> = Vec::new();
    loop {
        let wait_for = |file| PollFd::new(file, PollFlags::POLLIN);
        let mut waiting = vec![wait_for(asked.as_fd())];
        for reader in &at_work {
            waiting.push(wait_for(reader.alive.as_fd()));
            waiting.extend(reader.wanted.iter().map(|wanted| wait_for(wanted.as_fd())));
        }
        match poll(&mut waiting, PollTimeout::NONE) {
            Ok(_) | Err(Errno::EINTR) => {}
            Err(error) => return Err(error.into()),
        }
        let ready: Vec<bool> = waiting.iter().map(|file| file.any().unwrap_or(false)).collect();
        let mut told = ready.into_iter();
        let mut is_ready = || told.next().unwrap_or(false);
        let another = is_ready();
        at_work.retain_mut(|reader| {
            let ended = is_ready();
            if reader.wanted.is_some() && is_ready() && !ended {
                reader.end();
            }
            if ended {
                reader.tell_end();
            }
            !ended
        });
        if another {
            let Some(given) = next(&asked)? else {
                at_work.iter_mut().for_each(AtWork::end);
                return Ok(Role::Ended);
            };
            if let Some(reader) = begin(given)? {
                at_work.push(reader);
            } else {
                return Ok(Role::Reader);
            }
        }
    }
}

/// Forks. Nothing in the reader, which has the files it was given as its own.
fn begin([input, output, complaints, wanted]: [OwnedFd; GIVEN]) -> std::io::Result<Option<AtWork>> {
    let (alive, until_ended) = std::io::pipe()?;
    // SAFETY: this process has one thread.
    match unsafe { fork() }? {
        ForkResult::Parent { child } => Ok(Some(AtWork { pid: child, wanted: Some(wanted.into()), alive })),
        ForkResult::Child => {
            // Open as long as this process lives.
            std::mem::forget(until_ended);
            dup2_stdin(input)?;
            dup2_stdout(output)?;
            dup2_stderr(complaints)?;
            Ok(None)
        }
    }
}

impl AtWork {
    fn end(&mut self) {
        self.wanted = None;
        // It may have ended by itself.
        let _ = kill(self.pid, Signal::SIGKILL);
    }

    /// Tells how a reader ended, as `wait` gives it: a signal, or an exit code times 256.
    fn tell_end(&mut self) {
        // One that only says that it has ended is not waited for; what has ended stays as it was.
        let _ = kill(self.pid, Signal::SIGKILL);
        let end = match waitpid(self.pid, None) {
            Ok(WaitStatus::Exited(_, code)) => code << 8,
            Ok(WaitStatus::Signaled(_, signal, _)) => signal as i32,
            _ => return,
        };
        if let Some(mut wanted) = self.wanted.take() {
            // Mostly nobody wants to know any more.
            let _ = wanted.write_all(&end.to_ne_bytes());
        }
    }
}
