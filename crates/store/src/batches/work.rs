//! Working on runs: each is claimed by one worker, and what it wrote is kept with its end, all or nothing.
//!
//! A worker works on one run at a time, which takes all processors. While it works it leaves a sign of life; a run whose
//! worker has fallen silent is queued once more.

use std::future::Future;
use std::path::PathBuf;
use std::time::Duration;

use sea_orm::{ConnectionTrait, FromQueryResult, Statement, TransactionTrait};
use serde_json::Value as Json;

use super::{Run, files};
use crate::{JobHandle, Result, Store, boxed};

/// Time between two looks for a run that waits.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// Time between two signs of life.
const SIGN_EVERY: Duration = Duration::from_millis(250);
/// Silence after which a worker is considered dead.
const SILENT_SECONDS: f64 = 15.0;
/// How often a run is begun whose process ends.
const ATTEMPTS: i32 = 2;

/// How a run ended.
pub enum RunOutcome {
    /// well, with its summary and the files that it wrote: their names and where they lie, in a folder that goes when this does
    Done(Json, Vec<(String, PathBuf)>, tempfile::TempDir),
    /// badly, with what to do
    Failed(String),
    /// it was stopped
    Cancelled,
}

/// A process that works on runs.
pub struct RunWorker {
    store: Store,
    name: String,
    program: String,
}

impl Store {
    async fn one_run(&self, sql: &str, values: Vec<sea_orm::Value>) -> Result<Option<Run>> {
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, values);
        Ok(Run::find_by_statement(statement).one(&self.db).await?)
    }

    /// Gives back the runs that a worker was at, which stops in good order.
    #[boxed]
    pub async fn give_back_runs(&self, worker: &str) -> Result<()> {
        let sql = "UPDATE run SET state = 'queued', worker = NULL, progress = 0, attempts = attempts - 1,
                message = 'the worker was stopped; another goes on with it'
            WHERE state = 'running' AND worker = $1 RETURNING *";
        while self.one_run(sql, vec![worker.to_owned().into()]).await?.is_some() {}
        Ok(())
    }

    /// Queues once more what silent workers left behind; after the second time it is given up. `dead` is a worker that is known
    /// to be gone.
    #[boxed]
    pub async fn take_up_interrupted_runs(&self, dead: Option<&str>) -> Result<()> {
        let silent =
            "state = 'running' AND (heartbeat_at < now() - make_interval(secs => $1) OR worker = $2)";
        let which = |more: &str| {
            format!(
                "WHERE id = (SELECT id FROM run WHERE {silent} AND {more} LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *"
            )
        };
        let values = || vec![SILENT_SECONDS.into(), dead.unwrap_or("").to_owned().into(), ATTEMPTS.into()];
        let given_up = format!(
            "UPDATE run SET state = 'interrupted', finished_at = now(),
                message = 'the process that worked on it ended twice, the last time at “' || message
                    || '”: perhaps it needs more memory than the machine has' {}",
            which("attempts >= $3")
        );
        while self.one_run(&given_up, values()).await?.is_some() {}
        let again = format!(
            "UPDATE run SET state = 'queued', worker = NULL, progress = 0,
                message = 'the process that worked on it ended; it is tried once more' {}",
            which("attempts < $3")
        );
        while self.one_run(&again, values()).await?.is_some() {}
        Ok(())
    }

    /// Keeps the end of a run with what it wrote, unless it was given to another meanwhile.
    async fn end_run(&self, run: &Run, worker: &str, outcome: RunOutcome, share: f64) -> Result<()> {
        let transaction = self.db.begin().await?;
        let (state, message, share, summary) = match &outcome {
            RunOutcome::Done(summary, ..) => ("done", String::new(), 1.0, Some(summary.clone())),
            RunOutcome::Failed(why) => ("failed", why.clone(), share, None),
            RunOutcome::Cancelled => ("cancelled", "stopped".into(), share, None),
        };
        let sql = "UPDATE run SET state = $3, message = $4, progress = $5, summary = $6, finished_at = now()
            WHERE id = $1 AND worker = $2 AND state = 'running'";
        let values: Vec<sea_orm::Value> = vec![
            run.id.into(),
            worker.to_owned().into(),
            state.into(),
            message.into(),
            share.into(),
            summary.into(),
        ];
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, values);
        if transaction.execute_raw(statement).await?.rows_affected() == 0 {
            return Ok(());
        }
        if let RunOutcome::Done(_, written, _dir) = &outcome {
            files::drop_of_run(&transaction, run.id).await?;
            for (name, path) in written {
                files::put(&transaction, (run.batch_id, Some(run.id)), name, path).await?;
            }
        }
        transaction.commit().await?;
        Ok(())
    }
}

