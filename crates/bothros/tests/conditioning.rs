//! The Conditioning stage: the review of barriers, layers, lines drawn by hand, choices; over the wire
//! and in the browser.

mod support;

use std::path::{Path, PathBuf};

use bothros_core::Grid;
use bothros_formats::{RasterKind, write_cog};
use bothros_store::LayerRole;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
use support::browser::{accessible, browser, click, press, until, value};
use support::{FRAME, Site, utm};
use thirtyfour::prelude::*;

/// A valley that falls to the south, with a railway across it in rows 150 to 152 and a pit that is
/// only noise.
fn dammed() -> Grid<f32> {
    Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let side = (c.col as f32 - 200.0).abs();
        let ground = 600.0 - c.row as f32 * 0.5 + side * 0.4;
        match (c.row, c.col) {
            (150..=152, _) => ground.max(529.0),
            (60, 120) => ground - 0.2,
            _ => ground,
        }
    })
}

fn dammed_file(dir: &Path) -> PathBuf {
    let path = dir.join("dammed.tif");
    write_cog(&path, &dammed(), &FRAME, &utm(), f32::NAN, RasterKind::Mean, "elevation", "m").unwrap();
    path
}

async fn job(site: &Site, study: i64, path: &str) -> String {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    job.message
}

/// Sends files as the form of layers does: status, and what was said.
async fn add_layer(site: &Site, study: i64, role: &str, files: &[(&str, Vec<u8>)]) -> (StatusCode, String) {
    let mut form = Form::new().text("role", role.to_owned()).text("source", "survey of 2024");
    for (name, bytes) in files {
        form = form.part("file", Part::bytes(bytes.clone()).file_name((*name).to_owned()));
    }
    let answer = site.post(&format!("/studies/{study}/layers")).multipart(form).send().await.unwrap();
    let told = answer.headers().get("X-Told").map(|t| t.to_str().unwrap().replace("%20", " "));
    (answer.status(), told.unwrap_or(answer.text().await.unwrap()))
}

/// A GeoJSON of lines in WGS 84 whose places are given in the study's CRS.
fn geojson(lines: &[&[[f64; 2]]]) -> Vec<u8> {
    let to = bothros_formats::Transform::to_wgs84(&utm()).unwrap();
    let features: Vec<_> = lines
        .iter()
        .map(|line| {
            let line: Vec<_> =
                line.iter().map(|p| to.point(p[0], p[1]).unwrap()).map(|(x, y)| [x, y]).collect();
            serde_json::json!({ "type": "Feature", "properties": { "name": "Sorrel" },
                "geometry": { "type": "LineString", "coordinates": line } })
        })
        .collect();
    serde_json::to_vec(&serde_json::json!({ "type": "FeatureCollection", "features": features })).unwrap()
}

const STREAM: [[f64; 2]; 2] = [[502_005.0, 4_759_900.0], [502_005.0, 4_757_100.0]];

