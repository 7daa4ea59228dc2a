//! Jobs on a queue in PostgreSQL: queued, run by any worker, reported on, cancelled.
//!
//! The queue (apalis) carries the number of a job; the row in `job` is the truth about its state.
//! A worker claims the row before it begins, so that a number that is delivered twice is worked
//! once. While it works it leaves a sign of life; a job whose worker has fallen silent is queued
//! once more, to be worked on apart: in a process of its own, so that a job that ends its process does not end the
//! server's a second time. A worker that stops in good order gives its jobs back, which does not count.

use std::future::Future;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use apalis::prelude::*;
use apalis_postgres::{Config, PostgresStorage};
use bothros_core::Monitor as CoreMonitor;
use futures::future::BoxFuture;
use sea_orm::prelude::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult,
    QueryFilter, QueryOrder, Statement,
};
use serde::{Deserialize, Serialize};

use crate::entity::job;
use crate::{Error as StoreError, Result as StoreResult, boxed};
use crate::{Event, Job, Kept, Record, Store};

const QUEUE: &str = "bothros";
const LOOK_EVERY: Duration = Duration::from_millis(100);
/// Silence after which a worker is considered dead.
const SILENT_SECONDS: f64 = 15.0;
const ATTEMPTS: i32 = 2;
/// How long a job waits for a lost database; after that other workers take the job up.
const AWAY: Duration = Duration::from_secs(60);
/// A job that has waited so long was perhaps never pushed onto the queue: the process ended in between.
const FORGOTTEN_SECONDS: f64 = 20.0;

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum JobKind {
    /// fetch elevations from an archive, and read them
    Fetch,
    /// read the DEM file
    Import,
    /// warp or crop the DEM
    Prepare,
    /// read a large layer
    Layer,
    /// find sinks and barriers
    Review,
    /// condition, route, accumulate
    Route,
    /// write the package for download
    Package,
    /// make realisations of the DEM
    Realise,
    /// write a sheet once for each catchment
    Atlas,
    /// do what a recipe says
    Follow,
    /// run the study as far as a step
    RunTo,
}

impl JobKind {
    /// Name in the database.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fetch => "fetch",
            Self::Import => "import",
            Self::Prepare => "prepare",
            Self::Layer => "layer",
            Self::Review => "review",
            Self::Route => "route",
            Self::Package => "package",
            Self::Realise => "realise",
            Self::Atlas => "atlas",
            Self::Follow => "follow",
            Self::RunTo => "run_to",
        }
    }
    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        let all = [
            Self::Fetch,
            Self::Import,
            Self::Prepare,
            Self::Layer,
            Self::Review,
            Self::Route,
            Self::Package,
            Self::Realise,
            Self::Atlas,
            Self::Follow,
            Self::RunTo,
        ];
        all.into_iter().find(|k| k.name() == name)
    }
    /// In words.
    pub fn title(self) -> &'static str {
        match self {
            Self::Fetch => "Fetching elevations",
            Self::Import => "Reading the DEM",
            Self::Prepare => "Preparing the DEM",
            Self::Layer => "Reading the layer",
            Self::Review => "Finding sinks and barriers",
            Self::Route => "Conditioning and routing flow",
            Self::Package => "Writing the package",
            Self::Realise => "Making realisations of the DEM",
            Self::Atlas => "Writing the atlas",
            Self::Follow => "Following the recipe",
            Self::RunTo => "Running the steps",
        }
    }
}

/// State of a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JobState {
    /// waits for a worker
    Queued,
    /// is worked on
    Running,
    /// has ended well
    Done,
    /// has ended badly; nothing was changed
    Failed,
    /// was stopped; nothing was changed
    Cancelled,
    /// the process that worked on it ended; nothing was changed
    Interrupted,
}

impl JobState {
    /// Name in the database.
    pub fn name(self) -> &'static str {
        match self {
            Self::Queued => "queued",
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
            Self::Interrupted => "interrupted",
        }
    }
}

impl Job {
    /// Whether it waits or is worked on.
    pub fn is_active(&self) -> bool {
        self.state == JobState::Queued.name() || self.state == JobState::Running.name()
    }
    /// What it does, in words.
    pub fn title(&self) -> &'static str {
        JobKind::from_name(&self.kind).map_or("Work", JobKind::title)
    }
    /// How it ended, with what it does before it unless that is how it begins.
    pub fn told(&self) -> String {
        headed(self.title(), &self.message)
    }
}

