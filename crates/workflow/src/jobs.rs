//! Jobs: which step does which, and where they compute.

use bothros_store::{Job, JobHandle, JobKind, Outcome, Store};

use crate::catchments::uncertainty;
use crate::conditioning::{review, route};
use crate::handover::package;
use crate::inputs::layers;
use crate::recipe::{follow, run_to};
use crate::sheets::atlas;
use crate::terrain::{fetch, import, prepare};
use crate::{Error, GridCache, Result, boxed};

/// Does a job, whatever it is.
#[boxed]
pub async fn work(store: Store, grids: GridCache, job: Job, handle: JobHandle) -> Outcome {
    let done = match JobKind::from_name(&job.kind) {
        Some(JobKind::Fetch) => fetch::run(&store, &grids, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Import) => import::run(&store, &grids, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Prepare) => prepare::run(&store, &grids, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Layer) => layers::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Review) => review::run(&store, job.study_id, &handle).await,
        Some(JobKind::Route) => route::run(&store, &grids, job.study_id, &handle).await,
        Some(JobKind::Package) => package::run(&store, &grids, job.study_id, &handle).await,
        Some(JobKind::Realise) => uncertainty::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Atlas) => atlas::run(&store, &grids, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Follow) => follow::run(&store, &grids, job.study_id, &handle).await,
        Some(JobKind::RunTo) => {
            Box::pin(run_to::run(&store, &grids, job.study_id, &job.parameters, &handle)).await
        }
        None => Err(Error::Refused(format!("this version does not know the job “{}”", job.kind))),
    };
    match done {
        Ok(message) => Outcome::Done(message),
        Err(error) if error.is_cancelled() || bothros_core::Monitor::is_cancelled(&handle) => {
            Outcome::Cancelled
        }
        Err(Error::Store(bothros_store::Error::Away)) => Outcome::Away,
        Err(error) => Outcome::Failed(error.to_string()),
    }
}

/// How often a job that waits looks whether it was cancelled.
const LOOKS: std::time::Duration = std::time::Duration::from_millis(100);

/// Waits for work as part of a job; it is let go of when the job is cancelled, and what listens then stops.
///
/// # Errors
/// Those of the work; [`bothros_core::Error::Cancelled`].
pub(crate) async fn unless_cancelled<T>(
    handle: &JobHandle,
    work: impl Future<Output = Result<T>>,
) -> Result<T> {
    let cancelled = async {
        while !bothros_core::Monitor::is_cancelled(handle) {
            tokio::time::sleep(LOOKS).await;
        }
    };
    tokio::select! {
        done = work => done,
        () = cancelled => Err(bothros_core::Error::Cancelled.into()),
    }
}

/// Runs work that keeps a processor busy, away from the threads that answer requests; for a job, at the priority of
/// jobs.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let for_job = bothros_store::background::in_job();
    let run = move || bothros_store::background::compute(for_job, work);
    tokio::task::spawn_blocking(run).await.map_err(|e| Error::Io(std::io::Error::other(e)))?
}