#[tokio::test(flavor = "multi_thread")]
async fn a_barrier_is_found_decided_and_breached() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("streams.geojson", geojson(&[&STREAM]))]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    assert!(told.contains("1 of mapped streams, converted from"), "{told}");
    let said = job(&site, study, "review").await;
    assert!(said.contains("proposed 1 crossing"), "{said}");
    let barriers = site.json(&format!("/studies/{study}/barriers")).await;
    let id = barriers[0]["id"].as_i64().unwrap();
    assert!(barriers[0]["decision"].is_null() && barriers[0]["score"].as_f64().unwrap() > 0.6);
    let card = site.get(&format!("/studies/{study}/barriers/{id}")).await.text().await.unwrap();
    assert!(card.contains("a mapped stream passes") && card.contains("class=\"profile\""), "{card}");

    // Filled first: a lake stands behind the railway.
    job(&site, study, "route").await;
    let filled = site.store().study(study).await.unwrap().routing.unwrap();
    assert!(filled["sinks"]["volume_m3"].as_f64().unwrap() > 5_000.0);
    // The threshold that was chosen outlives another run.
    let (status, text) = site.send(&format!("/studies/{study}/threshold"), &[("cells", "777")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    // Breached: the valley drains, and only the noise is filled.
    let (status, text) =
        site.send(&format!("/studies/{study}/barriers/{id}/decide"), &[("decision", "breach")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let desk = site.get(&format!("/studies/{study}/desk/conditioning")).await.text().await.unwrap();
    assert!(desk.contains("Choices have changed") && desk.contains("1 to breach"), "out of date");
    let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
    assert_eq!(rail.matches("out of date").count(), 2, "Conditioning and Network: {rail}");
    job(&site, study, "route").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    assert!(routing["sinks"]["volume_m3"].as_f64().unwrap() < 500.0, "{}", routing["sinks"]);
    assert!(routing["conditioned"]["ground"]["cut_m3"].as_f64().unwrap() > 1000.0);
    let desk = site.get(&format!("/studies/{study}/desk/conditioning")).await.text().await.unwrap();
    assert!(!desk.contains("Choices have changed"));
    let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
    assert!(!rail.contains("choices have changed") && rail.contains("7.77 ha"), "{rail}");
    // A new search keeps what was decided, and undo takes it back.
    job(&site, study, "review").await;
    let barriers = site.json(&format!("/studies/{study}/barriers")).await;
    assert_eq!((barriers[0]["id"].as_i64(), barriers[0]["decision"].as_str()), (Some(id), Some("breach")));
    assert_eq!(site.send(&format!("/studies/{study}/undo"), &[]).await.0, StatusCode::NO_CONTENT);
    assert!(site.json(&format!("/studies/{study}/barriers")).await[0]["decision"].is_null());
    // Kept as a closed basin, it stays open.
    site.send(&format!("/studies/{study}/barriers/{id}/decide"), &[("decision", "keep")]).await;
    job(&site, study, "route").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    assert_eq!(routing["conditioned"]["open"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_layers_and_lines_are_refused_in_words() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    let table = b"x,y,name\n502005,4758500,a\n".to_vec();
    let far: [[f64; 2]; 2] = [[900_000.0, 4_000_000.0], [900_100.0, 4_000_000.0]];
    let still: [[f64; 2]; 2] = [STREAM[0], STREAM[0]];
    for (role, files, expected) in [
        ("mapped_streams", vec![("a.exe", vec![1])], "is no layer that can be read"),
        ("mapped_streams", vec![("a.shp", vec![1])], "came without its .shx"),
        ("mapped_streams", vec![("a.dbf", vec![1])], ".shp, is missing"),
        ("mapped_streams", vec![("a.gpkg", b"no".to_vec())], "a.gpkg"),
        ("mapped_streams", vec![("far.geojson", geojson(&[&far]))], "lies outside the DEM"),
        ("mapped_streams", vec![("still.geojson", geojson(&[&still]))], "has no length or area"),
        ("lakes", vec![("streams.geojson", geojson(&[&STREAM]))], "polygons"),
        ("mapped_streams", vec![("points.csv", table.clone())], "lines"),
        ("rivers", vec![("points.csv", table.clone())], "say what the layer is"),
        ("mapped_streams", vec![], "choose a file"),
    ] {
        let (status, told) = add_layer(&site, study, role, &files).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains(expected) && !told.contains("/tmp"), "{expected}: {told}");
    }
    assert!(site.store().layers(study).await.unwrap().is_empty(), "nothing half-kept");
    let (status, told) = add_layer(&site, study, "culverts", &[("points.csv", table)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    // What is partly right is kept, and what was left out is said.
    let mixed = geojson(&[&STREAM, &far, &still]);
    let (_, told) = add_layer(&site, study, "mapped_streams", &[("mixed.geojson", mixed)]).await;
    assert!(told.contains("1 without a usable shape left out; 1 outside the DEM left out"), "{told}");

    let uphill = "[[502005,4757200],[502005,4759800]]";
    let line = "[[502005,4758550],[502005,4758440]]";
    for (role, line, expected) in [
        ("breach_lines", uphill, "runs uphill: it begins at"),
        ("breach_lines", "[[1,1],[502005,4758500]]", "one end lies outside"),
        ("walls", "[[502005,4758500],[502005,4758500]]", "two different points"),
        ("walls", "no line", "cannot be read"),
        ("lakes", line, "three corners"),
    ] {
        let (status, told) =
            site.send(&format!("/studies/{study}/draw"), &[("role", role), ("line", line)]).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains(expected), "{expected}: {told}");
    }
    let (status, _) =
        site.send(&format!("/studies/{study}/draw"), &[("role", "breach_lines"), ("line", line)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(site.store().features_of(study, LayerRole::BreachLines).await.unwrap().len(), 1);
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert!(site.store().features_of(study, LayerRole::BreachLines).await.unwrap().is_empty(), "undone");
    // A wall that closes the whole valley is obeyed: it holds everything, and that is filled.
    let wall = "[[500005,4758000],[503995,4758000]]";
    site.send(&format!("/studies/{study}/draw"), &[("role", "walls"), ("line", wall)]).await;
    job(&site, study, "route").await;

    let choices = |depth: &'static str, burn: &'static str| {
        [
            ("sinks", "fill"),
            ("max_fill_depth_m", depth),
            ("breach_length_m", ""),
            ("breach_depth_m", ""),
            ("burn", burn),
            ("burn_depth_m", "5"),
            ("burn_buffer_m", "30"),
            ("burn_buffer_depth_m", "2"),
        ]
    };
    for (depth, burn, expected) in [
        ("deep", "", "must be a number"),
        ("-1", "", "must not be below 0"),
        ("", "fire", "no way of burning"),
    ] {
        let (status, told) =
            site.send(&format!("/studies/{study}/conditioning"), &choices(depth, burn)).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains(expected), "{expected}: {told}");
    }
    let (status, told) = site.send(&format!("/studies/{study}/conditioning"), &choices("", "carve")).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    job(&site, study, "route").await;
    let steps = site.store().study(study).await.unwrap().routing.unwrap()["conditioned"]["steps"].clone();
    let kinds: Vec<_> =
        steps.as_array().unwrap().iter().map(|s| s["kind"].as_str().unwrap().to_owned()).collect();
    assert_eq!(kinds, ["burn", "walls", "fill"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_review_is_walked_by_keys() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=conditioning", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes' && document.getElementById('run-review')").await;
    accessible(driver, "before the review").await;
    click(driver, "#run-review").await;
    until(driver, "document.getElementById('map').dataset.barriers === '1'").await;
    until(driver, "document.querySelector('[data-barrier-row]')").await;
    press(driver, "n").await;
    until(driver, "document.querySelector('.barrier-card .profile .cut')").await;
    accessible(driver, "the review").await;
    press(driver, "y").await;
    until(driver, "document.querySelector('#barriers').textContent.includes('breach')").await;
    // Another line is drawn by hand, from upstream to downstream.
    press(driver, "r").await;
    until(driver, "!document.getElementById('mode').hidden").await;
    let map = driver.find(By::Id("map")).await.unwrap();
    let size = value(driver, "bothrosMap.map.getSize()").await;
    for (x, y) in [(502_015.0, 4_758_560.0), (502_015.0, 4_758_420.0)] {
        let at = value(driver, &format!("bothrosMap.map.getPixelFromCoordinate([{x}, {y}])")).await;
        let offset = |i: usize| (at[i].as_f64().unwrap() - size[i].as_f64().unwrap() / 2.0).round() as i64;
        driver
            .action_chain()
            .move_to_element_with_offset(&map, offset(0), offset(1))
            .click()
            .perform()
            .await
            .unwrap();
    }
    press(driver, Key::Enter).await;
    until(driver, "document.querySelector('.barrier-card')?.textContent.includes('drawn by hand')").await;
    press(driver, "u").await;
    until(driver, "document.querySelector('.histogram') && bothrosMap.layers.change").await;
    accessible(driver, "cut and fill").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    assert!(routing["conditioned"]["ground"]["cut_m3"].as_f64().unwrap() > 500.0);
    press(driver, Key::Control + "z").await;
    until(driver, "document.querySelector('#desk').textContent.includes('Choices have changed')").await;
}