/// Asks work to stop when nobody waits for it any more.
struct Cancels(JobHandle);

impl Drop for Cancels {
    fn drop(&mut self) {
        self.0.cancel();
    }
}

impl RunWorker {
    /// A worker with a name that tells it from all others; it works on what this very program made.
    pub fn new(store: Store, name: impl Into<String>, program: impl Into<String>) -> Self {
        Self { store, name: name.into(), program: program.into() }
    }

    /// Works on runs, one at a time, until it is dropped.
    ///
    /// # Errors
    /// Where the database cannot be reached; to be called again then.
    pub async fn run<W, F>(self, work: W) -> Result<()>
    where
        W: Fn(Run, JobHandle) -> F + Send + Sync,
        F: Future<Output = RunOutcome> + Send + 'static,
    {
        loop {
            self.store.take_up_interrupted_runs(None).await?;
            let claim = "UPDATE run SET state = 'running', worker = $1, attempts = attempts + 1, progress = 0,
                    message = 'starting', heartbeat_at = now(), started_at = now(), finished_at = NULL
                WHERE id = (SELECT r.id FROM run r JOIN batch b ON b.id = r.batch_id
                    WHERE r.state = 'queued' AND b.program = $2 ORDER BY r.id LIMIT 1 FOR UPDATE OF r SKIP LOCKED)
                RETURNING *";
            let values = vec![self.name.clone().into(), self.program.clone().into()];
            let Some(run) = self.store.one_run(claim, values).await? else {
                tokio::time::sleep(LOOK_EVERY).await;
                continue;
            };
            let handle = JobHandle::default();
            handle.say("starting");
            let _ends_with_us = Cancels(handle.clone());
            let mut done = tokio::spawn(crate::background::as_job(work(run.clone(), handle.clone())));
            let outcome = loop {
                tokio::select! {
                    ended = &mut done => break ended,
                    () = tokio::time::sleep(SIGN_EVERY) => self.sign_of_life(&run, &handle).await,
                }
            };
            let outcome = outcome.unwrap_or_else(|error| {
                tracing::error!(run = run.id, %error, "the work on a run ended unexpectedly");
                RunOutcome::Failed("the work ended unexpectedly; look into the server's messages".into())
            });
            self.store.end_run(&run, &self.name, outcome, handle.share()).await?;
        }
    }

    /// Reports progress, and learns whether the run should stop.
    async fn sign_of_life(&self, run: &Run, handle: &JobHandle) {
        let sql = "UPDATE run SET heartbeat_at = now(), progress = $3, message = $4
            WHERE id = $1 AND worker = $2 AND state = 'running' RETURNING *";
        let values =
            vec![run.id.into(), self.name.clone().into(), handle.share().into(), handle.message().into()];
        match self.store.one_run(sql, values).await {
            Ok(Some(row)) if !row.cancel_requested => {}
            // Asked to stop; deleted; or somebody took it for dead and gave it to another.
            Ok(_) => handle.cancel(),
            Err(error) => tracing::warn!(%error, "no sign of life could be given"),
        }
    }
}