/// A message under a title, which it may begin with.
fn headed(title: &str, message: &str) -> String {
    match message.get(..title.len()).filter(|begins| begins.eq_ignore_ascii_case(title)) {
        Some(_) => format!("{title}{}", &message[title.len()..]),
        None => format!("{title}: {message}"),
    }
}

/// How a job ended.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    /// well, with what was achieved in words
    Done(String),
    /// it was stopped
    Cancelled,
    /// badly, with what to do
    Failed(String),
    /// the process that worked on it ended, with why
    Interrupted(String),
    /// the database went away: it is to be begun again when it is back
    Away,
}

/// Handle of a running job: reports progress, receives cancellation.
#[derive(Clone)]
pub struct JobHandle {
    shared: Arc<Shared>,
    /// the part of the whole that its progress stands for
    part: (f64, f64),
}

#[derive(Default)]
struct Shared {
    cancelled: AtomicBool,
    /// bits of an f64
    progress: AtomicU64,
    message: Mutex<String>,
}

impl Default for JobHandle {
    fn default() -> Self {
        Self { shared: Arc::default(), part: (0.0, 1.0) }
    }
}

impl JobHandle {
    /// Asks the work to stop.
    pub fn cancel(&self) {
        self.shared.cancelled.store(true, Ordering::Relaxed);
    }
    /// The same job, for work that is the part of it between two shares.
    pub fn part(&self, from: f64, to: f64) -> Self {
        let (begin, end) = self.part;
        let within = |share: f64| begin + (end - begin) * share;
        Self { shared: self.shared.clone(), part: (within(from), within(to)) }
    }
    /// Says what is done now.
    pub fn say(&self, message: &str) {
        if let Ok(mut current) = self.shared.message.lock() {
            message.clone_into(&mut current);
        }
    }
    /// What is done now.
    pub fn message(&self) -> String {
        self.shared.message.lock().map(|m| m.clone()).unwrap_or_default()
    }
    /// The share that is done.
    pub fn share(&self) -> f64 {
        f64::from_bits(self.shared.progress.load(Ordering::Relaxed))
    }
}

impl CoreMonitor for JobHandle {
    fn progress(&self, share: f64) {
        let (from, to) = self.part;
        self.shared.progress.store((from + (to - from) * share).to_bits(), Ordering::Relaxed);
    }
    fn is_cancelled(&self) -> bool {
        self.shared.cancelled.load(Ordering::Relaxed)
    }
}

pub(crate) async fn active(db: &impl ConnectionTrait, study: i64) -> StoreResult<Option<Job>> {
    let states = [JobState::Queued.name(), JobState::Running.name()];
    let found =
        job::Entity::find().filter(job::Column::StudyId.eq(study)).filter(job::Column::State.is_in(states));
    Ok(found.one(db).await?)
}

pub(crate) async fn insert(
    db: &impl ConnectionTrait,
    study: i64,
    kind: JobKind,
    parameters: Kept,
) -> StoreResult<Job> {
    if let Some(active) = active(db, study).await? {
        return Err(StoreError::Busy(active.title().into()));
    }
    let row = job::ActiveModel {
        study_id: Set(study),
        kind: Set(kind.name().into()),
        parameters: Set(parameters.into_json()),
        state: Set(JobState::Queued.name().into()),
        progress: Set(0.0),
        message: Set("waiting for a worker".into()),
        cancel_requested: Set(false),
        attempts: Set(0),
        created_at: Set(crate::studies::now()),
        ..Default::default()
    };
    Ok(row.insert(db).await?)
}

impl Store {
    /// Asks for a job. A study has one at a time.
    ///
    /// # Errors
    /// [`StoreError::Busy`] where another is queued or running.
    #[boxed]
    pub async fn enqueue(&self, study: i64, kind: JobKind, parameters: Kept) -> StoreResult<Job> {
        let job = self.change(study).await?.commit(Record::job(kind, parameters)).await?;
        job.ok_or(StoreError::NotFound("job"))
    }

