//! A job in a process of its own.
//!
//! A job whose process ended once (of too little memory, most likely) is tried once more, but not in the server: a
//! process is started for it, which the system ends first when memory is short. It tells on standard output how far it
//! is, one line of JSON at a time, and how it ended.

use std::process::Stdio;
use std::time::Duration;

use crate::boxed;
use bothros_core::Monitor;
use bothros_store::{Job, JobHandle, Outcome, Store};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::process::Command;

/// A line from the process.
#[derive(Serialize, Deserialize)]
enum Line {
    Progress(f64, String),
    Done(String),
    Cancelled,
    Failed(String),
    Away,
}

const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Runs a job in a process of its own, and returns how it ended.
#[boxed]
pub async fn work(url: &str, job: &Job, handle: &JobHandle) -> Outcome {
    match converse(url, job, handle).await {
        Ok(outcome) => outcome,
        Err(error) => Outcome::Failed(format!("a process for it could not be started: {error}")),
    }
}

async fn converse(url: &str, job: &Job, handle: &JobHandle) -> std::io::Result<Outcome> {
    // What does not fit the memory of this process does not fit that of the other.
    let limit = match crate::limits::most_memory() {
        Some(bytes) => ["--max-memory".to_owned(), bothros_recipe::Bytes(bytes).to_string()],
        None => ["--memory-mb".to_owned(), (bothros_core::memory::limit() / 1_000_000).to_string()],
    };
    let shared = bothros_workflow::sharing().map(|sharing| {
        let from = sharing.from_cells.to_string();
        ["--share-routing".into(), sharing.place.clone(), "--share-from-cells".into(), from]
    });
    let mut process = Command::new(std::env::current_exe()?)
        .args(["one-job", &job.id.to_string()])
        .args(limit)
        .args(shared.into_iter().flatten())
        .env("BOTHROS_DATABASE_URL", url)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .kill_on_drop(true)
        .spawn()?;
    let from = process.stdout.take().ok_or_else(|| std::io::Error::other("a process without output"))?;
    let mut lines = BufReader::new(from).lines();
    loop {
        let line = tokio::select! {
            line = lines.next_line() => line?,
            () = tokio::time::sleep(LOOK_EVERY) => {
                if handle.is_cancelled() {
                    process.kill().await?;
                    return Ok(Outcome::Cancelled);
                }
                continue;
            }
        };
        let Some(line) = line else { break };
        match serde_json::from_str(&line) {
            Ok(Line::Progress(share, message)) => {
                handle.progress(share);
                handle.say(&message);
            }
            Ok(Line::Done(message)) => return Ok(Outcome::Done(message)),
            Ok(Line::Cancelled) => return Ok(Outcome::Cancelled),
            Ok(Line::Failed(message)) => return Ok(Outcome::Failed(message)),
            Ok(Line::Away) => return Ok(Outcome::Away),
            Err(_) => tracing::warn!(line, "a line of a job that cannot be read"),
        }
    }
    use std::os::unix::process::ExitStatusExt;
    let status = process.wait().await?;
    let why = match status.signal() {
        Some(9) => "the system ended it, most likely for lack of memory".to_owned(),
        Some(signal) => format!("it was ended by signal {signal}"),
        None => "it ended by itself".to_owned(),
    };
    Ok(Outcome::Interrupted(format!(
        "the process that worked on it ended twice, at “{}”: {why}. Nothing was changed. Try a larger cell size or a smaller area",
        handle.message()
    )))
}

/// Works on the job of a number, as the process that [`work`] starts.
///
/// # Errors
/// Where the database cannot be reached, or there is no such job.
#[boxed]
pub async fn run(url: &str, id: i64) -> anyhow::Result<()> {
    // When memory is short the system ends this process before any other.
    if let Err(error) = std::fs::write("/proc/self/oom_score_adj", "1000") {
        tracing::debug!(%error, "this process is not the first to go");
    }
    let store = Store::connect(url).await?;
    let job = store.job(id).await?;
    let handle = JobHandle::default();
    let told = handle.clone();
    let telling = tokio::spawn(async move {
        loop {
            tokio::time::sleep(LOOK_EVERY).await;
            if say(&Line::Progress(told.share(), told.message())).await.is_err() {
                // Nobody hears: the server has gone, and takes the job up again when it is back.
                std::process::exit(3);
            }
        }
    });
    let work = bothros_workflow::work(store, crate::limits::grids(), job, handle);
    let outcome = bothros_store::background::as_job(work).await;
    telling.abort();
    say(&match outcome {
        Outcome::Done(message) => Line::Done(message),
        Outcome::Cancelled => Line::Cancelled,
        Outcome::Failed(message) | Outcome::Interrupted(message) => Line::Failed(message),
        Outcome::Away => Line::Away,
    })
    .await
}

async fn say(line: &Line) -> anyhow::Result<()> {
    let mut out = tokio::io::stdout();
    out.write_all(format!("{}\n", serde_json::to_string(line)?).as_bytes()).await?;
    Ok(out.flush().await?)
}
