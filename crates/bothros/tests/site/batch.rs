//! Batches: every combination once, by one process or by several of which one is killed; what cannot be run.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use crate::support::{FRAME, valley, written};

const RECIPE: &str = "version = 1\n[terrain]\ndem = [\"dem.tif\"]\n[conditioning]\nsinks = \"fill\"\n[network]\nthreshold = { cells = 300 }\n";

/// A folder with a DEM, a recipe and a batch.
fn folder(said: &str) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    written(dir.path(), "dem.tif", &valley(), &FRAME);
    std::fs::write(dir.path().join("recipe.toml"), RECIPE).unwrap();
    std::fs::write(dir.path().join("batch.toml"), format!("version = 1\nrecipe = \"recipe.toml\"\n{said}"))
        .unwrap();
    dir
}

fn command(dir: &Path, out: &str, more: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_bothros"));
    command
        .args(["batch", dir.join("batch.toml").to_str().unwrap(), "--out", dir.join(out).to_str().unwrap()])
        .args(more);
    command
}

fn batch(dir: &Path, out: &str, more: &[&str]) -> Output {
    command(dir, out, more).output().unwrap()
}

fn told(of: &Output) -> String {
    String::from_utf8_lossy(&of.stdout).into_owned() + &*String::from_utf8_lossy(&of.stderr)
}

/// Rows of runs.csv by their heads.
fn rows(dir: &Path, out: &str) -> Vec<std::collections::BTreeMap<String, String>> {
    let mut csv = csv::Reader::from_path(dir.join(out).join("runs.csv")).unwrap();
    csv.deserialize().map(Result::unwrap).collect()
}

/// What a run gave, but for times and memory.
fn results(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let files = std::fs::read_dir(folder).unwrap().map(|f| f.unwrap().path());
    let rasters = files.filter(|f| f.extension().is_some_and(|e| e == "tif" || e == "csv"));
    let mut all: Vec<_> =
        rasters.map(|f| (f.file_name().unwrap().into(), std::fs::read(&f).unwrap())).collect();
    all.sort();
    all
}

const MANY: &str = "[vary]\n\"network.threshold\" = [{ cells = 100 }, { cells = 200 }, { cells = 400 }, { cells = 800 }]\n\
    \"routing.method\" = [\"d8\", \"dinf\", \"mfd\"]\n";

#[test]
fn a_batch_runs_every_combination_and_tells_them_in_a_table() {
    let dir = folder(MANY);
    let plan = batch(dir.path(), "out", &["--plan"]);
    assert_eq!(told(&plan).lines().count(), 12, "{}", told(&plan));
    assert!(!dir.path().join("out").exists());
    let done = batch(dir.path(), "out", &[]);
    assert!(
        done.status.success() && told(&done).contains("12 runs, 12 done, 0 failed; 12 by this process"),
        "{}",
        told(&done)
    );
    let rows = rows(dir.path(), "out");
    assert_eq!(rows.len(), 12);
    assert!(rows.iter().all(|r| r["state"] == "done" && r["why"].is_empty()));
    // Fewer headwaters at higher thresholds; the figures are those of the runs.
    let headwaters: Vec<u64> = rows
        .iter()
        .filter(|r| r["routing.method"] == "d8")
        .map(|r| r["headwaters"].parse().unwrap())
        .collect();
    assert!(headwaters.is_sorted_by(|a, b| a >= b) && headwaters[0] > headwaters[3], "{headwaters:?}");
    let summary = std::fs::read(dir.path().join("out").join(&rows[0]["run"]).join("summary.json")).unwrap();
    let summary: serde_json::Value = serde_json::from_slice(&summary).unwrap();
    assert_eq!(summary["network"]["reaches"].to_string(), rows[0]["reaches"]);
    assert_eq!(summary["cut_and_fill"]["fill_m3"].to_string(), rows[0]["fill_m3"]);
    // A run is what its recipe alone gives.
    std::fs::write(
        dir.path().join("alone.toml"),
        RECIPE.replace("300", "200") + "[routing]\nmethod = \"dinf\"\n",
    )
    .unwrap();
    let alone = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["run", dir.path().join("alone.toml").to_str().unwrap()])
        .args(["--out", dir.path().join("alone").to_str().unwrap()])
        .output()
        .unwrap();
    assert!(alone.status.success());
    let own =
        rows.iter().find(|r| r["network.threshold"] == "cells 200" && r["routing.method"] == "dinf").unwrap();
    assert_eq!(results(&dir.path().join("alone")), results(&dir.path().join("out").join(&own["run"])));
    // Taken up again, nothing is done twice; what is gone is done again.
    let again = batch(dir.path(), "out", &[]);
    assert!(told(&again).contains("12 done, 0 failed; 0 by this process"), "{}", told(&again));
    std::fs::remove_dir_all(dir.path().join("out").join(&own["run"])).unwrap();
    let again = batch(dir.path(), "out", &[]);
    assert!(told(&again).contains("12 done, 0 failed; 1 by this process"), "{}", told(&again));
}

