//! Doing a run: what it reads is fetched, the recipe run, what it wrote given back.

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use bothros_core::Monitor;
use bothros_recipe::{Recipe, Report, run_with};
use bothros_store::{JobHandle, Run, RunOutcome, Store};
use tempfile::TempDir;

use crate::{Error, Result, RunPages, blocking, boxed};

/// What a run reports, to the handle of its work.
struct Told(JobHandle);

impl Monitor for Told {
    fn progress(&self, share: f64) {
        self.0.progress(share);
    }
    fn is_cancelled(&self) -> bool {
        self.0.is_cancelled()
    }
}

impl Report for Told {
    fn begin(&self, step: &str) {
        self.0.say(step);
    }
}

/// What the runs of the batch read that was worked on last: most runs come one after another. A database that was put back from a
/// backup may give the number of a batch to another; the time at which it was begun tells them apart.
static LAST: Mutex<Option<(Known, std::sync::Arc<TempDir>)>> = Mutex::new(None);

/// Number of a batch, and when it was begun, RFC 3339.
type Known = (i64, String);

/// The folder with what the runs of a batch read.
async fn inputs(store: &Store, batch: i64) -> Result<std::sync::Arc<TempDir>> {
    let wanted = (batch, store.batch(batch).await?.created_at.to_rfc3339());
    if let Ok(last) = LAST.lock()
        && let Some((_, dir)) = last.as_ref().filter(|(of, dir)| *of == wanted && dir.path().exists())
    {
        return Ok(dir.clone());
    }
    let dir = std::sync::Arc::new(tempfile::tempdir()?);
    for file in store.batch_files(batch, None).await? {
        let path = dir.path().join(&file.name);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent)?;
        }
        store.fetch_batch_file(file.id, &path).await?;
    }
    if let Ok(mut last) = LAST.lock() {
        *last = Some((wanted, dir.clone()));
    }
    Ok(dir)
}

/// Does a run.
#[boxed]
pub async fn work_on_run(store: Store, run: Run, handle: JobHandle) -> RunOutcome {
    match done(&store, run, &handle).await {
        Ok(outcome) => outcome,
        Err(error) if error.is_cancelled() || handle.is_cancelled() => RunOutcome::Cancelled,
        Err(error) => RunOutcome::Failed(error.to_string().replace('\n', " ")),
    }
}

async fn done(store: &Store, run: Run, handle: &JobHandle) -> Result<RunOutcome> {
    handle.say("fetching what it reads");
    let inputs = inputs(store, run.batch_id).await?;
    let told = Told(handle.clone());
    blocking(move || {
        let refused = |e: bothros_recipe::Error| match e {
            bothros_recipe::Error::Cancelled => Error::Core(bothros_core::Error::Cancelled),
            other => Error::Refused(other.to_string()),
        };
        let recipe = Recipe::parse(&run.recipe, inputs.path()).map_err(refused)?;
        recipe.stay_inside().map_err(refused)?;
        let dir = tempfile::tempdir()?;
        let out = dir.path().join("results");
        run_with(&recipe, &out, false, &told, &RunPages).map_err(refused)?;
        told.0.say("keeping the results");
        let summary = serde_json::from_slice(&std::fs::read(out.join("summary.json"))?)?;
        let written = written(&out)?;
        Ok(RunOutcome::Done(summary, written, dir))
    })
    .await
}

/// The files in a folder, by name.
fn written(dir: &Path) -> Result<Vec<(String, PathBuf)>> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(dir)? {
        let entry = entry?;
        all.push((entry.file_name().to_string_lossy().into_owned(), entry.path()));
    }
    all.sort();
    Ok(all)
}
