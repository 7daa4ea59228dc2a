//! Processes that die, and processes that help.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::support::{FRAME, database, utm};
use bothros_core::{Coarser, Frame, Grid};
use bothros_demo::fractal_terrain;
use bothros_formats::write_cog;
use bothros_store::{JobKind, RasterRole, Store};
use bothros_workflow::{NewStudy, begin_study};

pub fn rough_file(dir: &std::path::Path, size: usize) -> std::path::PathBuf {
    let path = dir.join("rough.tif");
    let frame = Frame { rows: size, cols: size, ..FRAME };
    let dem: Grid<f32> = fractal_terrain(size, 9);
    write_cog(&path, &dem, &frame, &utm(), f32::NAN, Coarser::Mean, "", "m").unwrap();
    path
}

pub struct Process(pub Child);

impl Drop for Process {
    fn drop(&mut self) {
        // It may have ended already.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

pub fn bothros(arguments: &[&str]) -> Process {
    // Whoever talks to it needs this, whichever test runs first.
    bothros_archive::prepare_tls();
    let child =
        Command::new(env!("CARGO_BIN_EXE_bothros")).args(arguments).stdout(Stdio::piped()).spawn().unwrap();
    Process(child)
}

pub fn serve(url: &str) -> (Process, String) {
    address(bothros(&["serve", "--port", "0", "--database", url]))
}

/// The server's address as it tells it.
pub fn address(mut process: Process) -> (Process, String) {
    let lines = BufReader::new(process.0.stdout.take().unwrap()).lines();
    let line =
        lines.map_while(Result::ok).find(|l| l.contains("http://")).expect("the server tells its address");
    (process, line.split_whitespace().last().unwrap().trim_end_matches('/').to_owned())
}

/// Makes a study of rough ground, and waits until it is read.
pub async fn rough_study(store: &Store, dir: &std::path::Path, size: usize) -> i64 {
    let study = begin(store, &rough_file(dir, size)).await;
    let job = ended(store, study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    study
}

/// Asks for flow to be routed, and waits until it is under way.
pub async fn routing(store: &Store, study: i64) -> bothros_store::Job {
    store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
    wait(store, study, |job| job.state == "running" && job.progress > 0.0).await
}

pub async fn ended(store: &Store, study: i64) -> bothros_store::Job {
    wait(store, study, |job| !job.is_active()).await
}

pub async fn wait(
    store: &Store,
    study: i64,
    ready: impl Fn(&bothros_store::Job) -> bool,
) -> bothros_store::Job {
    let mut events = store.events().await.unwrap();
    loop {
        let job = store.last_job(study).await.unwrap().unwrap();
        if ready(&job) {
            return job;
        }
        tokio::time::timeout(Duration::from_secs(120), events.next())
            .await
            .expect("the job moves on")
            .unwrap();
    }
}

pub async fn begin(store: &Store, path: &std::path::Path) -> i64 {
    let new = NewStudy {
        name: "rough",
        description: "",
        file: "rough.tif",
        path,
        projection: None,
        more: Vec::new(),
        provenance: Default::default(),
    };
    begin_study(store, new).await.unwrap().0.id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_of_its_own_runs_jobs() {
    let url = database().await;
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let study = begin(&store, &rough_file(dir.path(), 300)).await;
    let _worker = bothros(&["worker", "--database", &url]);
    let job = ended(&store, study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    assert!(job.worker.unwrap().starts_with("worker-"));
    store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
    assert_eq!(ended(&store, study).await.state, "done");
    assert!(store.study(study).await.unwrap().network.is_some());
}

/// What a process may not hold lies on disk, where it was refused before; the results are what they are.
#[tokio::test(flavor = "multi_thread")]
async fn a_worker_whose_memory_lies_on_disk() {
    let url = database().await;
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    const SIZE: usize = 2400;
    let path = rough_file(dir.path(), SIZE);
    let refusing = bothros(&["worker", "--database", &url, "--memory-mb", "150"]);
    let study = begin(&store, &path).await;
    assert_eq!(ended(&store, study).await.state, "done");
    store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
    let refused = ended(&store, study).await;
    assert_eq!(refused.state, "failed");
    assert!(
        refused.message.contains("or let what does not fit lie on disk (--max-memory)"),
        "{}",
        refused.message
    );
    drop(refusing);

    let held = bothros(&["worker", "--database", &url, "--memory-mb", "150", "--max-memory", "150MB"]);
    store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
    let job = ended(&store, study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    let told = std::fs::read_to_string(format!("/proc/{}/status", held.0.id())).unwrap();
    let peak: u64 = told
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.trim().parse().ok())
        .unwrap();
    assert!(peak < 400_000, "{peak} kB at its peak");
    let filled = bothros_core::conditioning::fill(&fractal_terrain(SIZE, 9), &bothros_core::Silent).unwrap();
    let directions = bothros_core::routing::flow_directions(&filled, &bothros_core::Silent).unwrap();
    let expected = bothros_core::routing::flow_accumulation(&directions, &bothros_core::Silent).unwrap();
    let meta = store.raster(study, RasterRole::Accumulation).await.unwrap().unwrap();
    assert!(store.read_raster::<u32>(&meta).await.unwrap() == expected);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_killed_in_the_middle_of_a_job() {
    let url = database().await;
    let (mut server, _) = serve(&url);
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let study = rough_study(&store, dir.path(), 2400).await;
    routing(&store, study).await;
    server.0.kill().unwrap();
    server.0.wait().unwrap();

    // What was finished is there; of what was not, there is nothing.
    let kept = store.study(study).await.unwrap();
    assert!(kept.terrain.is_some() && kept.routing.is_none());
    assert!(store.raster(study, RasterRole::Accumulation).await.unwrap().is_none());

    bothros_archive::prepare_tls();
    let (_again, base) = serve(&url);
    let job = ended(&store, study).await;
    assert_eq!((job.state.as_str(), job.attempts), ("done", 2), "{}", job.message);
    let page =
        reqwest::get(format!("{base}/studies/{study}/desk/network")).await.unwrap().text().await.unwrap();
    assert!(page.contains("Reaches"), "{page}");
}

/// Names of files below a directory.
fn names(directory: &std::path::Path) -> Vec<String> {
    let Ok(files) = std::fs::read_dir(directory) else { return Vec::new() };
    let below = |file: std::fs::DirEntry| match file.path().is_dir() {
        true => names(&file.path()),
        false => vec![file.path().to_string_lossy().into_owned()],
    };
    files.filter_map(Result::ok).flat_map(below).collect()
}

/// A server or worker, on one thread, that shares the routing of studies in a place, and tells in a file what it does.
fn sharing(url: &str, place: &std::path::Path, told: &std::path::Path, arguments: &[&str]) -> Process {
    bothros_archive::prepare_tls();
    let told = std::fs::OpenOptions::new().create(true).append(true).open(told).unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_bothros"));
    command.args(arguments).args(["--database", url, "--share-from-cells", "1000", "--share-routing"]);
    command.arg(place).env("RUST_LOG", "warn,bothros_workflow=info").env("RAYON_NUM_THREADS", "1");
    Process(command.stdout(Stdio::piped()).stderr(told).spawn().unwrap())
}

/// The server begins to route and is killed: a worker goes on from the bands that are done. Then both are there, and whichever has
/// the job is helped by the other.
#[tokio::test(flavor = "multi_thread")]
async fn workers_share_the_routing_of_a_study() {
    const SIZE: usize = 1500;
    let url = database().await;
    let dir = tempfile::tempdir().unwrap();
    let (place, told) = (dir.path().join("shared"), dir.path().join("told"));
    let begin = |arguments: &[&str]| sharing(&url, &place, &told, arguments);
    let (mut server, _) = address(begin(&["serve", "--port", "0"]));
    let store = Store::connect(&url).await.unwrap();
    let study = rough_study(&store, dir.path(), SIZE).await;
    let filled = bothros_core::conditioning::fill(&fractal_terrain(SIZE, 9), &bothros_core::Silent).unwrap();
    let directions = bothros_core::routing::flow_directions(&filled, &bothros_core::Silent).unwrap();
    let expected = bothros_core::routing::flow_accumulation(&directions, &bothros_core::Silent).unwrap();
    let until = async |ready: &dyn Fn(&[String]) -> bool| {
        let begun = std::time::Instant::now();
        while !ready(&names(&place)) {
            assert!(begun.elapsed() < Duration::from_secs(60), "{:?}", names(&place));
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    let is_right = async || {
        let meta = store.raster(study, RasterRole::Accumulation).await.unwrap().unwrap();
        assert!(store.read_raster::<u32>(&meta).await.unwrap() == expected);
        let meta = store.raster(study, RasterRole::Filled).await.unwrap().unwrap();
        assert!(store.read_raster::<f32>(&meta).await.unwrap() == filled);
        // Whoever helped goes a little later.
        until(&|names| names.is_empty()).await;
    };

    store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
    until(&|names| names.iter().any(|name| name.ends_with("done/laid-out"))).await;
    server.0.kill().unwrap();
    server.0.wait().unwrap();
    assert!(names(&place).iter().any(|name| name.ends_with("/plan")));
    let _worker = begin(&["worker"]);
    let job = ended(&store, study).await;
    assert_eq!((job.state.as_str(), job.attempts), ("done", 2), "{}", job.message);
    is_right().await;

    let (_again, _) = address(begin(&["serve", "--port", "0"]));
    for time in 1.. {
        store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
        let job = ended(&store, study).await;
        assert_eq!(job.state, "done", "{}", job.message);
        is_right().await;
        let told = std::fs::read_to_string(&told).unwrap();
        if told.contains("helped another worker") {
            break;
        }
        // Who helps looks for work every two seconds.
        assert!(time < 20, "{told}");
    }
}

/// Sinks breached within a length and flow divided: what workers share is what one process finds by itself.
#[tokio::test(flavor = "multi_thread")]
async fn workers_share_breaching_and_divided_flow() {
    let url = database().await;
    let dir = tempfile::tempdir().unwrap();
    let (place, told) = (dir.path().join("shared"), dir.path().join("told"));
    let alone = crate::support::Site::on(&url).await;
    let study = alone.study(&rough_file(dir.path(), 1300), "rough").await;
    let choices = [
        ("sinks", "breach_then_fill"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", "150"),
        ("breach_depth_m", ""),
        ("burn", ""),
        ("burn_depth_m", "5"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
        ("routing", "mfd"),
    ];
    let (status, text) = alone.send(&format!("/studies/{study}/conditioning"), &choices).await;
    assert_eq!(status, reqwest::StatusCode::NO_CONTENT, "{text}");
    alone.send(&format!("/studies/{study}/route"), &[]).await;
    assert_eq!(alone.finish(study).await.state, "done");
    alone.running.stop().await.unwrap();

    let store = Store::connect(&url).await.unwrap();
    let found = async || {
        let sums = store.raster(study, RasterRole::Accumulation).await.unwrap().unwrap();
        let ground = store.raster(study, RasterRole::Filled).await.unwrap().unwrap();
        let ids = (sums.id, ground.id);
        (
            ids,
            store.read_raster::<u32>(&sums).await.unwrap(),
            store.read_raster::<f32>(&ground).await.unwrap(),
        )
    };
    let (mut before, sums, ground) = found().await;
    let (_server, _) = address(sharing(&url, &place, &told, &["serve", "--port", "0"]));
    let _worker = sharing(&url, &place, &told, &["worker"]);
    for time in 1.. {
        store.enqueue(study, JobKind::Route, bothros_store::Kept::empty()).await.unwrap();
        let job = ended(&store, study).await;
        assert_eq!(job.state, "done", "{}", job.message);
        let now = found().await;
        assert!(now.0 != before && now.1 == sums && now.2 == ground);
        before = now.0;
        let told = std::fs::read_to_string(&told).unwrap();
        if told.contains("helped another worker") {
            break;
        }
        assert!(time < 20, "{told}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn cancelling_leaves_the_study_as_it_was() {
    let url = database().await;
    let site = crate::support::Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&rough_file(dir.path(), 2400), "rough").await;
    site.send(&format!("/studies/{study}/route"), &[]).await;
    let job = wait(site.store(), study, |job| job.state == "running" && job.progress > 0.0).await;
    let (status, text) = site.send(&format!("/studies/{study}/route"), &[]).await;
    assert!(status == reqwest::StatusCode::CONFLICT && text.contains("busy"), "one at a time: {text}");
    site.send(&format!("/studies/{study}/cancel/{}", job.id), &[]).await;
    assert_eq!(ended(site.store(), study).await.state, "cancelled");
    assert!(site.store().study(study).await.unwrap().routing.is_none());
    // And it can be asked for again.
    site.send(&format!("/studies/{study}/route"), &[]).await;
    assert_eq!(ended(site.store(), study).await.state, "done");
}
