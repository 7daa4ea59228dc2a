//! Beginning from a boundary: the archive is asked as any STAC API, cells arrive as they lie in its files.

use std::path::Path;
use std::sync::Arc;

use crate::support::browser::{accessible, browser, click, until, value};
use crate::support::{FRAME, Site, database, python, utm, valley};
use bothros::elevations::Elevations;
use bothros_archive::{Archive, StandInCollection, StandInItem};
use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::{Transform, write_cog};
use bothros_store::RasterRole;
use bothros_workflow::Facts;
use reqwest::StatusCode;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// The valley in sheets of 150 x 200 cells, as an archive would keep it.
fn sheets(dir: &Path) -> Vec<StandInItem> {
    let to_wgs84 = Transform::to_wgs84(&utm()).unwrap();
    let mut items = Vec::new();
    for (row, col) in [(0, 0), (0, 200), (150, 0), (150, 200)] {
        let frame: Frame = FRAME.window(row, col, 150, 200);
        let values: Grid<f32> = valley().window(row, col, 150, 200);
        let id = format!("r{row}c{col}");
        let path = dir.join(format!("{id}.tif"));
        write_cog(&path, &values, &frame, &utm(), f32::NAN, Coarser::Mean, "elevation", "m").unwrap();
        let [west, south, east, north] = frame.extent();
        let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
        for (x, y) in [(west, south), (west, north), (east, south), (east, north)] {
            let (lon, lat) = to_wgs84.point(x, y).unwrap();
            extent = [extent[0].min(lon), extent[1].min(lat), extent[2].max(lon), extent[3].max(lat)];
        }
        items.push(StandInItem {
            id,
            date: "2024-03-11T00:00:00Z".into(),
            path,
            extent,
            shape: [150, 200],
            geo_transform: [frame.left, 10.0, 0.0, frame.top, 0.0, -10.0],
            epsg: 32628,
        });
    }
    items
}

pub(super) async fn site(dir: &Path) -> (Site, String) {
    let collection = StandInCollection {
        id: "valley".into(),
        title: "Valley, 10 m".into(),
        description: "A valley for tests.".into(),
        resolution_m: 10.0,
        items: sheets(dir),
    };
    let elevations =
        Elevations::Simulated { prepare: Arc::new(move || Ok(vec![collection.clone()])), port: None };
    let (address, _) = elevations.start(bothros_web::Health::default()).await.unwrap();
    (Site::with(&database().await, Elevations::At(address.clone())).await, address)
}

/// A square of the valley in longitude and latitude, `side` metres wide, around cell (row, col).
pub(super) fn square(row: f64, col: f64, side: f64) -> Value {
    let to_wgs84 = Transform::to_wgs84(&utm()).unwrap();
    let (x, y) = (FRAME.left + col * 10.0, FRAME.top - row * 10.0);
    let h = side / 2.0;
    let ring: Vec<[f64; 2]> = [[-h, -h], [h, -h], [h, h], [-h, h], [-h, -h]]
        .iter()
        .map(|[dx, dy]| to_wgs84.point(x + dx, y + dy).map(|(lon, lat)| [lon, lat]).unwrap())
        .collect();
    json!({ "name": "square", "polygons": [[ring]] })
}

