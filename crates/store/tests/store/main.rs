//! The store against a real PostgreSQL, started on loopback for this test.
#![allow(clippy::unwrap_used)]

use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use bothros_core::{Frame, Grid, Monitor};
use bothros_store::server::LocalServer;
use bothros_store::*;
use serde_json::json;

static SERVER: LazyLock<LocalServer> = LazyLock::new(|| LocalServer::temporary().expect("PostgreSQL starts"));
static NEXT: AtomicUsize = AtomicUsize::new(0);

/// Any document.
#[derive(serde::Serialize, serde::Deserialize)]
#[serde(transparent)]
struct Any(serde_json::Value);

impl Versioned for Any {
    const WHAT: &'static str = "a test's document";
}

fn kept(document: serde_json::Value) -> Kept {
    Kept::of(&Any(document)).unwrap()
}

/// Makes a change to a study and keeps it, with nothing beside it.
macro_rules! change {
    ($store:expr, $study:expr, |$change:ident| $how:expr) => {{
        let $change = $store.change($study).await.unwrap();
        let told = $how.await.unwrap();
        $change.commit(Record::default()).await.unwrap();
        told
    }};
}

mod growing;
mod jobs;
mod rasters;

async fn number(url: &str, sql: &str) -> i64 {
    let pool = sea_orm::sqlx::PgPool::connect(url).await.unwrap();
    sea_orm::sqlx::query_scalar(sea_orm::sqlx::AssertSqlSafe(sql.to_owned())).fetch_one(&pool).await.unwrap()
}

/// A new study.
async fn study(store: &Store) -> Study {
    begun(store, None).await
}

async fn begun(store: &Store, source: Option<Kept>) -> Study {
    let change = store.create_study("A", "first", source).await.unwrap();
    let study = change.study().clone();
    change.commit(Record::default()).await.unwrap();
    study
}

fn point(name: &str) -> NewPourPoint {
    let snapping = Snapping { snap_m: 20.0, snap_to: "largest".into() };
    NewPourPoint { name: name.into(), x: 1.0, y: 2.0, snapping, found: Delineated::default() }
}

