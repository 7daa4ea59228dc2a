//! What comes at the same moment: each change happens once, whole, and under its own name.

use std::path::Path;
use std::time::Duration;

use bothros_store::{FileRole, LayerRole, LogLine, Record};
use bothros_workflow::Facts;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};

use crate::support::{FRAME, Site, add_layer, database, sql, valley, valley_file, written};

/// A GeoJSON of so many lines that is larger than what is read at once.
fn large(lines: usize) -> Vec<u8> {
    let one: &[[f64; 2]] = &[[501_000.0, 4_758_000.0], [501_500.0, 4_758_400.0]];
    let mut json = crate::support::geojson(&vec![one; lines]);
    // Spaces mean nothing there.
    json.resize(12_500_000, b' ');
    json
}

/// Sends two changes to a study while somebody else holds it, and lets it go once both wait: however fast
/// this machine is, neither has ended before the other came.
async fn at_once<T>(
    site: &Site,
    url: &str,
    study: i64,
    one: impl Future<Output = T>,
    other: impl Future<Output = T>,
) -> (T, T) {
    let held = site.store().change(study).await.unwrap();
    let release = async {
        let waiting = "SELECT count(*) FROM pg_stat_activity
                       WHERE datname = current_database() AND wait_event_type = 'Lock'";
        while sql(url, waiting) != "2" {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        drop(held);
    };
    let release = tokio::time::timeout(Duration::from_secs(60), release);
    let (one, other, released) = tokio::join!(one, other, release);
    released.expect("both come to wait");
    (one, other)
}

#[tokio::test(flavor = "multi_thread")]
async fn two_large_layers_at_once_stand_under_their_own_names() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "layers").await;
    for round in 0..3 {
        let (few, many) = (format!("few{round}"), format!("many{round}"));
        let send = async |name: &str, lines: usize| {
            add_layer(&site, study, "mapped_streams", &[(&format!("{name}.geojson"), large(lines))]).await.0
        };
        let (a, b) = at_once(&site, &url, study, send(&few, 3), send(&many, 11)).await;
        let mut answers = [a, b];
        answers.sort();
        assert_eq!(answers, [StatusCode::NO_CONTENT, StatusCode::CONFLICT], "one is told to wait");
        assert_eq!(site.finish(study).await.state, "done");
        let layers = site.store().layers(study).await.unwrap();
        let of = |name: &str| layers.iter().find(|l| l.name == name).map(|l| l.features);
        let expected = if a.is_success() { (Some(3), None) } else { (None, Some(11)) };
        assert_eq!((of(&few), of(&many)), expected);
        assert!(site.store().files(study, FileRole::LayerPart).await.unwrap().is_empty());
    }
}

