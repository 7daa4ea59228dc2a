//! What connects to a study instead of downloading it: a GIS, another Bothros.

use bothros::elevations::Elevations;
use bothros_core::Frame;
use bothros_store::RasterRole;
use reqwest::StatusCode;
use serde_json::json;

use crate::archive::{post, square};
use crate::handover::modelled;
use crate::support::browser::{browser, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, database, python, valley_file, written};

#[tokio::test(flavor = "multi_thread")]
async fn a_gis_reads_layers_and_windows_of_rasters() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "connected").await;
    // 25 million cells, in whole half metres, so that the file is no larger than what is accepted.
    let mut rough = bothros_demo::fractal_terrain(5000, 9);
    rough.values_mut().iter_mut().for_each(|z| *z = (*z * 2.0).round() / 2.0);
    let frame = Frame { rows: 5000, cols: 5000, ..FRAME };
    let large = site.study(&written(dir.path(), "large.tif", &rough, &frame), "large").await;
    assert_eq!(site.finish(large).await.state, "done");
    // Beside the server, which answers it.
    let base = site.base.clone();
    let run = move || python("api.py", &[&base, &study.to_string(), &large.to_string()]);
    let told = tokio::task::spawn_blocking(run).await.unwrap();
    assert!(told.ends_with("agree\n"), "{told}");
    // A study without a network has no collections, and says so.
    let none = site.json(&format!("/studies/{large}/ogc/collections")).await;
    assert_eq!(none["collections"], json!([]));
    let page = site.get(&format!("/studies/{large}/ogc/collections?f=html")).await.text().await.unwrap();
    assert!(page.contains("no network yet"), "{page}");
    let answer = site.get(&format!("/studies/{large}/rasters/ground.tif")).await;
    assert_eq!(answer.status(), StatusCode::NOT_FOUND);
    // Layers alone, in each format.
    for (file, begins) in
        [("reaches.gpkg", &b"SQLite format 3"[..]), ("subbasins.geojson", b"{"), ("flowpaths.zip", b"PK")]
    {
        let answer = site.get(&format!("/studies/{study}/layer/{file}")).await;
        assert_eq!(answer.status(), StatusCode::OK, "{file}");
        let name = answer.headers()["content-disposition"].to_str().unwrap().to_owned();
        assert!(name.contains(&format!("connected_{file}")), "{name}");
        assert!(answer.bytes().await.unwrap().starts_with(begins), "{file}");
    }
    for file in ["reaches.dwg", "rivers.gpkg", "reaches"] {
        assert_eq!(site.get(&format!("/studies/{study}/layer/{file}")).await.status(), StatusCode::NOT_FOUND);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn another_bothros_is_an_elevation_archive() {
    let first = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let there = first.study(&valley_file(dir.path()), "There").await;
    assert_eq!(first.finish(there).await.state, "done");
    let archive = format!("{}/stac", first.base);
    let second = Site::with(&database().await, Elevations::At(archive)).await;
    let told = second.json("/archive").await;
    let collection = format!("study-{there}");
    assert_eq!(told["collections"][0]["id"], collection.as_str(), "{told}");
    let wish = json!({ "collection": collection, "boundary": square(150.0, 200.0, 600.0), "margin_m": 100, "name": "Here" });
    let (status, text) = post(&second, "/archive/begin", &wish).await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let here = second.store().studies().await.unwrap()[0].id;
    let job = second.finish(here).await;
    assert_eq!(job.state, "done", "{}", job.message);
    // Cells are those of the other study.
    let grid = async |site: &Site, study: i64| {
        let meta = site.store().raster(study, RasterRole::Dem).await.unwrap().unwrap();
        let values = site.store().read_raster::<f32>(&meta).await.unwrap();
        (meta, values)
    };
    let ((from, all), (to, part)) = (grid(&first, there).await, grid(&second, here).await);
    let row0 = ((from.top - to.top) / from.cell_x).round() as usize;
    let col0 = ((to.left - from.left) / from.cell_x).round() as usize;
    let mut seen = 0;
    for (index, value) in part.values().iter().enumerate().filter(|(_, v)| !v.is_nan()) {
        let cell = part.cell(index);
        assert_eq!(*value, all.values()[(cell.row + row0) * from.cols + cell.col + col0]);
        seen += 1;
    }
    assert!(seen > 3000, "{seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn where_a_gis_connects_is_found_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "pages").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "handover", "connect").await;
    hand.clicks("#stac-address").await;
    hand.clicks("[data-raster-file=flow_direction]").await;
    hand.clicks("[data-open-table=subbasin_parameters]").await;
    hand.clicks("#tab-flowpaths").await;
    until(driver, "document.querySelector('[data-layer-as=geojson]')").await;
    hand.clicks(".sheet-columns:has([data-layer-as]) summary").await;
    for format in ["gpkg", "geojson", "zip"] {
        hand.clicks(&format!("[data-layer-as={format}]")).await;
    }
    let address = format!("{}/studies/{study}/ogc?f=html", site.base);
    hand.clicks("#ogc-address").await;
    driver.goto(&address).await.unwrap();
    // From page to page as a person would.
    hand.clicks("ul a[href*='collections']").await;
    until(driver, "document.querySelectorAll('ul li').length === 8").await;
    hand.clicks("ul a[href*='subbasins']").await;
    until(driver, "document.querySelector('td').textContent === 'subbasin_id'").await;
    hand.clicks("ul a[href*='items']").await;
    until(driver, "document.querySelectorAll('tbody tr').length > 3").await;
    let first = value(driver, "document.querySelector('tbody td:nth-child(2)').textContent").await;
    hand.clicks("tbody a").await;
    until(driver, &format!("document.querySelector('td:nth-child(2)').textContent === {first}")).await;
    crate::support::browser::accessible(driver, "a feature").await;
}
