//! Pictures behind the map: taken up with their place, placed by points, laid onto the ground, undone.

use std::path::Path;

use crate::support::browser::{accessible, browser, click, until, value};
use crate::support::{FRAME, Site, python, utm, valley_file};
use bothros_core::TiePoint;
use bothros_formats::write_picture;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
use serde_json::{Value, json};
use thirtyfour::prelude::*;

async fn add(site: &Site, study: i64, files: &[&Path]) -> (StatusCode, String) {
    let mut form = Form::new().text("source", "a survey");
    for path in files {
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        form = form.part("picture", Part::bytes(std::fs::read(path).unwrap()).file_name(name));
    }
    let answer = site.post(&format!("/studies/{study}/backdrops")).multipart(form).send().await.unwrap();
    (answer.status(), answer.text().await.unwrap())
}

/// A picture of 80 x 60 pixels: red to the east, green to the south.
fn colours() -> Vec<u8> {
    (0..60).flat_map(|r| (0..80).flat_map(move |c| [(c * 3) as u8, (r * 4) as u8, 40])).collect()
}

fn write_png(path: &Path) {
    let mut encoder = png::Encoder::new(std::fs::File::create(path).unwrap(), 80, 60);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.write_header().unwrap().write_image_data(&colours()).unwrap();
}

async fn place(site: &Site, study: i64, id: i64, points: &[TiePoint], keep: bool) -> (StatusCode, String) {
    let body = json!({ "points": points, "keep": keep });
    let address = format!("/studies/{study}/backdrops/{id}/place");
    let answer = site.post(&address).json(&body).send().await.unwrap();
    (answer.status(), answer.text().await.unwrap())
}

