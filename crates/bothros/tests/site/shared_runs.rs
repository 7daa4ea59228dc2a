//! `bothros run --share`: one run by several processes, of which some end in the middle.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant, SystemTime};

use bothros_core::Frame;
use bothros_formats::{Geometry, Shape};

use crate::recipe::{Bench, recipe};

const SIZE: usize = 900;
const CRS: &str = "EPSG:32628";
const REST: &str = "[conditioning]\nsinks = \"fill\"\n[network]\nthreshold = { cells = 800 }\n";
/// Sinks breached within a length, flow divided.
const BREACHED: &str = "[conditioning]\nsinks = \"breach_then_fill\"\nmax_breach_length_m = 120.0\n[routing]\nmethod = \"dinf\"\n\
    [network]\nthreshold = { cells = 800 }\n";

fn bench() -> Bench {
    let bench = Bench::new();
    let mut rough = bothros_demo::fractal_terrain(SIZE, 11);
    // A flat that reaches over many bands, and a lake of nodata.
    for (index, z) in rough.values_mut().iter_mut().enumerate() {
        let (row, col) = ((index / SIZE) as f64, (index % SIZE) as f64);
        match (row - 400.0).hypot(col - 500.0) {
            far if far < 40.0 => *z = f32::NAN,
            far if far < 330.0 => *z = (*z / 20.0).round() * 20.0,
            _ => {}
        }
    }
    let frame =
        Frame { rows: SIZE, cols: SIZE, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
    bench.dem("dem.tif", &rough, &frame, CRS);
    std::fs::write(bench.path("recipe.toml"), recipe(REST)).unwrap();
    bench
}

/// A process that shares the run, on one thread.
fn begin(bench: &Bench, out: &str) -> Child {
    share(bench, out, Command::new(env!("CARGO_BIN_EXE_bothros")))
}

/// The program, whose files may not grow beyond a size, KB: what a disk does that is full.
fn short_of_room(kb: u64) -> Command {
    let mut shell = Command::new("bash");
    let limited = format!("ulimit -f {kb}; exec \"$0\" \"$@\"");
    shell.args(["-c", &limited, env!("CARGO_BIN_EXE_bothros")]);
    shell
}

fn share(bench: &Bench, out: &str, mut bothros: Command) -> Child {
    bothros
        .env("RAYON_NUM_THREADS", "1")
        .arg("run")
        .arg(bench.path("recipe.toml"))
        .arg("--out")
        .arg(bench.path(out))
        .arg("--share")
        .arg(bench.path("place"))
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap()
}

fn wait_for(what: &Path) {
    let begun = Instant::now();
    while !what.exists() {
        assert!(begun.elapsed() < Duration::from_secs(60), "{} never came", what.display());
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// What a process said that ended well.
fn said(child: Child) -> String {
    let done = child.wait_with_output().unwrap();
    let (out, err) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success(), "{out}{err}");
    out.into_owned()
}

fn hold_the_same(bench: &Bench, one: &str, other: &str) {
    let mut compared = 0;
    for file in std::fs::read_dir(bench.path(one)).unwrap() {
        let name = file.unwrap().file_name().into_string().unwrap();
        let read = |out: &str| std::fs::read(bench.path(out).join(&name)).unwrap();
        // Of a GeoPackage the time is told when it was written.
        if name.ends_with(".tif") {
            assert!(read(one) == read(other), "{name}");
            compared += 1;
        }
    }
    assert!(compared >= 5, "{compared}");
    let told = |out: &str| -> serde_json::Value {
        let text = std::fs::read_to_string(bench.path(out).join("summary.json")).unwrap();
        let mut told: serde_json::Value = serde_json::from_str(&text).unwrap();
        for apart in ["steps", "seconds", "peak_memory_bytes"] {
            told.as_object_mut().unwrap().remove(apart);
        }
        for step in told["conditioning"].as_array_mut().into_iter().flatten() {
            step.as_object_mut().unwrap().remove("seconds");
        }
        told
    };
    assert_eq!(told(one), told(other));
}

#[test]
fn one_that_is_killed_costs_nothing_but_time() {
    let bench = bench();
    bench.run(&recipe(REST), "alone");
    let mut first = begin(&bench, "first");
    // It has prepared the DEM, and works on a band.
    wait_for(&bench.path("place").join("land"));
    first.kill().unwrap();
    first.wait().unwrap();
    assert!(!bench.path("first").exists());
    let others = [begin(&bench, "second"), begin(&bench, "third")];
    let said = others.map(said);
    let wrote: Vec<&str> = ["second", "third"].into_iter().filter(|out| bench.path(out).exists()).collect();
    let [wrote] = wrote[..] else { panic!("one of them writes the results: {said:?}") };
    hold_the_same(&bench, "alone", wrote);
    let told = said.iter().find(|said| said.contains("another process finished")).unwrap();
    assert!(told.contains(wrote), "{told}");
    // What was computed on the way is gone, and who comes late learns where the results are.
    assert!(!bench.path("place").join("dem").join("00000").exists());
    assert!(self::said(begin(&bench, "late")).contains(wrote));
}

/// Names of what lies below a directory of the place, with when they were written.
fn written(bench: &Bench, below: &str) -> Vec<(String, SystemTime)> {
    let Ok(files) = std::fs::read_dir(bench.path("place").join(below)) else { return Vec::new() };
    let told = |file: std::io::Result<std::fs::DirEntry>| {
        let file = file.unwrap();
        (file.file_name().into_string().unwrap(), file.metadata().unwrap().modified().unwrap())
    };
    let mut all: Vec<_> = files.map(told).collect();
    all.sort();
    all
}

#[test]
fn one_that_cannot_write_says_so_and_leaves_what_was_done() {
    let bench = bench();
    bench.run(&recipe(REST), "alone");
    let fails = |kb: u64| {
        let done = share(&bench, "short", short_of_room(kb)).wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&done.stderr).into_owned();
        assert!(!done.status.success() && told.contains("error: "), "{told}");
        assert!(!bench.path("short").exists(), "nothing half written");
        told
    };
    // Not even the bands of the DEM: which of them, and why.
    let told = fails(16);
    assert!(told.contains("place") && told.contains("File too large"), "{told}");
    assert_eq!(written(&bench, "done"), []);
    // All bands, and no result: it is the next process that writes them, from what is there. The last of a file counts too.
    let bytes = std::fs::metadata(bench.path("alone").join("ground.tif")).unwrap().len();
    let told = fails(bytes / 1024 - 4);
    assert!(told.contains("error: ground.tif: File too large"), "{told}");
    let before = written(&bench, "done");
    assert!(before.iter().any(|(name, _)| name.starts_with("accumulate-")), "{before:?}");
    let said = begin(&bench, "out").wait_with_output().unwrap();
    let steps = String::from_utf8_lossy(&said.stderr).into_owned();
    assert!(said.status.success() && !steps.contains("filling sinks, with others"), "{steps}");
    hold_the_same(&bench, "alone", "out");
}

/// Streams, walls and breach lines beside breaching within limits; sinks that stay open; two surfaces.
#[test]
fn whatever_is_done_to_the_ground_two_give_what_one_gives() {
    let bench = bench();
    let line = |points: &[[f64; 2]]| Geometry::Line(points.to_vec());
    let at = |row: f64, col: f64| [500_000.0 + col * 10.0, 4_760_000.0 - row * 10.0];
    let stream = line(&[at(100.0, 100.0), at(500.0, 300.0), at(899.0, 320.0)]);
    let real = [at(200.5, 200.5), at(640.5, 700.5)].map(Geometry::Point);
    bench.layer("streams.gpkg", CRS, Shape::Line, vec![stream]);
    bench.layer("walls.gpkg", CRS, Shape::Line, vec![line(&[at(300.0, 50.0), at(310.0, 800.0)])]);
    bench.layer("real.gpkg", CRS, Shape::Point, real.to_vec());
    let burned = "[conditioning]\nsinks = \"fill\"\nwalls = \"walls.gpkg\"\nclosed_basins = \"real.gpkg\"\n\
        burn = { streams = \"streams.gpkg\", method = \"trench\", depth_m = 12.0 }\n\
        [routing]\nmethod = \"mfd\"\n[network]\nthreshold = { cells = 800 }\n";
    let deep = "[conditioning]\nsinks = \"breach_then_fill\"\nmax_breach_length_m = 90.0\nmax_fill_depth_m = 3.0\n\
        [network]\nthreshold = { cells = 800 }\n";
    for (rest, shared) in [
        (BREACHED, "breaching sinks, with others"),
        (burned, "dividing flow, with others"),
        (deep, "accumulating"),
    ] {
        for out in ["alone", "place"] {
            let _ = std::fs::remove_dir_all(bench.path(out));
        }
        bench.run(&recipe(rest), "alone");
        let outs = ["first", "second"];
        let said = outs.map(|out| begin(&bench, out)).map(|child| {
            let done = child.wait_with_output().unwrap();
            let told = String::from_utf8_lossy(&done.stderr).into_owned();
            assert!(done.status.success(), "{told}");
            told
        });
        assert!(said.iter().any(|said| said.contains(shared)), "{said:?}");
        let wrote: Vec<&str> = outs.into_iter().filter(|out| bench.path(out).exists()).collect();
        let [wrote] = wrote[..] else { panic!("one of them writes the results: {said:?}") };
        hold_the_same(&bench, "alone", wrote);
        std::fs::remove_dir_all(bench.path(wrote)).unwrap();
    }
}

#[test]
fn what_cannot_be_shared_is_refused() {
    let bench = bench();
    let place = bench.path("place");
    let share = ["--share", place.to_str().unwrap()];
    for (rest, expected) in [
        ("[conditioning]\nsinks = \"breach\"\n", "conditioning.sinks: must be \"fill\" or"),
        ("[conditioning]\nsinks = \"keep\"\n[routing]\nmethod = \"mfd\"\n", "conditioning.sinks: must be"),
        ("", "conditioning.sinks: must be"),
    ] {
        let done = bench.run_with(&recipe(rest), "refused", &share);
        let told = String::from_utf8_lossy(&done.stderr).into_owned();
        assert!(done.status.code() == Some(2) && told.contains(expected), "{rest}: {told}");
        assert!(!bench.path("refused").exists() && !place.exists());
    }
    let done = bench.run_with(&recipe(REST), "refused", &["--share", "ftp://there"]);
    assert!(String::from_utf8_lossy(&done.stderr).contains("is no place to share work in"));
    // Another recipe cannot join.
    std::fs::write(bench.path("recipe.toml"), recipe(REST)).unwrap();
    said(begin(&bench, "done"));
    let done = bench.run_with(&recipe(&REST.replace("800", "900")), "other", &share);
    let told = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(done.status.code() == Some(2) && told.contains("differs in network.threshold.cells"), "{told}");
}