/// A store on a database of its own.
async fn store() -> (Store, String) {
    let name = format!("test_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    let admin = sea_orm::Database::connect(SERVER.url()).await.unwrap();
    sea_orm::ConnectionTrait::execute_unprepared(&admin, &format!("CREATE DATABASE {name}")).await.unwrap();
    let url = SERVER.url_of(&name);
    (Store::connect(&url).await.unwrap(), url)
}

const FRAME: Frame = Frame { rows: 1100, cols: 700, left: 10.0, top: 20.0, cell_size: 2.0, unit_m: 1.0 };

fn terrain() -> Grid<f32> {
    Grid::from_fn(1100, 700, |c| if c.row == 3 { f32::NAN } else { c.row as f32 + c.col as f32 / 1000.0 })
}

async fn put_terrain(store: &Store, study: i64) -> RasterMeta {
    let writer = store.write(study).await.unwrap();
    writer.put(NewRaster::at(RasterRole::Dem, &FRAME), &terrain(), &|_| true).await.unwrap();
    writer.into_change().await.unwrap().commit(Record::default()).await.unwrap();
    store.raster(study, RasterRole::Dem).await.unwrap().unwrap()
}

fn same(a: &Grid<f32>, b: &Grid<f32>) -> bool {
    a.values().iter().zip(b.values()).all(|(a, b)| a.to_bits() == b.to_bits())
}

#[tokio::test(flavor = "multi_thread")]
async fn studies_are_duplicated_deleted_and_restored() {
    let (store, _) = store().await;
    let study = begun(&store, Some(kept(json!({"k": 1})))).await;
    put_terrain(&store, study.id).await;
    let change = store.change(study.id).await.unwrap();
    change.add_pour_point(point("gauge")).await.unwrap();
    let line = LogLine::new("Terrain", "read").taking(Duration::from_millis(5));
    change.commit(Record::log(line)).await.unwrap();
    let copy = store.duplicate_study(study.id, "A, copy").await.unwrap();
    let meta = store.raster(copy.id, RasterRole::Dem).await.unwrap().unwrap();
    assert!(same(&store.read_raster::<f32>(&meta).await.unwrap(), &terrain()));
    assert_eq!(store.pour_points(copy.id).await.unwrap()[0].name, "gauge");
    assert_eq!(store.log_entries(copy.id).await.unwrap().len(), 1);

    store.delete_study(study.id).await.unwrap();
    assert!(matches!(store.study(study.id).await, Err(Error::NotFound("study"))));
    assert_eq!(store.studies().await.unwrap().len(), 1);
    assert_eq!(store.purge_deleted(Duration::from_secs(600)).await.unwrap(), 0, "not long enough ago");
    store.restore_study(study.id).await.unwrap();
    assert_eq!(store.study(study.id).await.unwrap().source.unwrap()["k"], 1);
    store.delete_study(study.id).await.unwrap();
    assert_eq!(store.purge_deleted(Duration::ZERO).await.unwrap(), 1);
    assert!(store.restore_study(study.id).await.is_err());
    assert!(same(&store.read_raster::<f32>(&meta).await.unwrap(), &terrain()), "the copy stands by itself");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_undone_once_and_the_newest_first() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    for (label, cells) in [("first", 1), ("second", 2), ("third", 3)] {
        let record = Record::default().undone_by(label, Inverse::SetThreshold { cells });
        store.change(study).await.unwrap().commit(record).await.unwrap();
    }
    // Ten press at once: three changes are taken, each by one.
    let take = async || {
        let change = store.change(study).await.unwrap();
        let last = store.last_change(study).await.unwrap()?;
        assert!(change.take(last.id).await.unwrap(), "nobody else is there");
        assert!(!change.take(last.id).await.unwrap(), "taken once");
        change.commit(Record::default()).await.unwrap();
        Some(last.label)
    };
    let mut taken = futures::future::join_all((0..10).map(|_| take())).await;
    taken.sort();
    let labels: Vec<&str> = taken.iter().flatten().map(String::as_str).collect();
    assert_eq!(labels, ["first", "second", "third"]);
    // What fails or is given up leaves the entry where it was.
    let record = Record::default().undone_by("fourth", Inverse::SetThreshold { cells: 4 });
    store.change(study).await.unwrap().commit(record).await.unwrap();
    let last = store.last_change(study).await.unwrap().unwrap();
    let change = store.change(study).await.unwrap();
    assert!(change.take(last.id).await.unwrap());
    drop(change);
    assert_eq!(store.last_change(study).await.unwrap(), Some(last));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_what_can_be_undone_ends_somewhere() {
    let (store, url) = store().await;
    let study = self::study(&store).await.id;
    for cells in 0..230 {
        let record = Record::default().undone_by("threshold", Inverse::SetThreshold { cells });
        store.change(study).await.unwrap().commit(record).await.unwrap();
    }
    let admin = sea_orm::Database::connect(&url).await.unwrap();
    let sql = "SELECT count(*) AS n FROM undo_entry";
    let statement = sea_orm::Statement::from_string(sea_orm::DatabaseBackend::Postgres, sql);
    let row = sea_orm::ConnectionTrait::query_one_raw(&admin, statement).await.unwrap().unwrap();
    assert_eq!(row.try_get::<i64>("", "n").unwrap(), 200);
    let last = store.last_change(study).await.unwrap().unwrap();
    assert_eq!(last.inverse, Inverse::SetThreshold { cells: 229 });
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_lands_with_its_log_its_undo_and_its_job_or_not_at_all() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let record = || {
        Record::log(LogLine::new("Catchments", "placed"))
            .undone_by("placed", Inverse::RemovePourPoint { id: 1 })
            .starting(JobKind::Route, Kept::empty())
    };
    // Where nobody keeps it.
    let change = store.change(study).await.unwrap();
    change.add_pour_point(point("dropped")).await.unwrap();
    drop(change);
    // Where a job runs already.
    let job = store.enqueue(study, JobKind::Review, Kept::empty()).await.unwrap();
    let change = store.change(study).await.unwrap();
    change.add_pour_point(point("busy")).await.unwrap();
    assert!(matches!(change.commit(record()).await, Err(Error::Busy(_))));
    assert!(matches!(store.change_idle(study).await, Err(Error::Busy(_))));
    assert!(store.pour_points(study).await.unwrap().is_empty());
    assert!(store.log_entries(study).await.unwrap().is_empty());
    assert_eq!(store.last_change(study).await.unwrap(), None);
    // Where nothing stands in its way.
    store.cancel_job(job.id).await.unwrap();
    let before = store.revision(study).await.unwrap();
    let change = store.change_idle(study).await.unwrap();
    change.add_pour_point(point("")).await.unwrap();
    let started = change.commit(record()).await.unwrap().unwrap();
    assert_eq!(store.active_job(study).await.unwrap().map(|j| j.id), Some(started.id));
    assert_eq!(store.pour_points(study).await.unwrap()[0].name, "Pour point 1");
    assert_eq!(store.log_entries(study).await.unwrap().len(), 1);
    assert!(store.last_change(study).await.unwrap().is_some());
    assert!(store.revision(study).await.unwrap() > before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_in_use_is_refused() {
    let directory = tempfile::tempdir().unwrap();
    let lock = std::fs::File::create(directory.path().join("lock")).unwrap();
    lock.lock().unwrap();
    assert!(
        matches!(LocalServer::start(directory.path()), Err(Error::Server(text)) if text.contains("in use"))
    );
}

fn line(x: f64) -> Shape {
    Shape::Line(vec![[x, 0.0], [x + 1.0, 2.0]])
}

#[tokio::test(flavor = "multi_thread")]
async fn layers_are_drawn_changed_deleted_and_copied() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let features: Vec<LayerFeature> = (1..=3000)
        .map(|id| LayerFeature {
            id,
            name: None,
            elevation: None,
            numbers: Default::default(),
            shape: line(id as f64),
        })
        .collect();
    let about = json!({ "file": "streams.gpkg", "sha256": "0" });
    let layer =
        change!(store, study, |c| c.add_layer(LayerRole::MappedStreams, "streams", about, features.clone()));
    assert_eq!(store.layer(study, layer.id).await.unwrap().1, features);
    // Two people draw at the same time: both lines are there.
    let name = Some("culvert".to_owned());
    let draw = async |x: f64| {
        let name = name.clone();
        change!(store, study, |c| c.draw(LayerRole::BreachLines, name, None, line(x), "EPSG:32628"))
    };
    let ((one, first), (two, second)) = tokio::join!(draw(1.0), draw(2.0));
    assert_eq!(store.features_of(study, LayerRole::BreachLines).await.unwrap().len(), 2);
    assert!(one != two || first != second);
    let gone = change!(store, study, |c| c.remove_feature(one, first));
    let change = store.change(study).await.unwrap();
    assert!(matches!(change.remove_feature(one, first).await, Err(Error::NotFound("feature"))));
    drop(change);
    change!(store, study, |c| c.restore_feature(one, gone));
    let copy = store.duplicate_study(study, "B").await.unwrap().id;
    assert_eq!(store.features_of(copy, LayerRole::MappedStreams).await.unwrap(), features);
    change!(store, study, |c| c.set_layer_deleted(layer.id, true));
    assert!(store.features_of(study, LayerRole::MappedStreams).await.unwrap().is_empty());
    assert_eq!(
        store.features_of(copy, LayerRole::MappedStreams).await.unwrap().len(),
        3000,
        "a copy is its own"
    );
    change!(store, study, |c| c.set_layer_deleted(layer.id, false));
    assert_eq!(store.layers(study).await.unwrap()[0].features, 3000);
    assert!(matches!(store.layer(copy, layer.id).await, Err(Error::NotFound("layer"))), "of another study");
}

#[tokio::test(flavor = "multi_thread")]
async fn decisions_about_barriers_outlive_a_search() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let new = |x: f64, score: f64| NewBarrier { x, y: 50.0, score, facts: kept(json!({ "x": x })) };
    change!(store, study, |c| c.keep_barriers(vec![new(0.0, 0.7), new(100.0, 0.9), new(500.0, 0.8)], 20.0));
    let all = store.barriers(study).await.unwrap();
    assert_eq!(all.iter().map(|b| b.x).collect::<Vec<_>>(), [100.0, 500.0, 0.0], "the likeliest first");
    change!(store, study, |c| c.decide(all[0].id, Some("breach"), Some(json!([[1.0, 2.0], [3.0, 4.0]]))));
    change!(store, study, |c| c.decide(all[1].id, Some("keep"), None));
    // One was moved a little, one is gone that nothing was decided about, one that something was.
    change!(store, study, |c| c.keep_barriers(vec![new(110.0, 0.95), new(300.0, 0.6)], 20.0));
    let now = store.barriers(study).await.unwrap();
    let told: Vec<_> = now.iter().map(|b| (b.x, b.found, b.decision.as_deref())).collect();
    assert_eq!(told, [(110.0, true, Some("breach")), (300.0, true, None), (500.0, false, Some("keep"))]);
    assert_eq!((now[0].id, now[0].line.is_some()), (all[0].id, true));
}

#[tokio::test(flavor = "multi_thread")]
async fn choices_are_changed_one_after_the_other() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    // Forty at once: each reads what the one before has written.
    let add = async |n: u64| {
        let change = store.change(study).await.unwrap();
        let mut kept = change.study().settings.clone();
        let count = kept["count"].as_u64().unwrap_or(0) + 1;
        kept["count"] = count.into();
        kept[format!("of {n}")] = n.into();
        change.set_settings(self::kept(kept)).await.unwrap();
        change.commit(Record::default()).await.unwrap();
        count
    };
    let mut counts = futures::future::join_all((0..40).map(add)).await;
    counts.sort_unstable();
    assert_eq!(counts, (1..=40).collect::<Vec<u64>>());
    let kept = store.study(study).await.unwrap().settings;
    assert!((0..40u64).all(|n| kept[format!("of {n}")] == n), "{kept}");
    // A study that is not there has none.
    assert!(matches!(store.change(study + 99).await, Err(Error::NotFound("study"))));
}

#[tokio::test(flavor = "multi_thread")]
async fn choices_do_not_wait_for_rasters_that_are_written_and_results_land_with_them() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let flow = Grid::filled(40, 30, 1u32);
    let frame = Frame { rows: 40, cols: 30, ..FRAME };
    let writer = store.write(study).await.unwrap();
    let new = NewRaster::at(RasterRole::Accumulation, &frame);
    let number = writer.put(new, &flow, &|_| true).await.unwrap();
    // Somebody chooses while the rasters are on their way.
    let choose = async {
        let change = store.change(study).await.unwrap();
        change.set_settings(kept(json!({ "chosen": true }))).await.unwrap();
        change.commit(Record::default()).await.unwrap();
    };
    tokio::time::timeout(Duration::from_secs(5), choose).await.expect("nobody waits");
    let change = writer.into_change().await.unwrap();
    assert_eq!(change.study().settings["chosen"], true);
    assert_eq!(change.raster(RasterRole::Accumulation).await.unwrap().map(|r| r.id), Some(number));
    assert_eq!(store.raster(study, RasterRole::Accumulation).await.unwrap(), None, "not yet for others");
    change.set(vec![(StudyPart::Network, Some(kept(json!({ "threshold": 8 }))))]).await.unwrap();
    change.commit(Record::log(LogLine::new("Conditioning", "routed"))).await.unwrap();
    assert_eq!(store.raster(study, RasterRole::Accumulation).await.unwrap().map(|r| r.id), Some(number));
    let now = store.study(study).await.unwrap();
    assert_eq!(
        (now.network, &now.settings["chosen"]),
        (Some(json!({ "threshold": 8, "v": 1 })), &json!(true))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_holds_what_a_study_may_have_once() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let lines: [u8; 0] = [];
    let add = async |name: &str| {
        let change = store.change(study).await.unwrap();
        let id = change.add_trial(name, kept(json!({})), "", &lines).await?;
        change.commit(Record::default()).await?;
        Ok::<_, Error>(id)
    };
    let (a, b) = (add("one").await.unwrap(), add("two").await.unwrap());
    assert!(add("one").await.is_err(), "names are unique");
    for id in [a, b] {
        change!(store, study, |c| c.choose_trial(Some((id, "why".into()))));
    }
    let chosen: Vec<i64> = store
        .trials(study)
        .await
        .unwrap()
        .iter()
        .filter(|t| t.justification.is_some())
        .map(|t| t.id)
        .collect();
    assert_eq!(chosen, [b], "one is chosen");
    change!(store, study, |c| c.set_trial_deleted(a, true));
    add("one").await.expect("the name is free again");
}

/// How many rows of a table belong to something.
async fn rows(url: &str, from: &str) -> i64 {
    use sea_orm::{ConnectionTrait, Statement};
    let admin = sea_orm::Database::connect(url).await.unwrap();
    let sql = format!("SELECT count(*) AS n FROM {from}");
    let row = admin.query_one_raw(Statement::from_string(admin.get_database_backend(), sql)).await.unwrap();
    row.unwrap().try_get("", "n").unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_of_choices_and_of_files_are_rows_and_come_back_as_they_were() {
    let (store, url) = store().await;
    let sha = "ab".repeat(32);
    let file = |name: &str| {
        json!({ "file": name, "bytes": 12, "sha256": sha, "band": 1, "vertical_unit": "metre", "crs": { "epsg": 32628 },
            "info": { "rows": 3 }, "provenance": { "source": "survey" } })
    };
    let source = json!({ "file": "a.tif", "more": [file("b.tif"), file("c.tif")] });
    let study = begun(&store, Some(kept(source.clone()))).await.id;
    let settings = json!({
        "snap_m": 40.5,
        "edits": [
            { "edit": { "kind": "head", "at": [502_015.25, 4_758_005.1] }, "reason": "a spring" },
            { "edit": { "kind": "within", "ring": [[0.1, 0.2], [1.0, 0.0], [1.0, 1.0]], "area": 5e5 }, "reason": "town" },
        ],
        "shortfalls": [
            { "side": "missed", "at": [0.1, 4_757_900.3], "verdict": "accepted", "remark": "a ditch" },
        ],
    });
    change!(store, study, |c| c.set_settings(kept(settings.clone())));
    let with = |mut document: serde_json::Value| {
        document["v"] = 1.into();
        document
    };
    let copy = store.duplicate_study(study, "B").await.unwrap().id;
    for of in [study, copy] {
        let now = store.study(of).await.unwrap();
        assert_eq!((now.settings, now.source), (with(settings.clone()), Some(with(source.clone()))));
        assert_eq!(rows(&url, &format!("stream_edit WHERE study_id = {of}")).await, 2);
        assert_eq!(rows(&url, &format!("shortfall_mark WHERE study_id = {of}")).await, 1);
        let files = format!("source_file f JOIN dem d ON d.id = f.dem_id WHERE d.study_id = {of}");
        assert_eq!(rows(&url, &files).await, 2);
        let held = format!("study WHERE id = {of} AND settings ?| '{{edits,shortfalls}}'");
        assert_eq!(rows(&url, &held).await, 0, "kept once");
    }
    // What a package rests on holds them too.
    let before = store.fingerprint(study).await.unwrap();
    let mut fewer = settings.clone();
    fewer["edits"].as_array_mut().unwrap().pop();
    change!(store, study, |c| c.set_settings(kept(fewer)));
    assert_ne!(store.fingerprint(study).await.unwrap(), before);
    change!(store, study, |c| c.set_settings(kept(settings)));
    assert_eq!(store.fingerprint(study).await.unwrap(), before);
    // What is no such thing is refused, and nothing is changed.
    for (name, item) in [
        ("edits", json!({ "edit": { "kind": "dig" }, "reason": "" })),
        ("shortfalls", json!({ "side": "left", "at": [1, 2], "verdict": "accepted", "remark": "" })),
        ("shortfalls", json!({ "side": "extra", "at": [1, 2], "verdict": "perhaps", "remark": "" })),
    ] {
        let change = store.change(study).await.unwrap();
        assert!(change.set_settings(kept(json!({ name: [item] }))).await.is_err(), "{name}");
        drop(change);
        assert_eq!(store.fingerprint(study).await.unwrap(), before);
    }
    // Another DEM has its own files; the one set aside keeps its.
    change!(store, study, |c| c
        .begin_candidate("first", kept(json!({ "file": "z.tif", "more": [file("y.tif")] }))));
    let aside = store.candidates(study).await.unwrap().remove(0);
    assert_eq!(aside.source, Some(with(source)));
    assert_eq!(store.study(study).await.unwrap().source.unwrap()["more"][0]["file"], "y.tif");
    change!(store, study, |c| c.delete_candidate(aside.id));
    assert_eq!(rows(&url, "source_file").await, 3, "one of the study, two of its copy");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_undone_any_more_is_gone_for_good() {
    let (store, url) = store().await;
    let study = self::study(&store).await.id;
    let keep = async |name: &str| {
        let change = store.change(study).await.unwrap();
        let (id, _) = change.add_pour_point(point(name)).await.unwrap();
        change.commit(Record::default().undone_by(name, Inverse::RemovePourPoint { id })).await.unwrap();
        id
    };
    let (kept_point, gone) = (keep("gauge").await, keep("ford").await);
    change!(store, study, |c| c.set_pour_point_deleted(gone, true));
    for _ in 0..3 {
        let job = store.enqueue(study, JobKind::Route, Kept::empty()).await.unwrap();
        store.cancel_job(job.id).await.unwrap();
    }
    // Within its time all of it stays.
    assert_eq!(store.purge_changes(Duration::from_secs(600)).await.unwrap(), 0);
    assert_eq!(store.last_change(study).await.unwrap().unwrap().label, "ford");
    change!(store, study, |c| c.set_pour_point_deleted(gone, false));
    change!(store, study, |c| c.set_pour_point_deleted(gone, true));
    // After it: two changes, one point, two of three jobs.
    assert_eq!(store.purge_changes(Duration::ZERO).await.unwrap(), 5);
    assert_eq!(store.last_change(study).await.unwrap(), None);
    assert_eq!(
        store.pour_points(study).await.unwrap().iter().map(|p| p.id).collect::<Vec<_>>(),
        [kept_point]
    );
    assert_eq!(rows(&url, "job").await, 1);
    assert!(store.last_job(study).await.unwrap().is_some());
    assert_eq!(store.purge_changes(Duration::ZERO).await.unwrap(), 0, "nothing is left to purge");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_takes_only_roles_and_kinds_that_are_known() {
    use sea_orm::ConnectionTrait;
    let (store, url) = store().await;
    let study = self::study(&store).await.id;
    put_terrain(&store, study).await;
    let job = store.enqueue(study, JobKind::Route, Kept::empty()).await.unwrap();
    store.cancel_job(job.id).await.unwrap();
    change!(store, study, |c| c.draw(LayerRole::Walls, None, None, line(1.0), "EPSG:32628"));
    let admin = sea_orm::Database::connect(&url).await.unwrap();
    for (table, column) in [("raster", "role"), ("layer", "role"), ("job", "kind")] {
        let odd = admin.execute_unprepared(&format!("UPDATE {table} SET {column} = 'odd'")).await;
        assert!(odd.unwrap_err().to_string().contains("check"), "{table}.{column}");
    }
}
