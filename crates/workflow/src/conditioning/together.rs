//! Filling and routing of a large study, with which other workers help.
//!
//! The job is that of one worker, which reads the DEM and keeps the results. Meanwhile the bands of the DEM lie in a place that all
//! workers reach, and whoever has nothing else to do takes some (see [`bothros_joint`]).

use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use bothros_core::conditioning::{Conditioned, Conditioning, TreatSinks, before_sinks};
use bothros_core::routing::{Division, MFD_EXPONENT, Method, carried_down};
use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_joint::{Computed, Ground, Terms, Works, conditioned_by_bands, left_to_bands, room_in};
use bothros_store::JobHandle;

#[cfg(doc)]
use crate::Error;
use crate::{PROGRAM, Result, blocking, boxed};

/// Between two looks for something to help with.
const LOOK: Duration = Duration::from_secs(2);

/// Where workers share the breaching, filling and routing of studies, and of which.
#[derive(Debug, Clone)]
pub struct Sharing {
    /// a directory, or `s3://bucket/prefix`
    pub place: String,
    /// of studies with so many cells or more
    pub from_cells: u64,
}

static SHARING: OnceLock<Sharing> = OnceLock::new();
/// Jobs that this process is at.
static AT_WORK: AtomicUsize = AtomicUsize::new(0);

/// Shares from now on; what is set first stays.
///
/// # Errors
/// [`Error::Shared`] where the place is none.
pub fn share_routing(sharing: Sharing) -> Result<()> {
    Works::at(&sharing.place)?;
    let _ = SHARING.set(sharing);
    Ok(())
}

/// What was set.
pub fn sharing() -> Option<&'static Sharing> {
    SHARING.get()
}

/// While it lives, this process has a job of its own and helps nobody.
pub struct AtWork(());

impl AtWork {
    /// Begins a job.
    pub fn begin() -> Self {
        AT_WORK.fetch_add(1, Ordering::Relaxed);
        Self(())
    }
}

impl Drop for AtWork {
    fn drop(&mut self) {
        AT_WORK.fetch_sub(1, Ordering::Relaxed);
    }
}

/// What was computed with others.
pub(super) struct Together {
    pub done: Conditioned,
    pub directions: Grid<u8>,
    pub accumulation: Grid<u32>,
}

fn division(method: Method) -> Option<Division> {
    match method {
        Method::D8 => None,
        Method::DInfinity => Some(Division::DInfinity),
        Method::Mfd => Some(Division::Mfd { exponent: MFD_EXPONENT }),
    }
}

/// Conditions and routes a prepared DEM, its breaching, filling and routing with others; none where it is not shared: where nobody has said so,
/// the study is small, or keeps its sinks. `name` is that of the study's work, and `about` tells its DEM, how it is conditioned and routed.
pub(super) fn together(
    dem: &Grid<f32>,
    frame: &Frame,
    (how, method): (&Conditioning, Method),
    (name, about): (&str, &str),
    handle: &JobHandle,
) -> Result<Option<Together>> {
    let fills = matches!(how.sinks, TreatSinks::Fill | TreatSinks::BreachThenFill);
    let Some(sharing) = SHARING.get().filter(|s| fills && dem.len() as u64 >= s.from_cells) else {
        return Ok(None);
    };
    let part = |from, to| Part::new(handle, from, to);
    // A job that is taken up does this again; what was shared is there.
    let mut unfilled = before_sinks(dem, frame, how, &part(0.05, 0.08))?;
    let (ways, breaching) = left_to_bands(&mut unfilled, how, frame, division(method), &part(0.08, 0.15))?;
    let begun = Instant::now();
    let room = room_in(bothros_core::memory::limit());
    let mut opened = Works::at(&sharing.place)?.open(name, Terms::new(PROGRAM, about), room)?;
    let prepare = |_: &dyn Monitor| {
        let (ways, breaching) = (ways.clone(), breaching.clone());
        let (surface, told) = (unfilled.surface().clone(), serde_json::Value::Null);
        Ok(Ground { surface, ways, breaching, beside: Vec::new(), told })
    };
    let computed = opened.work(prepare, &|what| handle.say(what), &part(0.15, 0.33));
    let computed = match computed {
        Ok(computed) => computed,
        // What was computed so far is of use where the job is done again, unless nobody wants it, or nobody can read it.
        Err(error) => {
            use bothros_joint::Error as E;
            if matches!(error, E::Core(_) | E::Damaged { .. })
                && let Err(trouble) = opened.close()
            {
                tracing::warn!(%trouble, "what was shared is left there");
            }
            return Err(error.into());
        }
    };
    opened.close()?;
    let Computed { breached, filled, directions, accumulation, divided, .. } = computed;
    let (seconds, last) = (begun.elapsed().as_secs_f64(), part(0.33, 0.35));
    let done = conditioned_by_bands(unfilled, breached, filled, seconds, frame, &last)?;
    let accumulation = match divided {
        Some(divided) => carried_down(&directions, &divided, &last)?,
        None => accumulation,
    };
    Ok(Some(Together { done, directions, accumulation }))
}

/// Whoever helps: stopped where it gets a job of its own, or where nobody waits for it any more.
struct Helping<'a>(&'a tokio::sync::watch::Receiver<bool>);

impl Monitor for Helping<'_> {
    fn progress(&self, _: f64) {}

    fn is_cancelled(&self) -> bool {
        *self.0.borrow() || AT_WORK.load(Ordering::Relaxed) > 0
    }
}

/// Helps other workers whenever this process has no job, until `stop` is true; at once where nothing is shared.
#[boxed]
pub async fn help_others(mut stop: tokio::sync::watch::Receiver<bool>) {
    let Some(sharing) = SHARING.get() else { return };
    loop {
        // Where nobody could say so any more, it is over too.
        if tokio::time::timeout(LOOK, stop.wait_for(|stop| *stop)).await.is_ok() {
            return;
        }
        if AT_WORK.load(Ordering::Relaxed) > 0 {
            continue;
        }
        let (place, until) = (sharing.place.clone(), stop.clone());
        let room = room_in(bothros_core::memory::limit());
        let helped = bothros_store::background::as_job(blocking(move || {
            Ok(Works::at(&place)?.help(PROGRAM, room, &Helping(&until))?)
        }));
        match helped.await {
            Ok(0) => {}
            Ok(bands) => tracing::info!(bands, "helped another worker"),
            Err(error) if error.is_cancelled() => {}
            Err(error) => tracing::warn!(%error, "another worker cannot be helped"),
        }
    }
}