/// The valley, raised so that it can be told from others.
fn raised(dir: &Path, name: &str, by: f32) -> Part {
    let mut dem = valley();
    dem.values_mut().iter_mut().for_each(|z| *z += by);
    let path = written(dir, name, &dem, &FRAME);
    Part::bytes(std::fs::read(path).unwrap()).file_name(name.to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_dems_at_once_the_refused_one_leaves_nothing() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "dems").await;
    let path = format!("/studies/{study}/candidates");
    let send = async |part: Part| {
        let form = Form::new().part("dem", part);
        site.post(&path).multipart(form).send().await.unwrap().status()
    };
    let (one, two) = (raised(dir.path(), "one.tif", 100.0), raised(dir.path(), "two.tif", 200.0));
    let (a, b) = at_once(&site, &url, study, send(one), send(two)).await;
    assert!(a.is_success() != b.is_success(), "{a} {b}");
    assert_eq!(site.finish(study).await.state, "done");
    let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    let (name, low) = if a.is_success() { ("one.tif", 100.0) } else { ("two.tif", 200.0) };
    assert_eq!(facts.source.unwrap().file, name);
    let lowest = facts.terrain.unwrap().summary.lowest_m as f64;
    let valley = valley().values().iter().fold(f32::INFINITY, |m, &z| m.min(z)) as f64;
    assert!((lowest - valley - low).abs() < 0.01, "{lowest} is of {name}");
    assert_eq!(site.store().candidates(study).await.unwrap().len(), 1, "the first DEM is kept aside once");
    assert_eq!(site.store().files(study, FileRole::Dem).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_undo_is_done_once_and_none_is_lost() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "undo").await;
    let path = |what: &str| format!("/studies/{study}/{what}");
    let set = async |cells: &str| site.send(&path("threshold"), &[("cells", cells)]).await.0;
    let cells =
        async || Facts::of(&site.store().study(study).await.unwrap()).unwrap().network.unwrap().threshold;
    let first = cells().await;
    for _ in 0..5 {
        assert_eq!(set("700").await, StatusCode::NO_CONTENT);
        // Pressed twice: one undoes, the other finds nothing left.
        let undo = path("undo");
        let (a, b) = tokio::join!(site.send(&undo, &[]), site.send(&undo, &[]));
        assert!(a.0.is_success() != b.0.is_success(), "{a:?} {b:?}");
        let told = if a.0.is_success() { b.1 } else { a.1 };
        assert!(told.contains("nothing left to undo"), "{told}");
        assert_eq!(cells().await, first);
    }
    // One that has to wait for a job is still there afterwards.
    let (status, text) = site.send(&path("prepare"), &[("cell_size", "20")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(site.send(&path("route"), &[]).await.0, StatusCode::NO_CONTENT);
    let (status, told) = site.send(&path("undo"), &[]).await;
    if site.store().active_job(study).await.unwrap().is_some() {
        assert_eq!(status, StatusCode::CONFLICT, "{told}");
    }
    assert_eq!(site.finish(study).await.state, "done");
    if status == StatusCode::CONFLICT {
        assert_eq!(site.send(&path("undo"), &[]).await.0, StatusCode::NO_CONTENT);
        assert_eq!(site.finish(study).await.state, "done");
    }
    let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    assert_eq!(facts.terrain.unwrap().frame.cell_size, 10.0, "as it was before");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_said_while_a_dem_is_read_stays() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "said").await;
    for round in 0..5 {
        let source = format!("survey {round}");
        site.send(&format!("/studies/{study}/reread"), &[]).await;
        let form = [("source", source.as_str()), ("date", ""), ("scale", ""), ("licence", "")];
        let (status, text) = site.send(&format!("/studies/{study}/dem-files/0/provenance"), &form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
        assert_eq!(site.finish(study).await.state, "done");
        let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
        assert_eq!(facts.source.unwrap().provenance.source, source);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn points_that_are_changed_while_flow_is_routed_are_as_they_were_left() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "points").await;
    let path = |what: &str| format!("/studies/{study}/{what}");
    let x = (FRAME.left + 2005.0).to_string();
    let y = |row: f64| (FRAME.top - 10.0 * row - 5.0).to_string();
    let send = async |what: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&path(what), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{what}: {text}");
    };
    for round in 0..3 {
        for name in ["renamed", "moved", "deleted"] {
            send("pour-points", &[("x", &x), ("y", &y(200.0)), ("name", &format!("{name} {round}"))]).await;
        }
        let id = async |name: &str| {
            let all = site.store().pour_points(study).await.unwrap();
            all.iter().find(|p| p.name == format!("{name} {round}")).unwrap().id
        };
        let (renamed, moved, deleted) = (id("renamed").await, id("moved").await, id("deleted").await);
        // Each routing differs from the one before, so that an old catchment would be told from a new one.
        let depth = format!("{}", 1.0 + round as f64);
        let lines = format!("[[{x},{}],[{x},{}]]", y(100.0), y(102.0));
        send("draw", &[("role", "walls"), ("line", &lines), ("name", &depth)]).await;
        send("route", &[]).await;
        send(&format!("pour-points/{renamed}/rename"), &[("name", "another name")]).await;
        send(&format!("pour-points/{moved}/move"), &[("x", &x), ("y", &y(90.0))]).await;
        send(&format!("pour-points/{deleted}/delete"), &[]).await;
        send("pour-points", &[("x", &x), ("y", &y(150.0)), ("name", &format!("added {round}"))]).await;
        assert_eq!(site.finish(study).await.state, "done");
        let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
        let all = site.store().pour_points(study).await.unwrap();
        let of = |id: i64| all.iter().find(|p| p.id == id);
        assert_eq!(of(renamed).unwrap().name, "another name");
        assert_eq!(of(moved).unwrap().y.to_string(), y(90.0));
        assert!(of(deleted).is_none());
        assert!(all.iter().any(|p| p.name == format!("added {round}")));
        // All of them have the catchment that the flow has now.
        let grids = site.running.grids.get(site.store(), &facts).await.unwrap();
        for point in &all {
            let kept: bothros_workflow::CatchmentFacts =
                serde_json::from_value(point.catchment.clone().expect("a catchment")).unwrap();
            let now = bothros_core::catchments::delineate(&grids.directions, kept.cell).unwrap();
            assert_eq!(kept.cells, now.cells, "{}", point.name);
        }
        send(&format!("pour-points/{renamed}/rename"), &[("name", &format!("old {round}"))]).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_point_keeps_how_it_was_snapped() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "snapped").await;
    let path = |what: &str| format!("/studies/{study}/{what}");
    let (x, y) = ((FRAME.left + 2105.0).to_string(), (FRAME.top - 2005.0).to_string());
    site.send(&path("snapping"), &[("snap_m", "0"), ("snap_to", "largest")]).await;
    site.send(&path("pour-points"), &[("x", &x), ("y", &y), ("name", "where it is")]).await;
    site.send(&path("snapping"), &[("snap_m", "300"), ("snap_to", "largest")]).await;
    site.send(&path("pour-points"), &[("x", &x), ("y", &y), ("name", "to the river")]).await;
    let moved = async || {
        let all = site.store().pour_points(study).await.unwrap();
        let of = |p: &bothros_store::PourPoint| {
            let kept = p.catchment.clone().expect("a catchment");
            (p.name.clone(), kept["moved_m"].as_f64().unwrap())
        };
        all.iter().map(of).collect::<Vec<_>>()
    };
    let before = moved().await;
    assert!(before[0].1 < 10.0 && before[1].1 > 50.0, "{before:?}");
    site.send(&path("route"), &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(moved().await, before, "routing again does not snap them otherwise");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_was_written_but_never_queued_is_found() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "forgotten").await;
    // As a process leaves it that ends between both.
    let forgotten = format!(
        "INSERT INTO job (study_id, kind, parameters, state, progress, message, cancel_requested, attempts, created_at)
         VALUES ({study}, 'route', '{{}}', 'queued', 0, 'waiting for a worker', false, 0, now() - interval '1 minute')"
    );
    sql(&url, &forgotten);
    assert_eq!(site.finish(study).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn fifty_changes_at_once_all_happen() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "crowd").await;
    let note = async |n: usize| {
        let change = site.store().change(study).await.unwrap();
        change
            .draw(LayerRole::Sites, None, None, bothros_store::Shape::Point([n as f64, 0.0]), "crs")
            .await
            .unwrap();
        change.commit(Record::log(LogLine::new("Conditioning", format!("site {n}")))).await.unwrap();
    };
    futures::future::join_all((0..50).map(note)).await;
    assert_eq!(site.store().features_of(study, LayerRole::Sites).await.unwrap().len(), 50);
    let log = site.store().log_entries(study).await.unwrap();
    assert_eq!(log.iter().filter(|l| l.text.starts_with("site ")).count(), 50);
}