pub(super) async fn post(site: &Site, path: &str, body: &Value) -> (StatusCode, String) {
    let answer = site.post(path).json(body).send().await.unwrap();
    (answer.status(), answer.text().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_begins_from_a_boundary() {
    let dir = tempfile::tempdir().unwrap();
    let (site, _) = site(dir.path()).await;
    let told = site.json("/archive").await;
    assert_eq!(told["collections"][0]["id"], "valley");

    // The square lies on all four sheets; its margin is 200 m.
    let wish = json!({ "collection": "valley", "boundary": square(150.0, 200.0, 600.0), "margin_m": 200, "name": "From afar" });
    let (status, plan) = post(&site, "/archive/plan", &wish).await;
    assert_eq!(status, StatusCode::OK, "{plan}");
    assert!(plan.contains("4 files of Valley, 10 m"), "{plan}");
    let (status, text) = post(&site, "/archive/begin", &wish).await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);

    // Each cell is that of the valley at its place: nothing was moved or interpolated.
    let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    let terrain = facts.terrain.expect("the DEM is prepared");
    let meta = site.store().raster(study, RasterRole::Dem).await.unwrap().unwrap();
    let values = site.store().read_raster::<f32>(&meta).await.unwrap();
    let frame = terrain.frame;
    let (row0, col0) = (
        ((FRAME.top - frame.top) / 10.0).round() as usize,
        ((frame.left - FRAME.left) / 10.0).round() as usize,
    );
    let all = valley();
    let mut seen = 0;
    for (index, &value) in values.values().iter().enumerate() {
        let cell = values.cell(index);
        if !value.is_nan() {
            seen += 1;
            assert_eq!(value, all.values()[(cell.row + row0) * FRAME.cols + cell.col + col0]);
        }
    }
    // A square of 600 m and a margin of 200 m with round corners: 600² + 4 x 600 x 200 + pi x 200².
    let expected = (360_000.0 + 480_000.0 + std::f64::consts::PI * 40_000.0) / 100.0;
    assert!((seen as f64 / expected - 1.0).abs() < 0.02, "{seen} cells, {expected} expected");
    // It is told where they come from, and the boundary stays.
    let source = facts.source.unwrap();
    assert!(source.provenance.source.contains("r0c0.tif"), "{}", source.provenance.source);
    assert!(source.info.vertical_unit(1).is_some(), "the unit of elevations travels along");
    assert_eq!((source.provenance.date.as_str(), source.more.len()), ("2024-03-11", 3));
    let layers = site.store().layers(study).await.unwrap();
    assert_eq!(layers[0].name, "square");

    // Another DEM of the same area from the archive: the first is parked.
    let (status, text) =
        site.send(&format!("/studies/{study}/fetch"), &[("collection", "valley"), ("margin_m", "300")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(site.store().candidates(study).await.unwrap().len(), 1);
    let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    assert!(facts.terrain.unwrap().frame.cells() > frame.cells());
}

async fn refused(site: &Site, wish: Value) -> String {
    let (status, text) = post(site, "/archive/plan", &wish).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{text}");
    text
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_fetched_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let (site, address) = site(dir.path()).await;
    let here = square(150.0, 200.0, 600.0);
    let text = refused(&site, json!({ "collection": "none", "boundary": here, "margin_m": 0 })).await;
    assert!(text.contains("no such set"), "{text}");
    let text = refused(&site, json!({ "collection": "valley", "boundary": here, "margin_m": -5 })).await;
    assert!(text.contains("margin"), "{text}");
    let far =
        json!({ "name": "far", "polygons": [[[[10.0, 50.0], [10.1, 50.0], [10.1, 50.1], [10.0, 50.0]]]] });
    let text = refused(&site, json!({ "collection": "valley", "boundary": far, "margin_m": 0 })).await;
    assert!(text.contains("no elevations there"), "{text}");
    let flat = json!({ "name": "line", "polygons": [[[[-17.0, 43.0], [-17.0, 43.1], [-17.0, 43.0]]]] });
    let text = refused(&site, json!({ "collection": "valley", "boundary": flat, "margin_m": 0 })).await;
    assert!(text.contains("no area"), "{text}");

    // The file goes between the search and the fetching: the study says so and can try again.
    let wish = json!({ "collection": "valley", "boundary": here, "margin_m": 0, "name": "Twice" });
    let kept: Vec<(std::path::PathBuf, Vec<u8>)> = std::fs::read_dir(dir.path())
        .unwrap()
        .map(|e| e.unwrap().path())
        .map(|p| (p.clone(), std::fs::read(&p).unwrap()))
        .collect();
    for (path, _) in &kept {
        std::fs::remove_file(path).unwrap();
    }
    let (status, text) = post(&site, "/archive/begin", &wish).await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    let job = site.finish(study).await;
    assert_eq!(job.state, "failed");
    assert!(job.message.contains("cannot be fetched"), "{}", job.message);
    let desk = site.get(&format!("/studies/{study}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("Fetch again"), "{desk}");
    for (path, content) in &kept {
        std::fs::write(path, content).unwrap();
    }
    let (status, text) = site.send(&format!("/studies/{study}/fetch-again"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);

    // An archive that does not answer.
    let nobody = Archive::new("http://127.0.0.1:1/").unwrap();
    let error = nobody.collections().await.unwrap_err().to_string();
    assert!(error.contains("127.0.0.1:1 does not answer"), "{error}");
    assert!(Archive::new("file:///etc/passwd").is_err());
    // Pages of results are followed to their end.
    let all = Archive::new(&address).unwrap().search("valley", [-180.0, -90.0, 180.0, 90.0]).await.unwrap();
    assert_eq!(all.len(), 4);
    assert!(all.iter().all(|o| o.crs.as_deref() == Some("EPSG:32628") && o.shape == Some([150, 200])));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_simulated_archive_speaks_stac() {
    let dir = tempfile::tempdir().unwrap();
    let (site, address) = site(dir.path()).await;
    let get = |path: &str| {
        let request = site.client.get(format!("{address}{path}"));
        async move { request.send().await.unwrap().text().await.unwrap() }
    };
    // Held against the schemas of STAC 1.0.0 that ship with pystac.
    let files = [
        ("catalog", get("").await),
        ("collections", get("collections").await),
        ("search", get("search?bbox=-180,-90,180,90&limit=3").await),
    ];
    let mut arguments = Vec::new();
    for (name, text) in &files {
        let path = dir.path().join(format!("{name}.json"));
        std::fs::write(&path, text).unwrap();
        arguments.push(path.to_str().unwrap().to_owned());
    }
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let told = python("stac.py", &arguments);
    assert_eq!(told.trim(), "catalog 1, collections 1, items 3, all valid");
    // Parts of a file are given on demand, and nothing else of the disk.
    let part = site.client.get(format!("{address}files/valley/r0c0.tif")).header("Range", "bytes=0-7");
    let part = part.send().await.unwrap();
    assert_eq!(part.status(), StatusCode::PARTIAL_CONTENT);
    assert_eq!(&part.bytes().await.unwrap()[..2], b"II");
    let other =
        site.client.get(format!("{address}files/valley/..%2F..%2Fetc%2Fpasswd")).send().await.unwrap();
    assert_eq!(other.status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_box_is_drawn_and_fetched_in_the_browser() {
    let dir = tempfile::tempdir().unwrap();
    let (site, _) = site(dir.path()).await;
    let page = browser().await;
    let driver = &page.driver;
    driver.goto(format!("{}/begin", site.base)).await.unwrap();
    until(driver, "document.querySelectorAll('.collection').length === 1").await;
    accessible(driver, "begin from a boundary").await;
    click(driver, "#draw-box").await;
    let map = driver.find(By::Id("map")).await.unwrap();
    for (x, y) in [(-60, -50), (70, 60)] {
        driver.action_chain().move_to_element_with_offset(&map, x, y).click().perform().await.unwrap();
    }
    until(driver, "document.getElementById('told').textContent.includes('4 files of Valley')").await;
    let margin = driver.find(By::Id("margin")).await.unwrap();
    margin.clear().await.unwrap();
    margin.send_keys("50").await.unwrap();
    driver.find(By::Id("study-name")).await.unwrap().send_keys("Drawn").await.unwrap();
    until(driver, "!document.getElementById('go').disabled").await;
    click(driver, "#go").await;
    until(driver, "document.querySelector('#desk')?.textContent.includes('Go on to Conditioning')").await;
    assert!(value(driver, "location.href").await.as_str().unwrap().contains("stage=terrain"));
    // Its files and the boundary can be seen and are named.
    until(driver, "document.querySelector('[data-section=files] h3').textContent === 'Files: 4'").await;
    until(driver, "document.querySelector('#layers h3').textContent === 'Input layers: 1'").await;
}
