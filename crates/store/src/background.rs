//! Threads for jobs, with a lower priority than requests.
//!
//! Jobs compute on threads of their own, at a lower priority than those that answer requests: they have all processors
//! while there are no requests, and requests are answered at once. Whether code runs for a job is known by the
//! task it runs
//! in.

use std::sync::OnceLock;

use rayon::{ThreadPool, ThreadPoolBuilder};

/// Threads of their own, and how far their priority lies below that of answers, from 0 to 19.
struct Threads {
    name: &'static str,
    nice: i32,
    pool: OnceLock<Option<ThreadPool>>,
}

/// Those that compute.
static JOBS: Threads = Threads { name: "job", nice: 15, pool: OnceLock::new() };

/// Those that pack results: what is made leaves while the next is computed.
static PACKING: Threads = Threads { name: "packing", nice: 10, pool: OnceLock::new() };

tokio::task_local! {
    static IN_JOB: ();
}

impl Threads {
    /// `None` where the system has none to give, and jobs share those of answers.
    #[allow(unsafe_code)]
    fn pool(&'static self) -> Option<&'static ThreadPool> {
        let build = || {
            let begin = |_| {
                // SAFETY: the call takes numbers only, and concerns the calling thread alone. Where it fails the thread
                // keeps its priority.
                unsafe { libc::setpriority(libc::PRIO_PROCESS, 0, self.nice) };
            };
            let named = ThreadPoolBuilder::new().thread_name(|n| format!("{}-{n}", self.name));
            let built = named.start_handler(begin).build();
            built.inspect_err(|error| tracing::warn!(%error, "jobs share the threads of answers")).ok()
        };
        self.pool.get_or_init(build).as_ref()
    }

    fn run<T: Send>(&'static self, for_job: bool, work: impl FnOnce() -> T + Send) -> T {
        match self.pool().filter(|_| for_job) {
            Some(pool) => pool.install(work),
            None => work(),
        }
    }
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
    JOBS.run(for_job, work)
}

/// Runs work that makes results ready to be kept, beside what a job computes meanwhile.
pub(crate) fn pack<T: Send>(for_job: bool, work: impl FnOnce() -> T + Send) -> T {
    PACKING.run(for_job, work)
}

/// As [`pack`], from a task that answers no others meanwhile.
pub(crate) fn pack_here<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    let for_job = in_job();
    let many = tokio::runtime::Handle::try_current()
        .is_ok_and(|h| h.runtime_flavor() == tokio::runtime::RuntimeFlavor::MultiThread);
    match many {
        true => tokio::task::block_in_place(|| pack(for_job, work)),
        false => pack(for_job, work),
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
        assert!(as_job(async { pack(in_job(), name) }).await.starts_with("packing-"));
        assert!(!compute(in_job(), name).starts_with("job-"));
    }
}
