//! `bothros run`: a recipe from files to files, with progress on standard error.

use std::io::IsTerminal;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use bothros_core::Monitor;
use bothros_recipe::{Bytes, Joined, Recipe, Report, run_jointly, run_with};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Progress as a bar on a terminal, and as plain lines elsewhere.
struct Progress<'a> {
    bar: Option<ProgressBar>,
    step: Mutex<(String, u32)>,
    cancelled: &'a AtomicBool,
}

const PARTS: u64 = 1000;

impl<'a> Progress<'a> {
    fn new(cancelled: &'a AtomicBool) -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::with_draw_target(Some(PARTS), ProgressDrawTarget::stderr());
            let style = ProgressStyle::with_template("{percent:>3} % {bar:30} {elapsed} {msg}");
            bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
            bar
        });
        Self { bar, step: Mutex::new((String::new(), 0)), cancelled }
    }
}

impl Monitor for Progress<'_> {
    fn progress(&self, share: f64) {
        match &self.bar {
            Some(bar) => bar.set_position((share * PARTS as f64) as u64),
            None => {
                // A line every ten per cent: enough for a log.
                let tenth = (share * 10.0) as u32;
                if let Ok(mut step) = self.step.lock()
                    && tenth > step.1
                {
                    step.1 = tenth;
                    eprintln!("{:>3} % {}", tenth * 10, step.0);
                }
            }
        }
    }
    fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

impl Report for Progress<'_> {
    fn begin(&self, name: &str) {
        match &self.bar {
            Some(bar) => bar.set_message(name.to_owned()),
            None => {
                if let Ok(mut step) = self.step.lock() {
                    step.0 = name.to_owned();
                    eprintln!("      {name}");
                }
            }
        }
    }
}

/// How a recipe is to be run.
pub struct How {
    /// whether results that are there are replaced
    pub overwrite: bool,
    /// most memory that it may take
    pub max_memory: Option<Bytes>,
    /// where it shares the work with other processes
    pub share: Option<String>,
}

/// Runs a recipe; the exit status is that of the command line's contract: 0 done, 2 the recipe or
/// the call is wrong, 3 the data cannot be used, 1 anything else.
pub fn run(recipe: &Path, out: &Path, how: How, cancelled: &AtomicBool) -> ExitCode {
    let How { overwrite, max_memory, share } = how;
    let progress = Progress::new(cancelled);
    let done = Recipe::read(recipe).and_then(|mut recipe| {
        recipe.max_memory = max_memory.or(recipe.max_memory);
        // A run with a limit of its own is held against that.
        if recipe.max_memory.is_some() {
            bothros_core::memory::set_limit(u64::MAX);
        }
        let pages = &bothros_workflow::RunPages;
        match &share {
            Some(place) => run_jointly(&recipe, out, overwrite, &progress, pages, place),
            None => {
                let summary = run_with(&recipe, out, overwrite, &progress, pages)?;
                Ok(Joined::Here(Box::new(summary)))
            }
        }
    });
    if let Some(bar) = &progress.bar {
        bar.finish_and_clear();
    }
    match done {
        Ok(Joined::Elsewhere(lies)) => {
            println!("another process finished: its results are in {lies}");
            ExitCode::SUCCESS
        }
        Ok(Joined::Here(summary)) => {
            for note in &summary.notes {
                eprintln!("note: {note}");
            }
            println!(
                "{}: {} x {} cells, {:.1} s, {:.2} GB at its peak",
                out.display(),
                summary.cols,
                summary.rows,
                summary.seconds,
                summary.peak_memory_bytes as f64 / 1e9
            );
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("error: {}", error.to_string().replace('\n', " "));
            ExitCode::from(error.exit_status())
        }
    }
}