#[test]
fn a_run_that_fails_says_why_and_stops_no_other() {
    let dir = folder("each_dem = \"*.tif\"\n");
    std::fs::write(dir.path().join("broken.tif"), b"no raster").unwrap();
    let done = batch(dir.path(), "out", &[]);
    assert_eq!(done.status.code(), Some(3), "{}", told(&done));
    let rows = rows(dir.path(), "out");
    let state = |name: &str| rows.iter().find(|r| r["terrain.dem"] == name).unwrap();
    assert_eq!(state("dem")["state"], "done");
    assert_eq!(state("broken")["state"], "failed");
    assert!(state("broken")["why"].contains("broken.tif"), "{rows:?}");
    // Mended, and run again where that is asked for.
    let waits = batch(dir.path(), "out", &[]);
    assert!(told(&waits).contains("1 failed; 0 by this process"), "{}", told(&waits));
    written(dir.path(), "broken.tif", &valley(), &FRAME);
    let again = batch(dir.path(), "out", &["--again"]);
    assert!(
        again.status.success() && told(&again).contains("0 failed; 1 by this process"),
        "{}",
        told(&again)
    );
}

/// Waits until a process says that it began a run.
fn until_it_begins(child: &mut Child) {
    use std::io::BufRead;
    let lines = std::io::BufReader::new(child.stderr.take().unwrap()).lines();
    let begun = lines.map_while(Result::ok).find(|line| line.contains(" of 12: "));
    assert!(begun.is_some(), "the process ended before it began a run");
}

#[test]
fn two_workers_share_a_batch_and_one_is_killed() {
    let dir = folder(MANY);
    let alone = batch(dir.path(), "alone", &[]);
    assert!(alone.status.success(), "{}", told(&alone));
    // The first is killed in the middle of a run; the other does the rest, and that run anew.
    let mut first =
        command(dir.path(), "shared", &[]).stderr(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    until_it_begins(&mut first);
    let second =
        command(dir.path(), "shared", &[]).stderr(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    first.kill().unwrap();
    first.wait().unwrap();
    let done = second.wait_with_output().unwrap();
    assert!(done.status.success() && told(&done).contains("12 runs, 12 done, 0 failed"), "{}", told(&done));
    // Two that both live, from the beginning.
    let two: Vec<Child> = (0..2)
        .map(|_| {
            command(dir.path(), "both", &[]).stderr(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    let by: Vec<usize> = two
        .into_iter()
        .map(|child| {
            let done = child.wait_with_output().unwrap();
            assert!(done.status.success(), "{}", told(&done));
            let text = told(&done);
            let at = text.find("failed; ").unwrap() + "failed; ".len();
            text[at..].split(' ').next().unwrap().parse().unwrap()
        })
        .collect();
    assert_eq!(by.iter().sum::<usize>(), 12, "every run once: {by:?}");
    for row in rows(dir.path(), "alone") {
        let of = |out: &str| results(&dir.path().join(out).join(&row["run"]));
        assert!(of("alone").len() >= 5);
        assert_eq!(of("alone"), of("shared"), "{}", row["run"]);
        assert_eq!(of("alone"), of("both"), "{}", row["run"]);
    }
    let rows = rows(dir.path(), "both");
    assert!(rows.len() == 12 && rows.iter().all(|r| r["state"] == "done"), "{rows:?}");
    // Nothing is left of the one that was killed.
    let left: Vec<_> = std::fs::read_dir(dir.path().join("shared/.batch"))
        .unwrap()
        .filter(|f| f.as_ref().unwrap().path().join("work").exists())
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn what_is_no_batch_is_told_before_any_work() {
    let dir = folder("[vary]\n\"network.treshold\" = [{ cells = 3 }]\n");
    let wrong = |more: &[&str]| {
        let done = batch(dir.path(), "out", more);
        assert_eq!(done.status.code(), Some(2), "{}", told(&done));
        assert!(!dir.path().join("out/.batch").exists());
        told(&done)
    };
    let said = |text: &str| std::fs::write(dir.path().join("batch.toml"), text).unwrap();
    assert!(wrong(&[]).contains("run 0001_cells-3: "));
    said("version = 2\nrecipe = \"recipe.toml\"\n");
    assert!(wrong(&[]).contains("version: is 2: this version of Bothros knows version 1 of batches"));
    said("version = 1\nversion = 1\nrecipe = \"recipe.toml\"\n");
    assert!(wrong(&[]).contains("duplicate key"));
    said("version = 1\nrecipe = \"nothing.toml\"\n");
    assert!(wrong(&[]).contains("nothing.toml is not there"));
    let cells: String = (1..=10_000).map(|n| format!("{{ cells = {n} }},")).collect();
    said(&format!("version = 1\nrecipe = \"recipe.toml\"\n[vary]\n\"network.threshold\" = [{cells}]\n"));
    assert!(wrong(&[]).contains("takes from 1 to 5000 values"));
    // A folder that holds something else is left as it is.
    said("version = 1\nrecipe = \"recipe.toml\"\n[vary]\n\"network.threshold\" = [{ cells = 3 }]\n");
    std::fs::create_dir(dir.path().join("out")).unwrap();
    std::fs::write(dir.path().join("out/notes.txt"), "mine").unwrap();
    assert!(wrong(&[]).contains("holds no batch"));
    std::fs::remove_dir_all(dir.path().join("out")).unwrap();
    // Another batch, another version.
    assert!(batch(dir.path(), "out", &[]).status.success());
    said("version = 1\nrecipe = \"recipe.toml\"\n[vary]\n\"network.threshold\" = [{ cells = 4 }]\n");
    assert!(told(&batch(dir.path(), "out", &[])).contains("holds another batch"));
    let kept = dir.path().join("out/.batch/batch.json");
    let text = std::fs::read_to_string(&kept).unwrap();
    std::fs::write(&kept, text.replace("bothros 0", "bothros 7")).unwrap();
    assert!(told(&batch(dir.path(), "out", &[])).contains("results of two versions are not mixed"));
}
