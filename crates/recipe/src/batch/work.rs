//! Working on the runs of a batch: by one process or by many that share a folder, each run once.
//!
//! A run is claimed by a lock on a file of its own, which the system takes back from a process that ends, however it ends.

use std::fs::{File, TryLockError};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::{Batch, PlannedRun, RunRow, runs_csv};
use crate::{Error, Pages, Report, Result, run_with};

/// Where what is known of runs is kept, within the folder of a batch.
const KEPT: &str = ".batch";
/// Time between two looks at runs that others work on.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunState {
    /// its results are there
    Done,
    /// it could not be run
    Failed,
}

/// What is known of a run that ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ended {
    /// how
    pub state: RunState,
    /// why it failed
    #[serde(default)]
    pub why: String,
    /// exit status that `bothros run` would have had
    pub status: u8,
    /// wall time, seconds
    pub seconds: f64,
    /// process that ran it
    pub process: u32,
    /// what was run
    recipe: String,
}

/// All runs once they have ended.
#[derive(Debug, Clone, PartialEq)]
pub struct Outcome {
    /// each with how it ended
    pub runs: Vec<(PlannedRun, Ended)>,
    /// how many this process ran
    pub own: usize,
}

impl Outcome {
    /// Runs that failed.
    pub fn failed(&self) -> usize {
        self.runs.iter().filter(|(_, ended)| ended.state == RunState::Failed).count()
    }

    /// Exit status: 0 where all is done, otherwise the highest of those that failed.
    pub fn exit_status(&self) -> u8 {
        self.runs.iter().map(|(_, ended)| ended.status).max().unwrap_or(0)
    }
}

/// Hears of runs that begin and end.
pub trait Told: Sync {
    /// A run begins: its number from 1.
    fn begins(&self, number: usize, run: &PlannedRun);
    /// A run has ended.
    fn ended(&self, number: usize, run: &PlannedRun, ended: &Ended);
}

/// What a folder holds, so that no other batch is mixed into it.
#[derive(Serialize, Deserialize, PartialEq)]
struct Folder {
    /// program and version
    program: String,
    runs: Vec<String>,
}

fn program() -> String {
    format!("bothros {}", env!("CARGO_PKG_VERSION"))
}

fn write(path: &Path, text: &[u8]) -> Result<()> {
    // Whole or not at all, whoever reads it meanwhile.
    let parent = path.parent().unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(parent).map_err(|e| Error::write(path, e))?;
    std::io::Write::write_all(&mut file, text).map_err(|e| Error::write(path, e))?;
    file.persist(path).map_err(|e| Error::write(path, e))?;
    Ok(())
}

/// A claim on a run; it ends with the process at the latest.
struct Claim {
    _file: File,
}

impl Claim {
    /// Claims what a file stands for; none where another process has it.
    fn of(path: &Path) -> Result<Option<Self>> {
        let file = File::options().create(true).truncate(false).write(true).open(path);
        let file = file.map_err(|e| Error::write(path, e))?;
        match file.try_lock() {
            Ok(()) => Ok(Some(Self { _file: file })),
            Err(TryLockError::WouldBlock) => Ok(None),
            Err(TryLockError::Error(e)) => Err(Error::write(path, e)),
        }
    }
}

struct Place<'a> {
    out: &'a Path,
    run: &'a PlannedRun,
}

impl Place<'_> {
    /// A folder for what is not a result.
    fn kept(&self) -> PathBuf {
        self.out.join(KEPT).join(&self.run.name)
    }

    /// How it ended; none where it has not, or something else was run under its name.
    fn ended(&self) -> Option<Ended> {
        let text = std::fs::read(self.kept().join("ended.json")).ok()?;
        let ended: Ended = serde_json::from_slice(&text).ok()?;
        let there = ended.state == RunState::Failed || self.out.join(&self.run.name).is_dir();
        (ended.recipe == self.run.text && there).then_some(ended)
    }

    /// Runs it; the results appear when all is done.
    fn run(&self, report: &dyn Report, pages: &dyn Pages) -> Result<Ended> {
        let (kept, target) = (self.kept(), self.out.join(&self.run.name));
        let work = kept.join("work");
        // What a process left that was ended in the middle.
        if work.exists() {
            std::fs::remove_dir_all(&work).map_err(|e| Error::write(&work, e))?;
        }
        std::fs::create_dir(&work).map_err(|e| Error::write(&work, e))?;
        let begun = std::time::Instant::now();
        let done = run_with(&self.run.recipe, &work.join("results"), false, report, pages);
        let (state, status, why) = match &done {
            Ok(_) => (RunState::Done, 0, String::new()),
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Err(error) => (RunState::Failed, error.exit_status(), error.to_string().replace('\n', " ")),
        };
        if done.is_ok() {
            if target.exists() {
                std::fs::remove_dir_all(&target).map_err(|e| Error::write(&target, e))?;
            }
            std::fs::rename(work.join("results"), &target).map_err(|e| Error::write(&target, e))?;
        }
        std::fs::remove_dir_all(&work).map_err(|e| Error::write(&work, e))?;
        let ended = Ended {
            state,
            why,
            status,
            seconds: begun.elapsed().as_secs_f64(),
            process: std::process::id(),
            recipe: self.run.text.clone(),
        };
        let text = serde_json::to_vec_pretty(&ended).map_err(|e| Error::write(&kept, e))?;
        write(&kept.join("ended.json"), &text)?;
        Ok(ended)
    }
}