    pub(crate) async fn push(&self, job: i64) -> StoreResult<()> {
        let config = Config::default().queue(QUEUE);
        let mut queue: PostgresStorage<i64> =
            PostgresStorage::new(self.db.get_postgres_connection_pool()).with_config(config);
        queue.push(job).await.map_err(|e| StoreError::Queue(e.to_string()))
    }

    /// The job of a study that waits or runs.
    #[boxed]
    pub async fn active_job(&self, study: i64) -> StoreResult<Option<Job>> {
        active(&self.db, study).await
    }

    /// All jobs that wait or run.
    #[boxed]
    pub async fn active_jobs(&self) -> StoreResult<Vec<Job>> {
        let states = [JobState::Queued.name(), JobState::Running.name()];
        let found =
            job::Entity::find().filter(job::Column::State.is_in(states)).order_by_asc(job::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// The last job of a study, in any state.
    #[boxed]
    pub async fn last_job(&self, study: i64) -> StoreResult<Option<Job>> {
        let found = job::Entity::find().filter(job::Column::StudyId.eq(study)).order_by_desc(job::Column::Id);
        Ok(found.one(&self.db).await?)
    }

    /// A job by number.
    #[boxed]
    pub async fn job(&self, id: i64) -> StoreResult<Job> {
        job::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("job"))
    }

    /// Cancels a job: a queued one at once, a running one at its next check.
    #[boxed]
    pub async fn cancel_job(&self, id: i64) -> StoreResult<()> {
        job::Entity::update_many()
            .col_expr(job::Column::State, Expr::value(JobState::Cancelled.name()))
            .col_expr(job::Column::FinishedAt, Expr::value(crate::studies::now()))
            .col_expr(job::Column::Message, Expr::value("cancelled before it began"))
            .filter(job::Column::Id.eq(id))
            .filter(job::Column::State.eq(JobState::Queued.name()))
            .exec(&self.db)
            .await?;
        job::Entity::update_many()
            .col_expr(job::Column::CancelRequested, Expr::value(true))
            .filter(job::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        self.tell_job(&self.job(id).await?).await
    }

    pub(crate) async fn tell_job(&self, job: &Job) -> StoreResult<()> {
        self.tell(&Event {
            study: job.study_id,
            job: Some(job.id),
            state: Some(job.state.clone()),
            progress: job.progress,
            message: job.message.clone(),
        })
        .await
    }

    async fn one_job(&self, sql: &str, values: Vec<sea_orm::Value>) -> StoreResult<Option<Job>> {
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, values);
        Ok(Job::find_by_statement(statement).one(&self.db).await?)
    }

    /// Gives back the jobs that a worker was at, which stops in good order: they are begun again by the next.
    #[boxed]
    pub async fn give_back(&self, worker: &str) -> StoreResult<()> {
        let sql = "UPDATE job SET state = 'queued', worker = NULL, progress = 0, attempts = attempts - 1,
                message = 'the server was stopped; it goes on when it is started again'
            WHERE state = 'running' AND worker = $1 RETURNING *";
        while self.one_job(sql, vec![worker.to_owned().into()]).await?.is_some() {}
        Ok(())
    }

    /// Queues a job again that lost the database, once that is back. One that is taken up by another user meanwhile,
    /// since it gave no sign of life, is left to them.
    async fn begin_again(&self, id: i64, worker: &str) -> StoreResult<()> {
        let sql = "UPDATE job SET state = 'queued', worker = NULL, progress = 0, attempts = attempts - 1, heartbeat_at = now(),
                message = 'the database was away; it is begun again'
            WHERE id = $1 AND worker = $2 AND state = 'running' RETURNING *";
        let begun = std::time::Instant::now();
        loop {
            match self.one_job(sql, vec![id.into(), worker.to_owned().into()]).await {
                Ok(Some(job)) => {
                    self.push(job.id).await?;
                    return self.tell_job(&job).await;
                }
                Ok(None) => return Ok(()),
                Err(error) if begun.elapsed() > AWAY => return Err(error),
                Err(_) => tokio::time::sleep(Duration::from_secs(1)).await,
            }
        }
    }

    /// Pushes jobs onto the queue again that have waited for so long that they were perhaps never pushed. One that is
    /// delivered twice is worked on once.
    async fn push_forgotten(&self) -> StoreResult<()> {
        let sql = "UPDATE job SET message = 'waiting for a worker', heartbeat_at = now()
            WHERE id = (SELECT id FROM job WHERE state = 'queued'
                AND coalesce(heartbeat_at, created_at) < now() - make_interval(secs => $1)
                ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *";
        while let Some(job) = self.one_job(sql, vec![FORGOTTEN_SECONDS.into()]).await? {
            self.push(job.id).await?;
        }
        Ok(())
    }

    /// Queues once more what silent workers left behind, to be worked on apart; after the second time it is given up.
    /// `dead` is a worker that is known to be gone, whatever its last sign of life.
    #[boxed]
    pub async fn take_up_interrupted(&self, dead: Option<&str>) -> StoreResult<usize> {
        let silent =
            "state = 'running' AND (heartbeat_at < now() - make_interval(secs => $1) OR worker = $2)";
        let values =
            |last: i32| vec![SILENT_SECONDS.into(), dead.unwrap_or("").to_owned().into(), last.into()];
        let mut count = 0;
        let given_up = format!(
            "UPDATE job SET state = 'interrupted', finished_at = now(),
                message = 'the process that worked on it ended twice, the last time at “' || message
                    || '”: perhaps it needs more memory than this machine has. Nothing was changed'
             WHERE id = (SELECT id FROM job WHERE {silent} AND attempts >= $3 LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *"
        );
        while let Some(job) = self.one_job(&given_up, values(ATTEMPTS)).await? {
            self.tell_job(&job).await?;
            count += 1;
        }
        let again = format!(
            "UPDATE job SET state = 'queued', worker = NULL, progress = 0, apart = true, heartbeat_at = now(),
                message = 'the process that worked on it ended at “' || message || '”; it is tried once more, apart'
             WHERE id = (SELECT id FROM job WHERE {silent} AND attempts < $3 LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *"
        );
        while let Some(job) = self.one_job(&again, values(ATTEMPTS)).await? {
            self.push(job.id).await?;
            self.tell_job(&job).await?;
            count += 1;
        }
        Ok(count)
    }
}

/// A process, or part of one, that works on jobs.
pub struct Worker {
    store: Store,
    name: String,
}

/// A task that is aborted when its owner is dropped.
struct EndsWithUs(tokio::task::JoinHandle<()>);

impl Drop for EndsWithUs {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl Worker {
    /// A worker with a name that tells it from all others.
    pub fn new(store: Store, name: impl Into<String>) -> Self {
        Self { store, name: name.into() }
    }

    /// Works until `stop` is ready. `work` does a job; it runs for several jobs at once.
    pub async fn run<W, F>(self, work: W, stop: impl Future<Output = ()> + Send + 'static) -> StoreResult<()>
    where
        W: Fn(Job, JobHandle) -> F + Clone + Send + Sync + 'static,
        F: Future<Output = Outcome> + Send + 'static,
    {
        let (store, name) = (self.store.clone(), self.name.clone());
        let pool = store.db.get_postgres_connection_pool();
        let queue: PostgresStorage<i64> =
            PostgresStorage::new(pool).with_config(Config::default().queue(QUEUE).batch_size(2));
        let queue = queue.with_pubsub().poll_with_interval(Duration::from_secs(2));
        let sweeper = EndsWithUs(tokio::spawn({
            let store = store.clone();
            async move {
                loop {
                    tokio::time::sleep(Duration::from_secs(3)).await;
                    if let Err(error) = store.take_up_interrupted(None).await {
                        tracing::warn!(%error, "interrupted jobs could not be looked for");
                    }
                    if let Err(error) = store.push_forgotten().await {
                        tracing::warn!(%error, "forgotten jobs could not be looked for");
                    }
                }
            }
        }));
        let handler = {
            let store = store.clone();
            let name = name.clone();
            move |id: i64| {
                let (store, name, work) = (store.clone(), name.clone(), work.clone());
                async move {
                    // Its own task, so that a panic of the work ends the job and not the worker.
                    let done = tokio::spawn(perform(store, name, id, work)).await;
                    let failure = match done {
                        Ok(Ok(())) => return Ok(()),
                        Ok(Err(error)) => error.to_string(),
                        Err(error) => error.to_string(),
                    };
                    tracing::error!(job = id, failure, "a job could not be worked on");
                    Err(std::io::Error::other(failure))
                }
            }
        };
        // Names on the queue must never be used again.
        let on_queue = format!("{name}-{}", uuid::Uuid::new_v4());
        let worker = WorkerBuilder::new(on_queue).backend(queue).build(handler);
        let stop = async move {
            stop.await;
            Ok::<_, std::io::Error>(())
        };
        let running: BoxFuture<'static, _> = Box::pin(worker.run_until(stop));
        let ended = running.await;
        drop(sweeper);
        ended.map_err(|e| StoreError::Queue(e.to_string()))
    }
}

async fn perform<W, F>(store: Store, worker: String, id: i64, work: W) -> StoreResult<()>
where
    W: Fn(Job, JobHandle) -> F + Send + Sync + 'static,
    F: Future<Output = Outcome> + Send + 'static,
{
    let claim = "UPDATE job SET state = 'running', worker = $2, attempts = attempts + 1, progress = 0,
            message = 'starting', heartbeat_at = now(), started_at = now()
        WHERE id = $1 AND state = 'queued' RETURNING *";
    let Some(job) = store.one_job(claim, vec![id.into(), worker.clone().into()]).await? else {
        // Cancelled before it began, or delivered twice.
        return Ok(());
    };
    store.tell_job(&job).await?;
    let handle = JobHandle::default();
    handle.say("starting");
    let sign = tokio::spawn(sign_of_life(store.clone(), job.clone(), worker.clone(), handle.clone()));
    let outcome = match tokio::spawn(crate::background::as_job(work(job.clone(), handle.clone()))).await {
        Ok(outcome) => outcome,
        Err(error) => {
            tracing::error!(job = id, %error, "the work on a job ended unexpectedly");
            Outcome::Failed("the work ended unexpectedly; nothing was changed. Start it again, and look into the server's messages if it fails again".into())
        }
    };
    sign.abort();
    let (state, message, progress) = match outcome {
        Outcome::Done(message) => (JobState::Done, message, 1.0),
        Outcome::Cancelled => (JobState::Cancelled, "cancelled; nothing was changed".into(), handle.share()),
        Outcome::Failed(message) => (JobState::Failed, message, handle.share()),
        Outcome::Interrupted(message) => (JobState::Interrupted, message, handle.share()),
        // Nothing was kept, and nobody is to blame: it waits for the database, and is begun again.
        Outcome::Away => return store.begin_again(id, &worker).await,
    };
    let end = "UPDATE job SET state = $3, message = $4, progress = $5, finished_at = now()
        WHERE id = $1 AND worker = $2 AND state = 'running' RETURNING *";
    let values =
        vec![id.into(), worker.into(), state.name().to_owned().into(), message.into(), progress.into()];
    if let Some(job) = store.one_job(end, values).await? {
        store.tell_job(&job).await?;
    }
    Ok(())
}

/// Reports progress, and learns whether the job should stop.
async fn sign_of_life(store: Store, job: Job, worker: String, handle: JobHandle) {
    let sql = "UPDATE job SET heartbeat_at = now(), progress = $3, message = $4
        WHERE id = $1 AND worker = $2 AND state = 'running' RETURNING *";
    let mut told = (f64::NAN, String::new());
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        let now = (handle.share(), handle.message());
        let values = vec![job.id.into(), worker.clone().into(), now.0.into(), now.1.clone().into()];
        match store.one_job(sql, values).await {
            Ok(Some(row)) => {
                if row.cancel_requested {
                    handle.shared.cancelled.store(true, Ordering::Relaxed);
                }
                if told != now {
                    if let Err(error) = store.tell_job(&row).await {
                        tracing::warn!(%error, "progress could not be told");
                    }
                    told = now;
                }
            }
            // Somebody took the job for dead and gave it to another: stop.
            Ok(None) => handle.shared.cancelled.store(true, Ordering::Relaxed),
            Err(error) => tracing::warn!(%error, "no sign of life could be given"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_message_begins_with_is_not_told_twice() {
        let title = "Finding sinks";
        assert_eq!(headed(title, "finding sinks would take 64 GB"), "Finding sinks would take 64 GB");
        assert_eq!(headed(title, "the disk is full"), "Finding sinks: the disk is full");
        assert_eq!(headed(title, ""), "Finding sinks: ");
        // No letter is cut through.
        assert_eq!(headed("ab", "aé is no name"), "ab: aé is no name");
    }
}
