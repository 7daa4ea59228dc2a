//! Keeping resident memory below a limit.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crate::blocks::{self, Hand};

/// How often memory is looked at: far from the limit, and near to it. Two threads that touch a grid here and there were seen to fill a
/// quarter of a gigabyte in 10 ms, since one fault brings in what lies together in the cache of the system, up to 2 MB.
const EVERY: Duration = Duration::from_millis(5);
const NEAR: Duration = Duration::from_millis(1);

/// After so many looks that found the same, nothing is at work, and memory is looked at as far from the limit: a server that
/// keeps a large study would spend a fiftieth of a core on looking.
const STEADY: u32 = 100;

/// Shares of the limit from which it is near, and above which pages are let go.
const NEAR_FROM: f64 = 0.4;
const FROM: f64 = 0.7;
/// Share of the pages of files, as far as they are allowed, that stay.
const KEPT: f64 = 0.6;

/// How long freed memory that the allocator keeps may stay where letting pages go was not enough.
const TRIM: Duration = Duration::from_secs(2);

/// Looks at memory on a thread of its own until it is dropped.
pub(crate) struct Watch {
    ended: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Watch {
    pub(crate) fn begin(limit: u64) -> std::io::Result<Self> {
        let ended = Arc::new(AtomicBool::new(false));
        let end = Arc::clone(&ended);
        let told = Told::open()?;
        let run = move || {
            let limit = limit as f64;
            let (mut hand, mut trimmed) = (Hand::default(), Instant::now());
            let (mut before, mut steady) = (0.0, 0);
            while !end.load(Ordering::Relaxed) {
                let held = told.now();
                if held.all > FROM * limit {
                    let least = held.others + KEPT * (FROM * limit - held.others).max(0.0);
                    let enough = blocks::let_go(&mut hand, &|| told.now().all < least);
                    if !enough && trimmed.elapsed() > TRIM {
                        crate::trim();
                        trimmed = Instant::now();
                    }
                }
                let now = told.now().all;
                steady = if (now - before).abs() < 1.0 { u32::saturating_add(steady, 1) } else { 0 };
                before = now;
                let soon = now > NEAR_FROM * limit && steady < STEADY;
                std::thread::park_timeout(if soon { NEAR } else { EVERY });
            }
        };
        let thread = std::thread::Builder::new().name("memory".into()).spawn(run)?;
        Ok(Self { ended, thread: Some(thread) })
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            // It cannot panic.
            let _ = thread.join();
        }
    }
}

/// What the system tells of this process.
struct Told(File);

/// Bytes in memory.
#[derive(Debug, Clone, Copy, Default)]
struct Held {
    all: f64,
    /// those that are no pages of files
    others: f64,
}

impl Told {
    fn open() -> std::io::Result<Self> {
        File::open("/proc/self/statm").map(Self)
    }

    /// Nothing where the system does not tell.
    fn now(&self) -> Held {
        let mut line = [0; 128];
        let read = self.0.read_at(&mut line, 0).unwrap_or(0);
        held(std::str::from_utf8(&line[..read]).unwrap_or_default()).unwrap_or_default()
    }
}

/// Of a line whose second and third numbers are pages in memory, and those of them that are of files.
fn held(line: &str) -> Option<Held> {
    let mut numbers = line.split_whitespace().skip(1).map(|pages| pages.parse::<u64>().ok());
    let (all, files) = (numbers.next()??, numbers.next()??);
    let bytes = |pages: u64| pages as f64 * 4096.0;
    Some(Held { all: bytes(all), others: bytes(all.saturating_sub(files)) })
}

/// Memory that this process holds now, bytes; 0 where the system does not tell.
pub fn resident() -> u64 {
    Told::open().map_or(0, |told| told.now().all as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_of_files_are_told_from_others() {
        let held = held("5000 300 200 50 0 900 0\n").unwrap();
        assert!((held.all - 300.0 * 4096.0).abs() < 0.5 && (held.others - 100.0 * 4096.0).abs() < 0.5);
        assert!(super::held("").is_none() && super::held("5000 many 200").is_none());
        assert!(resident() > 1 << 20);
    }
}
