//! Work that stops when its result is no longer wanted: the page was left, or a newer request replaced it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use bothros_core::Monitor;

use crate::{Result, blocking};

/// Learns that nobody waits any more.
pub(crate) struct Wanted(Arc<AtomicBool>);

impl Monitor for Wanted {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// Tells it when it goes.
struct Waiting(Arc<AtomicBool>);

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Runs work that keeps a processor busy, for as long as the answer is waited for.
pub(crate) async fn while_wanted<T: Send + 'static>(
    work: impl FnOnce(&Wanted) -> Result<T> + Send + 'static,
) -> Result<T> {
    let left = Arc::new(AtomicBool::new(false));
    let (wanted, _waiting) = (Wanted(Arc::clone(&left)), Waiting(left));
    blocking(move || work(&wanted)).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Error;
    use std::sync::mpsc;

    #[tokio::test]
    async fn work_hears_that_nobody_waits() {
        let (begun, begins) = mpsc::channel();
        let (ended, ends) = mpsc::channel();
        let task = tokio::spawn(while_wanted(move |wanted| {
            begun.send(()).unwrap();
            while !wanted.is_cancelled() {
                std::thread::yield_now();
            }
            ended.send(()).unwrap();
            Err::<(), _>(Error::from(bothros_core::Error::Cancelled))
        }));
        tokio::task::spawn_blocking(move || begins.recv().unwrap()).await.unwrap();
        task.abort();
        tokio::task::spawn_blocking(move || ends.recv().unwrap()).await.unwrap();
        assert_eq!(while_wanted(|_| Ok(7)).await.unwrap(), 7);
    }
}