/// Works on a batch until all its runs have ended, by this process or by others that work in the same folder. What ended before
/// is not run again, but for runs that failed where `again` is set.
///
/// # Errors
/// [`Error::Recipe`] where the folder holds something else, or another version of Bothros began the batch; [`Error::Cancelled`],
/// whereupon it can be taken up again; [`Error::Write`].
pub fn work(
    batch: &Batch,
    out: &Path,
    again: bool,
    (report, pages, told): (&dyn Report, &dyn Pages, &dyn Told),
) -> Result<Outcome> {
    begin(batch, out)?;
    let mut ended: Vec<Option<Ended>> = vec![None; batch.runs.len()];
    let (mut own, mut retried) = (0, vec![false; batch.runs.len()]);
    loop {
        let mut worked = false;
        for (at, run) in batch.runs.iter().enumerate() {
            if ended[at].is_some() {
                continue;
            }
            if report.is_cancelled() {
                return Err(Error::Cancelled);
            }
            let place = Place { out, run };
            let settled = |found: &Ended| found.state == RunState::Done || !again || retried[at];
            if let Some(found) = place.ended().filter(settled) {
                ended[at] = Some(found);
                continue;
            }
            let Some(_claim) = Claim::of(&place.kept().join("claim"))? else { continue };
            // It may have ended while it was claimed.
            if let Some(found) = place.ended().filter(settled) {
                ended[at] = Some(found);
                continue;
            }
            told.begins(at + 1, run);
            let found = place.run(report, pages)?;
            told.ended(at + 1, run, &found);
            retried[at] = true;
            ended[at] = Some(found);
            (own, worked) = (own + 1, true);
            write_table(batch, out)?;
        }
        if ended.iter().all(Option::is_some) {
            break;
        }
        if !worked {
            std::thread::sleep(LOOK_EVERY);
        }
    }
    write_table(batch, out)?;
    let runs = batch.runs.iter().cloned().zip(ended.into_iter().flatten()).collect();
    Ok(Outcome { runs, own })
}

/// Makes the folder of a batch, or finds that it holds this very batch.
fn begin(batch: &Batch, out: &Path) -> Result<()> {
    let kept = out.join(KEPT);
    let path = kept.join("batch.json");
    let own = Folder { program: program(), runs: batch.runs.iter().map(|r| r.text.clone()).collect() };
    let strange = |what: &str| Error::Recipe(format!("{} {what}: choose another folder", out.display()));
    if out.exists() && !kept.is_dir() {
        let empty = out.is_dir() && std::fs::read_dir(out).is_ok_and(|mut all| all.next().is_none());
        if !empty {
            return Err(strange("exists already, and holds no batch"));
        }
    }
    std::fs::create_dir_all(&kept).map_err(|e| Error::write(&kept, e))?;
    for run in &batch.runs {
        let kept = kept.join(&run.name);
        std::fs::create_dir_all(&kept).map_err(|e| Error::write(&kept, e))?;
    }
    match std::fs::read(&path) {
        Ok(text) => {
            let there: Folder =
                serde_json::from_slice(&text).map_err(|_| strange("holds a batch that cannot be read"))?;
            if there.program != own.program {
                let what = format!(
                    "holds a batch that {} began, and this is {}: results of two versions are not mixed",
                    there.program, own.program
                );
                return Err(strange(&what));
            }
            if there.runs != own.runs {
                return Err(strange("holds another batch"));
            }
            Ok(())
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            let text = serde_json::to_vec(&own).map_err(|e| Error::write(&path, e))?;
            write(&path, &text)
        }
        Err(e) => Err(Error::write(&path, e)),
    }
}

/// Writes runs.csv: each run with its own keys, its state, time and key figures. Who writes last has seen all that ended before.
fn write_table(batch: &Batch, out: &Path) -> Result<()> {
    let path = out.join("runs.csv");
    let _turn = loop {
        match Claim::of(&out.join(KEPT).join("table"))? {
            Some(claim) => break claim,
            None => std::thread::sleep(Duration::from_millis(5)),
        }
    };
    let row = |run: &PlannedRun| {
        let ended = Place { out, run }.ended();
        let state = ended.as_ref().map_or("waiting", |e| match e.state {
            RunState::Done => "done",
            RunState::Failed => "failed",
        });
        let summary =
            std::fs::read(out.join(&run.name).join("summary.json")).ok().filter(|_| state == "done");
        RunRow {
            name: run.name.clone(),
            own: run.own.clone(),
            state: state.into(),
            seconds: ended.as_ref().map(|e| e.seconds),
            summary: summary.and_then(|text| serde_json::from_slice(&text).ok()).unwrap_or_default(),
            why: ended.map_or(String::new(), |e| e.why),
        }
    };
    let rows: Vec<RunRow> = batch.runs.iter().map(row).collect();
    write(&path, &runs_csv(&batch.keys, &rows).map_err(|e| Error::write(&path, e))?)
}
