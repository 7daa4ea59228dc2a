//! Memory is estimated before it is allocated.
//!
//! What a step takes at its peak follows from the number of cells, and from that of corners of lines where it works
//! on lines. A step asks [`check`] first, against a limit that the program sets once; so a DEM that is too large is
//! refused with a message, rather than the process being killed by the system.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

static LIMIT: AtomicU64 = AtomicU64::new(u64::MAX);
/// Tells how much there is room for where memory lies on disk.
static ROOM: OnceLock<Box<dyn Fn() -> u64 + Send + Sync>> = OnceLock::new();

/// Sets how much memory a step may take, bytes.
pub fn set_limit(bytes: u64) {
    LIMIT.store(bytes, Ordering::Relaxed);
}

/// Lets `room` tell each time how much a step may take, bytes: for a program whose memory lies on disk where it does not fit. What
/// was set before does not count any more, and what is told the first time stays.
pub fn lies_on_disk(room: impl Fn() -> u64 + Send + Sync + 'static) {
    let _ = ROOM.set(Box::new(room));
}

/// Whether memory lies on disk where it does not fit.
pub fn is_on_disk() -> bool {
    ROOM.get().is_some()
}

/// How much memory a step may take, bytes.
pub fn limit() -> u64 {
    ROOM.get().map_or_else(|| LIMIT.load(Ordering::Relaxed), |room| room())
}

/// A step that would take more memory than it may.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{what} would take about {} of memory, and {} are {}",
    size(*.needed), size(*.allowed),
    if *.on_disk {
        "free for it in memory and on disk: use a larger cell size or a smaller area, or free some"
    } else {
        "allowed: use a larger cell size or a smaller area, raise the limit (BOTHROS_MEMORY_MB) on a machine that has more, or let what does not fit lie on disk (--max-memory)"
    }
)]
pub struct TooMuch {
    /// the step, in words
    pub what: String,
    /// bytes that it would take
    pub needed: u64,
    /// bytes that are allowed
    pub allowed: u64,
    /// whether they would lie on disk
    pub on_disk: bool,
}

/// Formats a number of bytes.
fn size(bytes: u64) -> String {
    match bytes {
        0..=999_999_999 => format!("{:.0} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// Refuses a step that would take more than the limit.
///
/// # Errors
/// [`TooMuch`].
pub fn check(what: &str, needed: u64) -> Result<(), TooMuch> {
    let allowed = limit();
    if needed <= allowed {
        Ok(())
    } else {
        Err(TooMuch { what: what.to_owned(), needed, allowed, on_disk: is_on_disk() })
    }
}

/// Bytes that a corner of a line or polygon takes where features are read, kept and worked on.
const BYTES_A_CORNER: u64 = 200;

/// Errors if work on features with this many vertices would exceed the memory limit.
///
/// # Errors
/// [`TooMuch`].
pub fn check_corners(what: &str, corners: u64) -> Result<(), TooMuch> {
    check(what, corners.saturating_mul(BYTES_A_CORNER))
}

/// A step over a whole DEM. Bytes a cell are what the process was measured to gain at its peak, rounded up; the
/// roughest terrain counts, where one cell in eleven is the bottom of a sink.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// elevations are read, merged, reprojected and checked
    Terrain,
    /// sinks are nested and barriers sought
    Review,
    /// conditioning, routing, the first network
    Route,
    /// layers and rasters are written
    Package,
    /// a recipe from files to files that fills, routes by D8 and draws a network
    PlainRecipe,
    /// a recipe that does more
    Recipe,
    /// one realisation of the DEM: conditioned, routed, looked at
    Realise,
}

impl Step {
    /// Bytes that a cell takes at the peak.
    pub fn bytes_a_cell(self) -> u64 {
        match self {
            Self::Terrain => 24,
            Self::Review => 60,
            Self::Route => 40,
            Self::Package => 24,
            Self::PlainRecipe => 15,
            Self::Recipe => 36,
            Self::Realise => 40,
        }
    }
    /// How many of it can be done at once on a DEM of this many cells beside so many other bytes, up to `most`; one at least.
    pub fn at_once(self, cells: u64, beside: u64, most: usize) -> usize {
        let each = cells.saturating_mul(self.bytes_a_cell()).max(1);
        let room = limit().saturating_sub(beside) / each;
        usize::try_from(room).unwrap_or(usize::MAX).clamp(1, most.max(1))
    }
    fn words(self) -> &'static str {
        match self {
            Self::Terrain => "reading this DEM",
            Self::Review => "finding sinks and barriers",
            Self::Route => "conditioning and routing flow",
            Self::Package => "writing the package",
            Self::PlainRecipe | Self::Recipe => "this recipe",
            Self::Realise => "making realisations of this DEM",
        }
    }
    /// Errors if the step would exceed the memory limit on a DEM of this many cells.
    ///
    /// # Errors
    /// [`TooMuch`].
    pub fn check(self, cells: u64) -> Result<(), TooMuch> {
        check(self.words(), cells.saturating_mul(self.bytes_a_cell()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_too_much_is_told() {
        let what = "reading this DEM".to_owned();
        let told = TooMuch { what, needed: 103_000_000_000, allowed: 900_000_000, on_disk: false };
        let begins = "reading this DEM would take about 103.0 GB of memory, and 900 MB are ";
        assert!(told.to_string().starts_with(&format!("{begins}allowed: ")));
        assert!(
            TooMuch { on_disk: true, ..told }
                .to_string()
                .starts_with(&format!("{begins}free for it in memory and on disk: "))
        );
        // No limit is set in tests.
        assert!(Step::Review.check(u64::MAX).is_ok());
    }
}
