//! `bothros batch`: many runs of one recipe, a line on standard error for each.

use std::path::Path;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};

use bothros_core::Monitor;
use bothros_recipe::Report;
use bothros_recipe::batch::{Batch, Ended, PlannedRun, RunState, Told, work};

/// Lines for runs; what a run does meanwhile stays unsaid.
struct Lines<'a> {
    all: usize,
    cancelled: &'a AtomicBool,
}

impl Monitor for Lines<'_> {
    fn progress(&self, _share: f64) {}
    fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

impl Report for Lines<'_> {
    fn begin(&self, _step: &str) {}
}

impl Told for Lines<'_> {
    fn begins(&self, number: usize, run: &PlannedRun) {
        eprintln!("{number} of {}: {}", self.all, run.name);
    }
    fn ended(&self, number: usize, _run: &PlannedRun, ended: &Ended) {
        match ended.state {
            RunState::Done => eprintln!("{number} of {}: done in {:.1} s", self.all, ended.seconds),
            RunState::Failed => eprintln!("{number} of {}: failed: {}", self.all, ended.why),
        }
    }
}

/// Works on a batch; the exit status is 0 where all its runs are done, otherwise the highest that `bothros run` would have had
/// for one of them.
pub fn run(path: &Path, out: &Path, again: bool, plan: bool, cancelled: &AtomicBool) -> ExitCode {
    let wrong = |error: bothros_recipe::Error| {
        eprintln!("error: {}", error.to_string().replace('\n', " "));
        ExitCode::from(error.exit_status())
    };
    let batch = match Batch::read(path) {
        Ok(batch) => batch,
        Err(error) => return wrong(error),
    };
    if plan {
        for run in &batch.runs {
            let own: Vec<String> = run.own.iter().map(|(key, value)| format!("{key} = {value}")).collect();
            println!("{}: {}", run.name, own.join(", "));
        }
        return ExitCode::SUCCESS;
    }
    let lines = Lines { all: batch.runs.len(), cancelled };
    match work(&batch, out, again, (&lines, &bothros_workflow::RunPages, &lines)) {
        Ok(done) => {
            let failed = done.failed();
            println!(
                "{}: {} runs, {} done, {failed} failed; {} by this process; runs.csv lists them",
                out.display(),
                done.runs.len(),
                done.runs.len() - failed,
                done.own
            );
            ExitCode::from(done.exit_status())
        }
        Err(error) => wrong(error),
    }
}
