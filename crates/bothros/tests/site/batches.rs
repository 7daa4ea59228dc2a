//! Batches in the application: begun on a page, worked on by any number of processes, held side by side.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bothros_store::{MadeBy, NewBatch, NewRun, Run, Store};
use bothros_workflow::{BatchWish, Given, WhatVaries, plan_batch, read_values};
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};

use crate::processes::{bothros, rough_file};
use crate::support::browser::{browser, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, database, valley_file};

const RECIPE: &str = "version = 1\n[terrain]\ndem = [\"rough.tif\"]\n[conditioning]\nsinks = \"fill\"\n\
    [network]\nthreshold = { cells = 500 }\n";

async fn runs(store: &Store, batch: i64, ready: impl Fn(&[Run]) -> bool) -> Vec<Run> {
    for _ in 0..3000 {
        let all = store.runs(batch).await.unwrap();
        if ready(&all) {
            return all;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the runs do not move on: {:?}", store.runs(batch).await.unwrap());
}

fn all_ended(all: &[Run]) -> bool {
    all.iter().all(|run| !run.is_active())
}

/// The files that a run wrote, but for summary.json, which tells times.
async fn written(store: &Store, run: &Run) -> BTreeMap<String, Vec<u8>> {
    let dir = tempfile::tempdir().unwrap();
    let mut all = BTreeMap::new();
    for file in store.batch_files(run.batch_id, Some(run.id)).await.unwrap() {
        let path = dir.path().join("file");
        store.fetch_batch_file(file.id, &path).await.unwrap();
        all.insert(file.name, std::fs::read(&path).unwrap());
    }
    assert!(all.remove("summary.json").is_some());
    all
}

async fn planned(store: &Store, dem: &Path, keys: &[(&str, &str)], name: &str) -> i64 {
    let keys = keys.iter().map(|(key, values)| read_values(key, values).unwrap()).collect();
    let files = vec![("rough.tif".to_owned(), dem.to_owned())];
    let given = Given::Text { recipe: RECIPE.into(), files };
    let wish = BatchWish { given, varies: WhatVaries { keys, ..Default::default() }, limit: 1 << 30 };
    plan_batch(store, wish).await.unwrap().begin(store, name, MadeBy::Page).await.unwrap().id
}

#[tokio::test(flavor = "multi_thread")]
async fn two_workers_of_which_one_is_killed_do_every_run_once() {
    let url = database().await;
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let dem = rough_file(dir.path(), 700);
    let varied = [("cells", "200; 400; 800; 1600"), ("routing", "d8; mfd; dinf")];
    let two = planned(&store, &dem, &varied, "two workers").await;
    let (mut first, _second) =
        (bothros(&["worker", "--database", &url]), bothros(&["worker", "--database", &url]));
    // Both are at it, some runs are done.
    let busy = |all: &[Run]| {
        all.iter().filter(|r| r.state == "running").count() == 2 && all.iter().any(|r| r.state == "done")
    };
    runs(&store, two, busy).await;
    first.0.kill().unwrap();
    first.0.wait().unwrap();
    let done = runs(&store, two, all_ended).await;
    assert_eq!(done.len(), 12);
    let workers: std::collections::BTreeSet<_> = done.iter().map(|r| r.worker.clone().unwrap()).collect();
    assert!(!workers.is_empty() && workers.len() <= 2);
    let again: Vec<&Run> = done.iter().filter(|r| r.attempts > 1).collect();
    assert_eq!(again.len(), 1, "the run of the killed worker was begun twice, every other once");
    assert!(done.iter().all(|r| r.state == "done"), "{done:?}");
    // One worker alone gives the same, file by file and byte by byte.
    let one = planned(&store, &dem, &varied, "one worker").await;
    let alone = runs(&store, one, all_ended).await;
    for (a, b) in done.iter().zip(&alone) {
        let (a, b) = (written(&store, a).await, written(&store, b).await);
        assert_eq!(a.keys().collect::<Vec<_>>(), b.keys().collect::<Vec<_>>());
        for (name, bytes) in &a {
            // GeoPackages tell when they were written.
            assert!(name.ends_with(".gpkg") || bytes == &b[name], "{name}");
        }
        assert!(a.contains_key("ground.tif") && a.contains_key("network.gpkg"));
    }
    // A worker that stops in good order gives its run back, which does not count.
    let long = planned(&store, &rough_file(dir.path(), 2000), &[("cells", "300")], "long").await;
    runs(&store, long, |all| all[0].state == "running").await;
    drop(_second);
    let _third = bothros(&["worker", "--database", &url]);
    let found = runs(&store, long, all_ended).await;
    assert_eq!(found[0].state, "done", "{}", found[0].message);
    // Another version leaves it alone, and its page says why.
    let run = NewRun { name: "0001".into(), own: serde_json::json!([]), recipe: RECIPE.into() };
    let new = NewBatch {
        name: "of another version".into(),
        made_by: MadeBy::Page,
        keys: Vec::new(),
        program: "bothros 0.0.1".into(),
        inputs: Vec::new(),
        runs: vec![run],
    };
    let other = store.begin_batch(new).await.unwrap().id;
    tokio::time::sleep(Duration::from_millis(1500)).await;
    assert_eq!(store.runs(other).await.unwrap()[0].state, "queued");
    let site = Site::on(&url).await;
    let page = site.get(&format!("/batches/{other}")).await.text().await.unwrap();
    assert!(page.contains("bothros 0.0.1 made this batch"), "{page}");
}

/// A form of the page, with a zip of a recipe and what it reads.
fn form(files: &[(&str, &[u8])], fields: &[(&'static str, String)]) -> Form {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in files {
        zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut zip, bytes).unwrap();
    }
    let bytes = zip.finish().unwrap().into_inner();
    let part = Part::bytes(bytes).file_name("recipe.zip");
    fields.iter().fold(Form::new().part("recipe", part), |form, (k, v)| form.text(*k, v.clone()))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_run_is_told_before_it_is() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let dem = std::fs::read(rough_file(dir.path(), 60)).unwrap();
    let fields = |more: &[(&'static str, &str)]| {
        let mut all = vec![("name", "odd".to_owned())];
        all.extend(more.iter().map(|(k, v)| (*k, (*v).to_owned())));
        all
    };
    let answer = async |files: &[(&str, &[u8])], more: &[(&'static str, &str)]| {
        let sent = site.post("/batches/plan").multipart(form(files, &fields(more))).send().await.unwrap();
        (sent.status(), sent.text().await.unwrap())
    };
    let good: [(&str, &[u8]); 2] = [("recipe.toml", RECIPE.as_bytes()), ("rough.tif", &dem)];
    let (status, text) = answer(&good, &[("key_1", "cells"), ("values_1", "10; 20")]).await;
    assert!(status == StatusCode::OK && text.contains("2 runs") && text.contains("0001_cells-10"), "{text}");
    let many = (1..=72).map(|n| n.to_string()).collect::<Vec<_>>().join(";");
    let leaving = RECIPE.replace("rough.tif", "../rough.tif");
    let twice = format!("{RECIPE}[network]\nthreshold = {{ cells = 5 }}\n");
    let newer = RECIPE.replace("version = 1", "version = 9");
    let without: [(&str, &[u8]); 1] = [("recipe.toml", RECIPE.as_bytes())];
    let absolute = RECIPE.replace("rough.tif", "/etc/passwd");
    /// Files in the zip, fields of the form, what is told.
    type Odd<'a> = (Vec<(&'a str, &'a [u8])>, Vec<(&'static str, &'a str)>, &'a str);
    let odd: Vec<Odd<'_>> = vec![
        (good.to_vec(), vec![("key_1", "cells"), ("values_1", "ten")], "ten is no whole number"),
        (good.to_vec(), vec![("values_1", "10")], "say what takes these values"),
        (
            good.to_vec(),
            vec![("key_1", "cells"), ("values_1", "5"), ("key_2", "km2"), ("values_2", "1")],
            "varies twice",
        ),
        (good.to_vec(), vec![("key_1", "own"), ("own_1", "network.treshold"), ("values_1", "5")], "run 0001"),
        (
            good.to_vec(),
            vec![("key_1", "cells"), ("values_1", &many), ("key_2", "fill"), ("values_2", &many)],
            "5000 are the most",
        ),
        (good.to_vec(), vec![("each_point", "1")], "only where a study is run"),
        (without.to_vec(), vec![], "rough.tif is not among the files"),
        (vec![("recipe.toml", leaving.as_bytes()), ("rough.tif", &dem)], vec![], "leaves the folder"),
        (vec![("recipe.toml", absolute.as_bytes()), ("rough.tif", &dem)], vec![], "leaves the folder"),
        (vec![("recipe.toml", twice.as_bytes()), ("rough.tif", &dem)], vec![], "duplicate key"),
        (vec![("recipe.toml", newer.as_bytes()), ("rough.tif", &dem)], vec![], "9 is not known"),
        (vec![("rough.tif", &dem)], vec![], "it holds no .toml"),
        (vec![("a.toml", b""), ("b.toml", b"")], vec![], "several .toml"),
        (vec![("in/recipe.toml", RECIPE.as_bytes())], vec![], "belongs at the top"),
    ];
    for (files, more, told) in odd {
        let (status, text) = answer(&files, &more).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}: {text}");
        assert!(text.contains(told), "{told}: {text}");
    }
    let sent = site.post("/batches/plan").multipart(Form::new().text("name", "x")).send().await.unwrap();
    assert!(sent.text().await.unwrap().contains("choose a study"));
    let broken = Form::new().part("recipe", Part::bytes(b"no zip".to_vec()).file_name("r.zip"));
    let sent = site.post("/batches").multipart(broken).send().await.unwrap();
    assert!(sent.text().await.unwrap().contains("it is no zip"));
    assert!(site.store().batches().await.unwrap().is_empty(), "nothing was begun");
    // A run that fails stops no other, and says why.
    let files: [(&str, &[u8]); 2] = [("recipe.toml", RECIPE.as_bytes()), ("rough.tif", b"no raster")];
    let more = fields(&[("key_1", "cells"), ("values_1", "10; 20")]);
    let sent = site.post("/batches").multipart(form(&files, &more)).send().await.unwrap();
    assert_eq!(sent.status(), StatusCode::NO_CONTENT);
    let batch = site.store().batches().await.unwrap()[0].id;
    let ended = runs(site.store(), batch, all_ended).await;
    assert!(ended.iter().all(|r| r.state == "failed" && r.message.starts_with("terrain.dem")), "{ended:?}");
    let page = site.get(&format!("/batches/{batch}/runs")).await.text().await.unwrap();
    assert!(page.contains("2 failed") && page.contains("terrain.dem"), "{page}");
    assert_eq!(site.get("/batches/999").await.status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_of_a_study_is_begun_watched_and_taken_home() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel valley").await;
    for (y, name) in [("4757500", "mouth"), ("4758700", "upper")] {
        let form = [("x", "502005"), ("y", y), ("name", name)];
        site.send(&format!("/studies/{study}/pour-points"), &form).await;
    }
    let browser = browser().await;
    let driver = &browser.driver;
    let hand = Hand { driver };
    driver.goto(format!("{}/batches", site.base)).await.unwrap();
    until(driver, "window.htmx && document.querySelector('#batch-study')").await;
    hand.picks("#batch-study", "Sorrel valley").await;
    hand.types("#batch-name", "Thresholds").await;
    hand.picks("[name=key_1]", "threshold, cells").await;
    hand.types("[name=values_1]", "200; 400; 800").await;
    hand.clicks("#plan-batch").await;
    until(driver, "document.querySelector('#plan')?.textContent.includes('3 runs')").await;
    // What is wrong is said, and what was typed stays.
    hand.types("[name=values_1]", "200; many").await;
    hand.clicks("#plan-batch").await;
    until(driver, "document.querySelector('#notice')?.textContent.includes('no whole number')").await;
    hand.types("[name=values_1]", "200; 400; 800").await;
    crate::support::browser::accessible(driver, "batches").await;
    hand.clicks("#begin-batch").await;
    until(driver, "document.querySelector('tr[data-run]')").await;
    let begun = site.store().batches().await.unwrap()[0].id;
    let ended = runs(site.store(), begun, all_ended).await;
    assert!(ended.iter().all(|r| r.state == "done"), "{ended:?}");
    until(driver, "document.querySelectorAll('tr.done').length === 3").await;
    until(driver, "document.querySelector('.batch-chart svg')").await;
    // Other runs are held against the one that is pressed.
    hand.clicks("[data-against='3']").await;
    until(driver, "document.querySelector('tr.reference')?.dataset.run === '3'").await;
    let told = value(driver, "document.querySelector('tr[data-run=\"1\"]').textContent").await;
    assert!(told.as_str().unwrap().contains('%'), "{told}");
    // The networks of two runs on one map: each kind is drawn or not, and the map goes where it is led.
    hand.clicks("tr[data-run='1'] .on-map").await;
    let drawn = "(() => { const c = document.querySelector('#networks canvas'); if (!c?.width) return 0; \
        const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0; \
        for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n; })()";
    until(driver, &format!("{drawn} > 500")).await;
    let key = "document.querySelector('.run-key').textContent";
    until(driver, &format!("{key}.includes('only run 3: network.threshold') && {key}.includes('km')")).await;
    crate::support::browser::accessible(driver, "networks").await;
    let before = value(driver, drawn).await.as_u64().unwrap();
    hand.clicks("#networks .ol-zoom-in").await;
    until(driver, &format!("{drawn} !== {before}")).await;
    for kind in ["both", "first", "second"] {
        hand.clicks(&format!("[data-kind={kind}]")).await;
    }
    until(driver, &format!("{drawn} === 0")).await;
    hand.clicks("#turn-round").await;
    until(driver, &format!("{key}.includes('only run 1: network.threshold') && {drawn} > 500")).await;
    hand.clicks(".compare-head a").await;
    until(driver, "document.querySelectorAll('tr.done').length === 3").await;
    let (status, told) = {
        let answer = site.get(&format!("/batches/{begun}/compared?first=1&second=1")).await;
        (answer.status(), answer.text().await.unwrap())
    };
    assert!(
        status == StatusCode::UNPROCESSABLE_ENTITY && told.contains("the same as itself"),
        "{status} {told}"
    );
    hand.picks("#figure", "Headwaters").await;
    until(driver, "document.querySelector('.batch-chart')?.textContent.includes('Headwaters')").await;
    crate::support::browser::accessible(driver, "batch").await;
    hand.clicks("tr[data-run='1'] summary").await;
    until(driver, "document.querySelector('tr[data-run=\"1\"] a[href$=\"ground.tif\"]')?.checkVisibility()")
        .await;
    // What is taken home: the table, and all results.
    let batch = site.store().batches().await.unwrap()[0].id;
    let csv = site.get(&format!("/batches/{batch}/runs.csv")).await.text().await.unwrap();
    let lines: Vec<&str> = csv.lines().collect();
    assert!(lines.len() == 4 && lines[0].starts_with("run,network.threshold,state,seconds,cells,"), "{csv}");
    let bytes = site.get(&format!("/batches/{batch}/package.zip")).await.bytes().await.unwrap();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    let names: Vec<String> = zip.file_names().map(|name| name.unwrap().into_owned()).collect();
    assert!(names.contains(&"0002_cells-400/network.gpkg".to_owned()), "{names:?}");
    // What it wrote is what `bothros run` writes of the study's recipe.
    let out = dir.path().join("taken");
    zip.extract(&out).unwrap();
    let recipe = site.get(&format!("/studies/{study}/recipe.zip")).await.bytes().await.unwrap();
    let by_hand = dir.path().join("by_hand");
    zip::ZipArchive::new(std::io::Cursor::new(recipe)).unwrap().extract(&by_hand).unwrap();
    let own = std::fs::read_to_string(out.join("0002_cells-400/recipe.toml")).unwrap();
    std::fs::write(by_hand.join("own.toml"), own).unwrap();
    let run = std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
        .arg("run")
        .arg(by_hand.join("own.toml"))
        .arg("--out")
        .arg(by_hand.join("out"))
        .output()
        .unwrap();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    for name in ["ground.tif", "streams.tif", "catchments.tif", "measures.csv"] {
        let read = |dir: PathBuf| std::fs::read(dir.join(name)).unwrap();
        assert!(read(out.join("0002_cells-400")) == read(by_hand.join("out")), "{name}");
    }
    // Each pour point alone.
    let form = Form::new().text("name", "points").text("study", study.to_string()).text("each_point", "1");
    let sent = site.post("/batches").multipart(form).send().await.unwrap();
    assert_eq!(sent.status(), StatusCode::NO_CONTENT, "{}", sent.text().await.unwrap());
    let points = site.store().batches().await.unwrap()[0].id;
    let done = runs(site.store(), points, all_ended).await;
    let names: Vec<&str> = done.iter().map(|r| r.name.as_str()).collect();
    assert_eq!(names, ["0001_mouth", "0002_upper"]);
    assert!(done.iter().all(|r| r.summary.as_ref().unwrap()["catchments"].as_array().unwrap().len() == 1));
    // Each DEM of the study: the one at work, and the one that is kept aside.
    let coarse = rough_file(dir.path(), 150);
    let part = Part::bytes(std::fs::read(&coarse).unwrap()).file_name("rough.tif");
    let sent = site.post(&format!("/studies/{study}/candidates")).multipart(Form::new().part("dem", part));
    let sent = sent.send().await.unwrap();
    assert!(sent.status().is_success(), "{}", sent.text().await.unwrap());
    assert_eq!(site.finish(study).await.state, "done");
    let form = Form::new().text("name", "dems").text("study", study.to_string()).text("each_dem", "1");
    let sent = site.post("/batches").multipart(form).send().await.unwrap();
    assert!(
        sent.text().await.unwrap().contains("no flow accumulation yet"),
        "the DEM at work has no network"
    );
    let (status, text) = site.send(&format!("/studies/{study}/route"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    driver.goto(format!("{}/batches?study={study}", site.base)).await.unwrap();
    until(driver, "window.htmx && document.querySelector('#batch-study')?.value !== ''").await;
    hand.types("#batch-name", "DEMs").await;
    hand.clicks("[name=each_dem]").await;
    hand.clicks("#begin-batch").await;
    until(driver, "document.querySelectorAll('tr[data-run]').length === 2").await;
    let dems = site.store().batches().await.unwrap()[0].id;
    let done = runs(site.store(), dems, all_ended).await;
    until(driver, "document.querySelectorAll('tr.done').length === 2").await;
    let cells: Vec<_> = done.iter().map(|r| r.summary.as_ref().unwrap()["cells"].clone()).collect();
    assert_eq!(cells, [150 * 150, 300 * 400]);
    assert_eq!(done[1].name, "0002_valley.tif");
    site.store().delete_batch(dems).await.unwrap();
    // Stopped, taken up again, deleted.
    driver.goto(format!("{}/batches/{points}", site.base)).await.unwrap();
    site.store().stop_batch(points).await.unwrap();
    crate::support::sql(&url, &format!("UPDATE run SET state = 'cancelled' WHERE batch_id = {points}"));
    driver.refresh().await.unwrap();
    until(driver, "document.querySelector('#take-up')").await;
    hand.clicks("#take-up").await;
    runs(site.store(), points, |all| all.iter().all(|r| r.state == "done")).await;
    until(driver, "document.querySelector('.batch-bar')?.dataset.active === 'false' && document.querySelectorAll('tr.done').length === 2").await;
    driver.execute("window.confirm = () => true", Vec::new()).await.unwrap();
    hand.clicks("#delete-batch").await;
    until(driver, "location.pathname === '/batches'").await;
    assert_eq!(site.store().batches().await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn scripts_run_recipes_by_the_standard() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let dem = rough_file(dir.path(), 200);
    let (out, own) = (dir.path().join("out"), dir.path().join("own"));
    std::fs::create_dir(&out).unwrap();
    let token = site.store().service_token(false).await.unwrap();
    let arguments = [site.base.as_str(), &token, dem.to_str().unwrap(), out.to_str().unwrap()];
    let told = tokio::task::block_in_place(|| crate::support::python("service.py", &arguments));
    assert!(told.ends_with("agree\n"), "{told}");
    // What came over the wire is what `bothros run` writes.
    let recipe = RECIPE.replace("500", "400");
    std::fs::write(dir.path().join("recipe.toml"), recipe).unwrap();
    let run = std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
        .arg("run")
        .arg(dir.path().join("recipe.toml"))
        .arg("--out")
        .arg(&own)
        .output()
        .unwrap();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    for name in ["ground.tif", "conditioned.tif", "flow_accumulation.tif", "streams.tif"] {
        assert!(std::fs::read(out.join(name)).unwrap() == std::fs::read(own.join(name)).unwrap(), "{name}");
    }
    // The page tells the token, and makes another: the one before is no longer good.
    let page = site.get("/batches").await.text().await.unwrap();
    assert!(page.contains(&token) && page.contains("by the service"), "{page}");
    assert_eq!(site.send("/service-token", &[]).await.0, StatusCode::NO_CONTENT);
    let with = async |token: &str| {
        site.client
            .get(format!("{}/service/jobs", site.base))
            .bearer_auth(token)
            .send()
            .await
            .unwrap()
            .status()
    };
    assert_eq!(with(&token).await, StatusCode::UNAUTHORIZED);
    let other = site.store().service_token(false).await.unwrap();
    assert_eq!(with(&other).await, StatusCode::OK);
}

/// Writes a zip of a recipe and a DEM.
fn zipped(path: &Path, recipe: &str, dem: &[u8]) {
    let mut zip = zip::ZipWriter::new(std::fs::File::create(path).unwrap());
    for (name, bytes) in [("recipe.toml", recipe.as_bytes()), ("rough.tif", dem)] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut zip, bytes).unwrap();
    }
    zip.finish().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn batches_are_stopped_taken_up_and_tried_again_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel valley").await;
    let browser = browser().await;
    let driver = &browser.driver;
    let hand = Hand { driver };
    let yes = async || drop(driver.execute("window.confirm = () => true", Vec::new()).await.unwrap());
    let at =
        async |path: &str| until(driver, &format!("location.pathname === '{path}' && window.htmx")).await;
    // The ways there, and what the page tells of itself.
    driver.goto(&site.base).await.unwrap();
    hand.clicks("#to-batches").await;
    at("/batches").await;
    hand.clicks("[hx-get='/help/batches']").await;
    until(driver, "document.querySelector('#help')?.textContent.includes('Every combination')").await;
    hand.clicks("[hx-get='/help/service']").await;
    until(driver, "document.querySelector('#help')?.textContent.includes('OpenAPI')").await;
    hand.clicks(".service summary").await;
    let token = value(driver, "document.querySelector('#service-token').textContent").await;
    yes().await;
    hand.clicks("#token-anew").await;
    until(
        driver,
        &format!("![{token}, undefined].includes(document.querySelector('#service-token')?.textContent)"),
    )
    .await;
    hand.clicks(".masthead a[href='/']").await;
    at("/").await;
    hand.opens(&site, study, "handover", "recipe").await;
    hand.clicks("#save-recipe-files").await;
    hand.clicks("#to-batch").await;
    at("/batches").await;
    // A recipe with its files takes the place of the study; a key of one's own varies. It is large, and stopped in the middle.
    let large = dir.path().join("large.zip");
    zipped(&large, RECIPE, &std::fs::read(rough_file(dir.path(), 2400)).unwrap());
    hand.types("#batch-name", "Large").await;
    hand.gives("#batch-recipe", &[&large]).await;
    until(driver, "document.querySelector('#batch-study').value === ''").await;
    for row in 1..=3 {
        hand.picks(&format!("[name=key_{row}]"), "another key").await;
    }
    hand.types("[name=own_1]", "routing.flat_slope").await;
    hand.types("[name=values_1]", "0.0; 0.0001").await;
    hand.types("[name=own_2]", "terrain.mend_spikes").await;
    hand.types("[name=values_2]", "true").await;
    hand.types("[name=own_3]", "conditioning.max_fill_depth_m").await;
    hand.types("[name=values_3]", "50.0; 60.0").await;
    hand.clicks("#begin-batch").await;
    until(driver, "document.querySelector('tr.running')").await;
    hand.clicks("#stop-batch").await;
    until(driver, "document.querySelector('.batch-bar')?.dataset.active === 'false'").await;
    let large = site.store().batches().await.unwrap()[0].id;
    let stopped = runs(site.store(), large, all_ended).await;
    assert_eq!(stopped.len(), 4);
    assert!(stopped.iter().filter(|r| r.state == "cancelled").count() >= 3, "{stopped:?}");
    hand.clicks("#take-up").await;
    until(driver, "document.querySelector('tr.running')").await;
    hand.clicks("#stop-batch").await;
    runs(site.store(), large, all_ended).await;
    until(driver, "document.querySelector('.batch-bar')?.dataset.active === 'false'").await;
    yes().await;
    hand.clicks("#delete-batch").await;
    at("/batches").await;
    // One that fails is tried again; DEMs in the place of the recipe's, of which one is none.
    let small = dir.path().join("small.zip");
    let good = rough_file(dir.path(), 60);
    zipped(&small, RECIPE, &std::fs::read(&good).unwrap());
    let bad = dir.path().join("bad.tif");
    std::fs::write(&bad, b"no raster").unwrap();
    hand.types("#batch-name", "Small").await;
    hand.gives("#batch-recipe", &[&small]).await;
    hand.gives("#batch-dems", &[&good, &bad]).await;
    hand.clicks("[name=each_point]").await;
    hand.clicks("#plan-batch").await;
    until(driver, "document.querySelector('#notice')?.textContent.includes('only where a study is run')")
        .await;
    hand.clicks("#notice button").await;
    hand.clicks("[name=each_point]").await;
    hand.clicks("#begin-batch").await;
    until(driver, "document.querySelectorAll('tr[data-run]').length === 2").await;
    let batch = site.store().batches().await.unwrap()[0].id;
    runs(site.store(), batch, all_ended).await;
    until(driver, "document.querySelector('tr.done') && document.querySelector('tr.failed')").await;
    hand.clicks("#try-again").await;
    runs(site.store(), batch, |all| all_ended(all) && all.iter().any(|r| r.state == "failed")).await;
    until(driver, "document.querySelector('#try-again')").await;
    // What is taken home.
    for link in ["#save-csv", "#save-package"] {
        hand.clicks(link).await;
    }
    hand.clicks("tr.done summary").await;
    hand.clicks("tr.done a[href$='recipe.toml']").await;
    hand.clicks("tr.done a[href$='summary.json']").await;
    hand.clicks(".masthead a[href='/batches']").await;
    at("/batches").await;
    hand.clicks(&format!(".batch-rows a[href='/batches/{batch}']")).await;
    at(&format!("/batches/{batch}")).await;
    hand.clicks(".masthead a[href='/']").await;
    at("/").await;
}
