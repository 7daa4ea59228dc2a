//! Progress and cancellation of long computations.

use std::sync::atomic::{AtomicUsize, Ordering};

use rayon::prelude::*;

use crate::{Error, Result};

/// Receives progress and tells whether to stop.
///
/// Implementations must be cheap, as they are called every few thousand cells.
pub trait Monitor: Sync {
    /// Receives the share of the work that is done, from 0 to 1.
    fn progress(&self, share: f64);
    /// Returns whether the work should stop as soon as possible.
    fn is_cancelled(&self) -> bool;
}

/// Ignores progress and never cancels.
pub struct Silent;

impl Monitor for Silent {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        false
    }
}

/// Passes on whether to stop, and no progress.
#[derive(Debug, Clone, Copy)]
pub struct Quiet<M>(pub M);

impl<M: Monitor + ?Sized> Monitor for &M {
    fn progress(&self, share: f64) {
        (**self).progress(share);
    }
    fn is_cancelled(&self) -> bool {
        (**self).is_cancelled()
    }
}

impl<M: Monitor> Monitor for Quiet<M> {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        self.0.is_cancelled()
    }
}

/// Maps the progress of one step, 0 to 1, onto the range `from` to `to` of the whole.
///
/// ```
/// use bothros_core::{Monitor, Part};
/// # use std::sync::Mutex;
/// struct Recorder(Mutex<f64>);
/// impl Monitor for Recorder {
///     fn progress(&self, share: f64) { *self.0.lock().unwrap() = share }
///     fn is_cancelled(&self) -> bool { false }
/// }
/// let whole = Recorder(Mutex::new(0.0));
/// Part::new(&whole, 0.2, 0.6).progress(0.5);
/// assert_eq!(*whole.0.lock().unwrap(), 0.4);
/// ```
pub struct Part<'a> {
    whole: &'a dyn Monitor,
    from: f64,
    to: f64,
}

impl<'a> Part<'a> {
    /// Returns the part of `whole` between the shares `from` and `to`.
    pub fn new(whole: &'a dyn Monitor, from: f64, to: f64) -> Self {
        Self { whole, from, to }
    }
}

impl Monitor for Part<'_> {
    fn progress(&self, share: f64) {
        self.whole.progress(self.from + (self.to - self.from) * share.clamp(0.0, 1.0));
    }
    fn is_cancelled(&self) -> bool {
        self.whole.is_cancelled()
    }
}

/// Cells between two checks of the monitor: well below 0.2 s of any computation here.
const CELLS_BETWEEN_LOOKS: usize = 1 << 16;

/// Counts cells and checks the monitor at intervals.
pub(crate) struct Pace<'a> {
    monitor: &'a dyn Monitor,
    total: usize,
    done: usize,
    next: usize,
}

impl<'a> Pace<'a> {
    pub(crate) fn new(monitor: &'a dyn Monitor, total: usize) -> Self {
        Self { monitor, total: total.max(1), done: 0, next: 0 }
    }

    /// Counts `cells` more; fails when the work was cancelled.
    #[inline]
    pub(crate) fn advance(&mut self, cells: usize) -> Result<()> {
        self.done += cells;
        if self.done >= self.next { self.look() } else { Ok(()) }
    }

    #[cold]
    fn look(&mut self) -> Result<()> {
        self.next = self.done + CELLS_BETWEEN_LOOKS;
        check(self.monitor)?;
        self.monitor.progress(self.done as f64 / self.total as f64);
        Ok(())
    }
}

/// Counts pieces of work that several threads do.
pub(crate) struct SharedPace<'a> {
    monitor: &'a dyn Monitor,
    total: f64,
    halves: AtomicUsize,
}

impl<'a> SharedPace<'a> {
    pub(crate) fn new(monitor: &'a dyn Monitor, total: usize) -> Self {
        Self { monitor, total: total.max(1) as f64, halves: AtomicUsize::new(0) }
    }

    /// Counts `pieces` more; fails when the work was cancelled.
    pub(crate) fn advance(&self, pieces: usize) -> Result<()> {
        self.count(2 * pieces)
    }

    /// Counts half a piece more.
    pub(crate) fn advance_half(&self) -> Result<()> {
        self.count(1)
    }

    /// Fails when the work was cancelled.
    pub(crate) fn check(&self) -> Result<()> {
        check(self.monitor)
    }

    fn count(&self, halves: usize) -> Result<()> {
        check(self.monitor)?;
        let before = self.halves.fetch_add(halves, Ordering::Relaxed);
        self.monitor.progress((before as f64 / 2.0 / self.total).min(1.0));
        Ok(())
    }
}

/// Fails when the work was cancelled.
pub(crate) fn check(monitor: &dyn Monitor) -> Result<()> {
    if monitor.is_cancelled() { Err(Error::Cancelled) } else { Ok(()) }
}

/// Memory that is freed on another thread: freeing gigabytes takes longer than a user should wait after
/// Cancel.
pub(crate) struct Later<T: Send + 'static>(Option<T>);

impl<T: Send + 'static> Later<T> {
    pub(crate) fn new(value: T) -> Self {
        Self(Some(value))
    }

    /// What was kept.
    pub(crate) fn keep(mut self) -> T {
        self.0.take().expect("it is taken here alone, and this consumes it")
    }
}

impl<T: Send + 'static> std::ops::Deref for Later<T> {
    type Target = T;
    fn deref(&self) -> &T {
        self.0.as_ref().expect("only what consumes it takes it")
    }
}

impl<T: Send + 'static> std::ops::DerefMut for Later<T> {
    fn deref_mut(&mut self) -> &mut T {
        self.0.as_mut().expect("only what consumes it takes it")
    }
}

impl<T: Send + 'static> Drop for Later<T> {
    fn drop(&mut self) {
        if let Some(value) = self.0.take() {
            rayon::spawn(move || drop(value));
        }
    }
}

/// Pieces between two checks of the monitor.
const PIECES_BETWEEN_LOOKS: usize = 256;

/// Collects the results of all pieces, `count` values in order; checks for cancellation in between.
pub(crate) fn gather<'a, P, T, I>(
    pieces: &'a [P],
    count: usize,
    monitor: &dyn Monitor,
    of: impl Fn(usize, &'a P) -> I + Sync,
) -> Result<Vec<T>>
where
    P: Sync,
    T: Send,
    I: Iterator<Item = T>,
{
    let mut all = Vec::with_capacity(count);
    for (at, some) in pieces.chunks(PIECES_BETWEEN_LOOKS).enumerate() {
        check(monitor)?;
        let first = at * PIECES_BETWEEN_LOOKS;
        all.par_extend(some.par_iter().enumerate().flat_map_iter(|(at, piece)| of(first + at, piece)));
    }
    Ok(all)
}
