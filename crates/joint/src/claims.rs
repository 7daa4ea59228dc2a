//! Who does what, and who is still there.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crate::error::Result;
use crate::shelf::Shelf;

/// Between two signs of life.
const BEAT: Duration = Duration::from_secs(2);
/// After so long without a sign of life a process is taken for gone. Only the observer's clock counts.
const GONE_AFTER: Duration = Duration::from_secs(15);

/// A process among those that share the work. It gives signs of life until it is dropped.
pub(crate) struct Member {
    shelf: Arc<Shelf>,
    name: String,
    /// the last sign of life of others, and when it was first seen
    seen: HashMap<String, (Vec<u8>, Instant)>,
    beating: Option<(Sender<()>, JoinHandle<()>)>,
}

impl Member {
    pub fn join(shelf: Arc<Shelf>) -> Result<Self> {
        let name = uuid::Uuid::new_v4().to_string();
        let sign = format!("workers/{name}");
        shelf.put(&sign, b"0".to_vec())?;
        let (stop, stopped) = channel();
        let there = Arc::clone(&shelf);
        let beat = std::thread::spawn(move || {
            let mut count = 0u64;
            while stopped.recv_timeout(BEAT) == Err(RecvTimeoutError::Timeout) {
                count += 1;
                // Where it fails, the next may succeed; if none does, others take over, and whoever is faster has done it.
                let _ = there.put(&sign, count.to_string().into_bytes());
            }
        });
        Ok(Self { shelf, name, seen: HashMap::new(), beating: Some((stop, beat)) })
    }

    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether no other process shares the work now; one that was killed counts until it is taken for gone.
    pub fn is_alone(&mut self) -> Result<bool> {
        for other in self.shelf.list("workers")? {
            if other != self.name && self.is_there(&other)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Takes a task, unless another that is still there has it.
    pub fn take(&mut self, task: &str) -> Result<bool> {
        let taken = self.shelf.list(&format!("claims/{task}"))?;
        let last = taken.iter().filter_map(|number| number.parse::<u32>().ok()).max();
        if let Some(last) = last {
            let holder = self.shelf.find(&format!("claims/{task}/{last:05}"))?;
            let holder = String::from_utf8_lossy(&holder.unwrap_or_default()).into_owned();
            if self.is_there(&holder)? {
                return Ok(false);
            }
        }
        let next = last.map_or(0, |last| last + 1);
        self.shelf.create(&format!("claims/{task}/{next:05}"), self.name.clone().into_bytes())
    }

    fn is_there(&mut self, other: &str) -> Result<bool> {
        let Some(sign) = self.shelf.find(&format!("workers/{other}"))? else { return Ok(false) };
        let now = Instant::now();
        let known = self.seen.entry(other.to_owned()).or_insert_with(|| (sign.clone(), now));
        if known.0 != sign {
            *known = (sign, now);
        }
        Ok(now.duration_since(known.1) < GONE_AFTER)
    }
}

impl Drop for Member {
    fn drop(&mut self) {
        if let Some((stop, beat)) = self.beating.take() {
            drop(stop);
            // A thread that panicked gives no more signs, which is all that is wanted.
            let _ = beat.join();
        }
        // Without it others wait until they take this one for gone.
        let _ = self.shelf.remove(&format!("workers/{}", self.name));
    }
}
