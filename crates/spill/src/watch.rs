//! Keeping resident memory below a limit.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use crate::blocks;

/// How often memory is looked at.
const EVERY: Duration = Duration::from_millis(10);
/// Shares of the limit above which pages are let go, and below which no more are.
const FROM: f64 = 0.7;
const TO: f64 = 0.5;

/// Looks at memory on a thread of its own until it is dropped.
pub(crate) struct Watch {
    ended: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Watch {
    pub(crate) fn begin(limit: u64) -> std::io::Result<Self> {
        let ended = Arc::new(AtomicBool::new(false));
        let end = Arc::clone(&ended);
        let thread = std::thread::Builder::new().name("memory".into()).spawn(move || {
            let mut next = 0;
            while !end.load(Ordering::Relaxed) {
                if resident() as f64 > FROM * limit as f64 {
                    next = blocks::let_go(next, &|| (resident() as f64) < TO * limit as f64);
                }
                std::thread::park_timeout(EVERY);
            }
        })?;
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

/// Memory that this process holds now, bytes; 0 where the system does not tell.
pub fn resident() -> u64 {
    let told = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    told.split_whitespace().nth(1).and_then(|pages| pages.parse::<u64>().ok()).unwrap_or(0) * 4096
}
