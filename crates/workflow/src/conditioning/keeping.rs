//! Results of a routing on their way into the database, each while the next is computed.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use bothros_core::{Frame, Grid, Monitor};
use bothros_store::{JobHandle, NewRaster, RasterMeta, RasterRole, RasterWriter};
use tokio::sync::mpsc;

use crate::{Result, boxed};

/// A result that is made; none where a study has no such result.
pub(super) enum Made {
    /// and the DEM that it was, mostly
    Ground(Arc<Grid<f32>>, Arc<Grid<f32>>),
    Depth(Grid<f32>),
    Change(Option<Grid<f32>>),
    Directions(Arc<Grid<u8>>),
    Accumulation(Arc<Grid<u32>>),
    Surface(Option<Grid<f32>>),
    Weighted(Option<Grid<f32>>),
}

impl Made {
    /// Its share of the time that keeping all of them takes.
    fn share(&self) -> f64 {
        match self {
            Self::Ground(..) => 0.35,
            Self::Depth(_) => 0.15,
            Self::Change(_) => 0.05,
            Self::Directions(_) => 0.15,
            Self::Accumulation(_) => 0.25,
            Self::Surface(_) | Self::Weighted(_) => 0.025,
        }
    }
}

/// Where results go as they are made.
pub(super) struct Making(mpsc::UnboundedSender<Made>);

impl Making {
    /// Hands a result over.
    ///
    /// # Errors
    /// [`bothros_core::Error::Cancelled`] where the results cannot be kept: why is told by whoever keeps them.
    pub fn is_made(&self, made: Made) -> Result<()> {
        self.0.send(made).map_err(|_| bothros_core::Error::Cancelled.into())
    }
}

/// Keeps results as they are made.
pub(super) struct Keeping {
    made: mpsc::UnboundedReceiver<Made>,
    state: Arc<State>,
}

/// How far computing is.
#[derive(Default)]
pub(super) struct State {
    /// what is waited for is keeping
    all_made: AtomicBool,
    failed: AtomicBool,
}

impl State {
    /// Says that all is computed.
    pub fn all_made(&self) {
        self.all_made.store(true, Ordering::Relaxed);
    }
    /// Says that computing failed: what waits to be kept is of no use.
    pub fn failed(&self) {
        self.failed.store(true, Ordering::Relaxed);
    }
}

/// Both ends of the way, and how far computing is.
pub(super) fn way() -> (Making, Keeping, Arc<State>) {
    let (sender, made) = mpsc::unbounded_channel();
    let state = Arc::new(State::default());
    (Making(sender), Keeping { made, state: Arc::clone(&state) }, state)
}

impl Keeping {
    /// Keeps results until no more come; `dem` is the DEM that they come from. Progress is told from `from` to `to` once all are
    /// made. Returns the number of the accumulation.
    ///
    /// # Errors
    /// Those of the store; an interruption where the job was cancelled or computing failed.
    #[boxed]
    pub async fn keep(
        mut self,
        writer: &RasterWriter,
        dem: &RasterMeta,
        frame: &Frame,
        handle: &JobHandle,
        (from, to): (f64, f64),
    ) -> Result<Option<i64>> {
        let (mut done, mut number) = (0.0, None);
        while let Some(made) = self.made.recv().await {
            let (all, share) = (&self.state, made.share());
            let told = move |part: f64| {
                if all.all_made.load(Ordering::Relaxed) {
                    handle.progress(from + (to - from) * (done + share * part));
                }
                !handle.is_cancelled() && !all.failed.load(Ordering::Relaxed)
            };
            let at = |role| NewRaster::at(role, frame);
            match made {
                Made::Ground(ground, of) => {
                    _ = writer.put_beside(at(RasterRole::Filled), &ground, Some((dem, &of)), &told).await?;
                }
                Made::Depth(depth) => _ = writer.put(at(RasterRole::FillDepth), &depth, &told).await?,
                Made::Directions(codes) => _ = writer.put(at(RasterRole::Direction), &codes, &told).await?,
                Made::Accumulation(cells) => {
                    number = Some(writer.put(at(RasterRole::Accumulation), &cells, &told).await?);
                }
                Made::Change(found) => put_or_remove(writer, at(RasterRole::CutFill), found, &told).await?,
                Made::Surface(found) => {
                    put_or_remove(writer, at(RasterRole::RoutingSurface), found, &told).await?;
                }
                Made::Weighted(found) => {
                    put_or_remove(writer, at(RasterRole::Weighted), found, &told).await?
                }
            }
            done += share;
        }
        Ok(number)
    }
}

async fn put_or_remove(
    writer: &RasterWriter,
    new: NewRaster,
    found: Option<Grid<f32>>,
    told: &(dyn Fn(f64) -> bool + Sync),
) -> Result<()> {
    match found {
        Some(grid) => _ = writer.put(new, &grid, told).await?,
        None => writer.remove(&[new.role]).await?,
    }
    Ok(())
}
