//! Processes that read files: begun by one that has loaded all they need, ended with their file, however that goes.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bothros_core::{Coarser, Frame, Grid, Monitor, Silent};
use bothros_formats::{
    Crs, Error, ReaderProcess, VerticalUnit, inspect, read_apart, read_elevation, write_cog,
};
use nix::sys::signal::{Signal, kill};
use nix::unistd::{Pid, mkfifo};
use rayon::prelude::*;

const EDGE: usize = 40;

fn raster(dir: &Path, number: usize) -> std::path::PathBuf {
    let path = dir.join(format!("{number}.tif"));
    let values = Grid::from_fn(EDGE, EDGE, |c| (number * 10_000 + c.row * 100 + c.col) as f32);
    let frame =
        Frame { rows: EDGE, cols: EDGE, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
    let crs = Crs::parse("EPSG:32628").unwrap();
    write_cog(&path, &values, &frame, &crs, f32::NAN, Coarser::Mean, "", "m").unwrap();
    path
}

fn children(of: Pid) -> Vec<Pid> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").unwrap().flatten() {
        let Ok(pid) = entry.file_name().to_str().unwrap_or_default().parse::<i32>() else { continue };
        let Ok(stat) = std::fs::read_to_string(entry.path().join("stat")) else { continue };
        // After the name, which may hold anything: state and parent.
        let Some((_, rest)) = stat.rsplit_once(')') else { continue };
        let mut words = rest.split_whitespace();
        let (state, parent) = (words.next(), words.next().and_then(|p| p.parse::<i32>().ok()));
        if state != Some("Z") && parent == Some(of.as_raw()) {
            found.push(Pid::from_raw(pid));
        }
    }
    found
}

/// Waits until something is there.
fn wait<T>(mut look: impl FnMut() -> Option<T>) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "it never came");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Cancelled once it is told to be.
struct Until<'a>(&'a AtomicBool);

impl Monitor for Until<'_> {
    fn progress(&self, _: f64) {}
    fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

#[test]
fn readers_come_and_go() {
    let dir = tempfile::tempdir().unwrap();
    let usual = ReaderProcess::new(env!("CARGO_BIN_EXE_bothros").into(), vec!["read-file".into()]);
    read_apart(ReaderProcess { silence: Duration::from_secs(3), ..usual });
    let read =
        |path: &Path, monitor: &dyn Monitor| read_elevation(path, "a file", 1, VerticalUnit::Metre, monitor);
    // Many at once, each with its own answer; all are begun by one process, which stays.
    (0..48).into_par_iter().for_each(|number| {
        let path = raster(dir.path(), number);
        assert_eq!(inspect(&path, "a file").unwrap().rows, EDGE);
        let values = read(&path, &Silent).unwrap();
        assert_eq!(values.values()[EDGE + 1], (number * 10_000 + 101) as f32);
    });
    let [starter] = children(Pid::this())[..] else { panic!("one process begins the others") };
    wait(|| children(starter).is_empty().then_some(()));

    // One that reads what never comes, as from a pipe that nobody writes to, is ended where it is cancelled,
    let pipe = dir.path().join("pipe.tif");
    mkfifo(&pipe, nix::sys::stat::Mode::S_IRWXU).unwrap();
    let reader = || wait(|| children(starter).first().copied());
    let cancelled = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let reading = scope.spawn(|| read(&pipe, &Until(&cancelled)));
        reader();
        cancelled.store(true, Ordering::Relaxed);
        assert!(matches!(reading.join().unwrap(), Err(Error::Cancelled)));
    });
    wait(|| children(starter).is_empty().then_some(()));
    // and where it is silent for too long.
    let error = read(&pipe, &Silent).unwrap_err().to_string();
    assert!(error.contains("nothing came of it for 3 s"), "{error}");
    wait(|| children(starter).is_empty().then_some(()));
    // Where it ends by itself, how is told.
    for (by, why) in [
        (Signal::SIGXCPU, "more processor time than a file of its size may take"),
        (Signal::SIGABRT, "of memory to be read"),
        (Signal::SIGILL, "it is damaged, or made to harm"),
    ] {
        std::thread::scope(|scope| {
            let reading = scope.spawn(|| read(&pipe, &Silent));
            kill(reader(), by).unwrap();
            let error = reading.join().unwrap().unwrap_err().to_string();
            assert!(error.contains(why), "{by}: {error}");
        });
        wait(|| children(starter).is_empty().then_some(()));
    }
    // Where the one that begins them has ended, another does.
    kill(starter, Signal::SIGKILL).unwrap();
    wait(|| (!children(Pid::this()).contains(&starter)).then_some(()));
    assert_eq!(read(&raster(dir.path(), 50), &Silent).unwrap().values()[0], 500_000.0);
    assert_ne!(children(Pid::this())[..], [starter]);
}
