//! How long a run takes that several processes share, each on one thread.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use anyhow::{Context, ensure};

/// Processes that share the run.
const PROCESSES: [usize; 2] = [1, 2];

/// Runs the recipe in a directory, on terrain of this size, by one process and by two.
pub fn run(dir: &Path, size: usize) -> anyhow::Result<()> {
    println!("\na recipe of {size} x {size} cells, shared by processes of one thread each");
    println!("  {:<10} {:>28} {:>10}", "processes", "filling and routing, s", "all, s");
    let mut first = None;
    for count in PROCESSES {
        let (shared, all) = time(dir, count)?;
        let times = match first {
            None => String::new(),
            Some(one) => format!("{:.2} times as fast", one / shared),
        };
        println!("  {count:<10} {shared:>28.2} {all:>10.2} {times}");
        first = first.or(Some(shared));
    }
    Ok(())
}

/// Seconds until flow was routed, and until all was written.
fn time(dir: &Path, count: usize) -> anyhow::Result<(f64, f64)> {
    let place = dir.join("place");
    let begun = Instant::now();
    let outs: Vec<_> = (0..count).map(|at| dir.join(format!("shared{at}"))).collect();
    let processes = outs
        .iter()
        .map(|out| {
            Command::new(std::env::current_exe()?)
                .env("RAYON_NUM_THREADS", "1")
                .arg("run")
                .arg(dir.join("recipe.toml"))
                .args(["--overwrite", "--out"])
                .arg(out)
                .arg("--share")
                .arg(&place)
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
        })
        .collect::<std::io::Result<Vec<_>>>()?;
    for mut process in processes {
        ensure!(process.wait()?.success(), "a process that shares a run failed");
    }
    let all = begun.elapsed().as_secs_f64();
    std::fs::remove_dir_all(&place)?;
    let wrote = outs.iter().find(|out| out.exists()).context("nobody wrote the results")?;
    let summary: serde_json::Value = serde_json::from_slice(&std::fs::read(wrote.join("summary.json"))?)?;
    std::fs::remove_dir_all(wrote)?;
    let shared = summary["steps"][0]["seconds"].as_f64().context("a run has steps")?;
    Ok((shared, all))
}
