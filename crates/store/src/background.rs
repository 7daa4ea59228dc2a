//! Threads for jobs, with a lower priority than requests.
//!
//! Jobs compute on threads of their own, at a lower priority than those that answer requests: they have all processors
//! while there are no requests, and requests are answered at once. Whether code runs for a job is known by the
//! task it runs
//! in.

use std::sync::OnceLock;

use rayon::{ThreadPool, ThreadPoolBuilder};

/// How far the priority of jobs lies below that of answers, from 0 to 19.
const NICE: i32 = 15;

tokio::task_local! {
    static IN_JOB: ();
}

/// The threads of jobs; `None` where the system has none to give, and jobs share those of answers.
#[allow(unsafe_code)]
fn pool() -> Option<&'static ThreadPool> {
    static POOL: OnceLock<Option<ThreadPool>> = OnceLock::new();
    let build = || {
        let begin = |_| {
            // SAFETY: the call takes numbers only, and concerns the calling thread alone. Where it fails the thread
            // keeps its priority.
            unsafe { libc::setpriority(libc::PRIO_PROCESS, 0, NICE) };
        };
        let built = ThreadPoolBuilder::new().thread_name(|n| format!("job-{n}")).start_handler(begin).build();
        built.inspect_err(|error| tracing::warn!(%error, "jobs share the threads of answers")).ok()
    };
    POOL.get_or_init(build).as_ref()
}

/// Runs what belongs to a job.
pub async fn as_job<F: Future>(work: F) -> F::Output {
    IN_JOB.scope((), work).await
}

/// Whether the current task belongs to a job.
pub fn in_job() -> bool {
    IN_JOB.try_with(|()| ()).is_ok()
}

/// Runs work that keeps processors busy: on the threads of jobs with `for_job`, else on this one and those of answers.
pub fn compute<T: Send>(for_job: bool, work: impl FnOnce() -> T + Send) -> T {
    match pool().filter(|_| for_job) {
        Some(pool) => pool.install(work),
        None => work(),
    }
}

/// As [`compute`], from a task that answers no others meanwhile.
pub(crate) fn compute_here<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    let for_job = in_job();
    let many = tokio::runtime::Handle::try_current()
        .is_ok_and(|h| h.runtime_flavor() == tokio::runtime::RuntimeFlavor::MultiThread);
    match many {
        true => tokio::task::block_in_place(|| compute(for_job, work)),
        false => compute(for_job, work),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn jobs_compute_on_threads_of_their_own() {
        assert!(!in_job());
        let name = || std::thread::current().name().unwrap_or_default().to_owned();
        let of_job = as_job(async { (in_job(), compute(in_job(), name)) }).await;
        assert!(of_job.0 && of_job.1.starts_with("job-"), "{of_job:?}");
        assert!(!compute(in_job(), name).starts_with("job-"));
    }
}
