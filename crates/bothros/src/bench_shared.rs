//! How long a run takes that several processes share, each on one thread.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use anyhow::{Context, ensure};

/// Processes that share the run.
const PROCESSES: [usize; 2] = [1, 2];

/// What is shared, and how a recipe asks for it.
const WAYS: [(&str, &str); 3] = [
    ("filled, D8", "sinks = \"fill\"\n"),
    (
        "breached within 500 m and filled, D-infinity",
        "sinks = \"breach_then_fill\"\nmax_breach_length_m = 500.0\n[routing]\nmethod = \"dinf\"\n",
    ),
    ("filled, MFD", "sinks = \"fill\"\n[routing]\nmethod = \"mfd\"\n"),
];

/// Runs recipes on the DEM in a directory, of this size, by one process that shares nothing, and by one and two that do.
pub fn run(dir: &Path, size: usize) -> anyhow::Result<()> {
    for (way, asked) in WAYS {
        println!("\na recipe of {size} x {size} cells by processes of one thread each: {way}");
        println!("  {:<22} {:>32} {:>10}", "processes", "conditioning and routing, s", "all, s");
        let recipe = format!("{}{asked}", crate::bench_recipe::DEM_AND_CONDITIONING);
        std::fs::write(dir.join("shared.toml"), recipe)?;
        let (own, all) = time(dir, 1, false)?;
        println!("  {:<22} {own:>32.2} {all:>10.2}", "one, not sharing");
        let mut first = None;
        for count in PROCESSES {
            let (shared, all) = time(dir, count, true)?;
            let times = match first {
                None => String::new(),
                Some(one) => format!("{:.2} times as fast", one / shared),
            };
            println!("  {count:<22} {shared:>32.2} {all:>10.2} {times}");
            first = first.or(Some(shared));
        }
    }
    Ok(())
}

/// Steps after those that are shared begin with one of these.
const AFTER: [&str; 2] = ["writing", "drawing"];

/// Seconds until flow was routed, and until all was written.
fn time(dir: &Path, count: usize, shares: bool) -> anyhow::Result<(f64, f64)> {
    let place = dir.join("place");
    let begun = Instant::now();
    let outs: Vec<_> = (0..count).map(|at| dir.join(format!("shared{at}"))).collect();
    let processes = outs
        .iter()
        .map(|out| {
            let mut command = Command::new(std::env::current_exe()?);
            command.env("RAYON_NUM_THREADS", "1").arg("run").arg(dir.join("shared.toml"));
            command.args(["--overwrite", "--out"]).arg(out);
            if shares {
                command.arg("--share").arg(&place);
            }
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn()
        })
        .collect::<std::io::Result<Vec<_>>>()?;
    for mut process in processes {
        ensure!(process.wait()?.success(), "a process that shares a run failed");
    }
    let all = begun.elapsed().as_secs_f64();
    if shares {
        std::fs::remove_dir_all(&place)?;
    }
    let wrote = outs.iter().find(|out| out.exists()).context("nobody wrote the results")?;
    let summary: serde_json::Value = serde_json::from_slice(&std::fs::read(wrote.join("summary.json"))?)?;
    std::fs::remove_dir_all(wrote)?;
    let steps = summary["steps"].as_array().context("a run has steps")?;
    let is_before = |step: &&serde_json::Value| {
        let name = step["step"].as_str().unwrap_or_default();
        !AFTER.iter().any(|after| name.starts_with(after))
    };
    let counting = |step: &&serde_json::Value| step["step"] != "counting sinks";
    let shared =
        steps.iter().take_while(is_before).filter(counting).filter_map(|s| s["seconds"].as_f64()).sum();
    Ok((shared, all))
}