fn decoded(png: &[u8]) -> (usize, usize, Vec<u8>) {
    let mut reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut pixels).unwrap();
    (info.width as usize, info.height as usize, pixels)
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_lie_where_they_belong() {
    let dir = tempfile::tempdir().unwrap();
    let site = Site::new().await;
    let study = site.study(&valley_file(dir.path()), "Valley").await;

    // One that tells its place: its pixels come back as they are.
    let aerial = dir.path().join("aerial.tif");
    let at = [FRAME.left, 50.0, 0.0, FRAME.top, 0.0, -50.0];
    write_picture(&aerial, 80, &colours(), at, &utm()).unwrap();
    let (status, text) = add(&site, study, &[&aerial]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let list = site.json(&format!("/studies/{study}/backdrops")).await;
    assert_eq!(list[0]["extent"], json!([500_000.0, 4_757_000.0, 504_000.0, 4_760_000.0]));
    let id = list[0]["id"].as_i64().unwrap();
    let laid = site.get(&format!("/studies/{study}/backdrops/{id}/laid.png")).await.bytes().await.unwrap();
    let (width, height, pixels) = decoded(&laid);
    assert_eq!((width, height), (80, 60));
    assert!(pixels.chunks(4).zip(colours().chunks(3)).all(|(a, b)| a[..3] == *b && a[3] == 255));

    // A scan without a place: points put it there, and the residuals are those of NumPy.
    let scan = dir.path().join("scan.png");
    write_png(&scan);
    let (status, text) = add(&site, study, &[&scan]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let list = site.json(&format!("/studies/{study}/backdrops")).await;
    assert_eq!((&list[1]["extent"], list[1]["name"].as_str()), (&Value::Null, Some("scan")));
    let id = list[1]["id"].as_i64().unwrap();
    let (status, text) = place(&site, study, id, &[], true).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text.contains("at least three"), "{text}");
    let answer = site.get(&format!("/studies/{study}/backdrops/{id}/laid.png")).await;
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let turned = |c: f64, r: f64, dx: f64, dy: f64| TiePoint {
        picture: [c, r],
        ground: [500_400.0 + 40.0 * c + 3.0 * r + dx, 4_759_500.0 + 2.5 * c - 41.0 * r + dy],
    };
    let points = [
        turned(2.0, 3.0, 4.0, 0.0),
        turned(75.0, 5.0, 0.0, -6.0),
        turned(8.0, 55.0, -3.0, 2.0),
        turned(70.0, 50.0, 5.0, 5.0),
        turned(40.0, 30.0, 0.0, 0.0),
    ];
    let (status, text) = place(&site, study, id, &points, true).await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let placed: Value = serde_json::from_str(&text).unwrap();
    let file = dir.path().join("points.json");
    std::fs::write(&file, serde_json::to_vec(&points).unwrap()).unwrap();
    let told = python("placing.py", &[file.to_str().unwrap()]);
    let numbers = |line: &str| line.split_whitespace().map(|n| n.parse().unwrap()).collect::<Vec<f64>>();
    let mut lines = told.lines();
    for (key, line) in [("geo_transform", lines.next()), ("residuals", lines.next())] {
        let ours: Vec<f64> = serde_json::from_value(placed[key].clone()).unwrap();
        for (a, b) in ours.iter().zip(numbers(line.unwrap())) {
            assert!((a - b).abs() < 1e-6 * (1.0 + b.abs()), "{key}: {a} {b}");
        }
    }
    let list = site.json(&format!("/studies/{study}/backdrops")).await;
    assert!(list[1]["extent"][0].as_f64().unwrap() > 500_300.0);
    let desk = site.get(&format!("/studies/{study}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("placed by 5 points within"), "{desk}");

    // Placing, then adding, are undone; removing too.
    let (status, text) = site.send(&format!("/studies/{study}/backdrops/{id}/delete"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.json(&format!("/studies/{study}/backdrops")).await.as_array().unwrap().len(), 1);
    for expected in [2, 2, 1] {
        let (status, text) = site.send(&format!("/studies/{study}/undo"), &[]).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
        let list = site.json(&format!("/studies/{study}/backdrops")).await;
        assert_eq!(list.as_array().unwrap().len(), expected);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_picture_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let site = Site::new().await;
    let study = site.study(&valley_file(dir.path()), "Valley").await;
    let text = dir.path().join("a.png");
    std::fs::write(&text, "not a picture").unwrap();
    for (files, part) in [
        (vec![text.as_path()], "no picture that can be shown"),
        (vec![&*valley_file(dir.path())], "no picture that can be shown"),
    ] {
        let (status, told) = add(&site, study, &files).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains(part), "{told}");
    }
    // A world file gives a place, and the CRS of the study is taken.
    let png = dir.path().join("old.png");
    write_png(&png);
    let world = dir.path().join("old.pgw");
    std::fs::write(&world, "50\n0\n0\n-50\n500025\n4759975\n").unwrap();
    let (status, told) = add(&site, study, &[&png, &world]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let list = site.json(&format!("/studies/{study}/backdrops")).await;
    assert_eq!(list[0]["extent"], json!([500_000.0, 4_757_000.0, 504_000.0, 4_760_000.0]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scan_is_placed_beside_the_map() {
    let dir = tempfile::tempdir().unwrap();
    let site = Site::new().await;
    let study = site.study(&valley_file(dir.path()), "Valley").await;
    let png = dir.path().join("scan.png");
    write_png(&png);
    add(&site, study, &[&png]).await;
    let page = browser().await;
    let driver = &page.driver;
    driver.goto(format!("{}/studies/{study}/?stage=terrain", site.base)).await.unwrap();
    until(driver, "document.querySelector('[data-place-picture]')").await;
    click(driver, "[data-to-section=pictures]").await;
    click(driver, "[data-place-picture]").await;
    until(driver, "document.querySelector('.placer canvas')").await;
    accessible(driver, "placing a scan").await;
    let scan = driver.find(By::Css(".placer .scan")).await.unwrap();
    let tie = async |x: i64, y: i64, place: &str| {
        driver.action_chain().move_to_element_with_offset(&scan, x, y).click().perform().await.unwrap();
        until(driver, "!document.querySelector('.placer .typed').hidden").await;
        driver.find(By::Id("tie-place")).await.unwrap().send_keys(place).await.unwrap();
        click(driver, ".placer .typed button").await;
        until(driver, "document.querySelector('.placer .typed').hidden").await;
    };
    tie(-80, -60, "500500 4759500").await;
    tie(80, -60, "503500 4759500").await;
    assert_eq!(value(driver, "document.querySelector('[data-keep]').disabled").await, true);
    tie(-80, 60, "500500 4757250").await;
    until(driver, "document.querySelector('.placer .told').textContent.includes('Three points always fit')")
        .await;
    tie(80, 60, "503520 4757250").await;
    until(driver, "document.querySelector('.placer .told').textContent.includes('Root mean square')").await;
    // Twenty metres at one corner are shared by all four as five, and a click is good to a pixel.
    let residual =
        value(driver, "parseFloat(document.querySelector('.placer tbody tr td:nth-child(4)').textContent)");
    let residual = residual.await.as_f64().unwrap();
    assert!((2.0..30.0).contains(&residual), "{residual}");
    click(driver, "[data-keep]").await;
    until(driver, "!document.querySelector('.placer')").await;
    until(driver, "document.querySelector('#drawn [data-layer^=backdrop]')?.checked").await;
    let list = site.json(&format!("/studies/{study}/backdrops")).await;
    assert_eq!(list[0]["points"].as_array().unwrap().len(), 4);
}
