//! The Terrain stage: files put together, prepared, mended, other DEMs of the same area; over the wire and
//! in the browser.

use std::path::{Path, PathBuf};

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, utm, valley, valley_file, written};
use bothros_core::{Cell, Coarser, Frame, Grid};
use bothros_formats::{read_elevation, write_cog};
use bothros_store::{LayerRole, RasterRole};
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// The western and the eastern part of the valley, which overlap in 40 columns; the eastern one lies 2 m
/// too high.
fn halves(dir: &Path) -> [PathBuf; 2] {
    let whole = valley();
    let west = whole.window(0, 0, FRAME.rows, 220);
    let mut east = whole.window(0, 180, FRAME.rows, 220);
    for z in east.values_mut() {
        *z += 2.0;
    }
    [
        written(dir, "west.tif", &west, &FRAME.window(0, 0, FRAME.rows, 220)),
        written(dir, "east.tif", &east, &FRAME.window(0, 180, FRAME.rows, 220)),
    ]
}

async fn send_files(site: &Site, path: &str, files: &[&Path]) -> (StatusCode, String) {
    let mut form = Form::new().text("source", "a test");
    for path in files {
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        form = form.part("dem", Part::bytes(std::fs::read(path).unwrap()).file_name(name));
    }
    let answer = site.post(path).multipart(form).send().await.unwrap();
    (answer.status(), answer.text().await.unwrap())
}

/// Sends a form that begins a job, and waits until it is done.
async fn done(site: &Site, study: i64, path: &str, fields: &[(&str, &str)]) -> String {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), fields).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    job.message
}

async fn refused(site: &Site, study: i64, path: &str, fields: &[(&str, &str)], expected: &str) {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), fields).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path}: {text}");
    assert!(text.contains(expected), "{expected}: {text}");
}

async fn desk(site: &Site, study: i64) -> String {
    site.get(&format!("/studies/{study}/desk/terrain")).await.text().await.unwrap()
}

async fn terrain(site: &Site, study: i64) -> Value {
    site.store().study(study).await.unwrap().terrain.unwrap()
}

async fn elevation(site: &Site, study: i64, cell: Cell) -> f64 {
    let (x, y) = FRAME.centre(cell);
    site.json(&format!("/studies/{study}/cell?x={x}&y={y}")).await["elevation_m"].as_f64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_put_together_in_an_order_and_fitted_in_height() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let [west, east] = halves(dir.path());
    let (status, text) = site.upload(&[&west, &east], "Halves").await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(terrain(&site, study).await["frame"], json!(FRAME), "the whole valley");
    let both = Cell { row: 100, col: 200 };
    let truth = valley().values()[100 * FRAME.cols + 200] as f64;
    assert!((elevation(&site, study, both).await - truth).abs() < 1e-3, "the first file counts most");
    let page = desk(&site, study).await;
    assert!(page.contains("east.tif lies 2.00 m above the files before it"), "{page}");
    assert!(page.contains("Where west.tif meets east.tif, the second lies 2.00 m higher"), "{page}");
    // The other way round.
    done(&site, study, "dem-files/1/move", &[("to", "0")]).await;
    assert!((elevation(&site, study, both).await - truth - 2.0).abs() < 1e-3);
    // Undone: files, and what was made of them.
    assert_eq!(site.send(&format!("/studies/{study}/undo"), &[]).await.0, StatusCode::NO_CONTENT);
    site.finish(study).await;
    assert!((elevation(&site, study, both).await - truth).abs() < 1e-3);
    // Fitted in height, the seam is gone and all of it is the valley.
    done(&site, study, "dem-files/level", &[("on", "1")]).await;
    let page = desk(&site, study).await;
    assert!(!page.contains("the ground steps") && page.contains("Leave their heights"), "{page}");
    let meta = site.store().raster(study, RasterRole::Dem).await.unwrap().unwrap();
    let dem = site.store().read_raster::<f32>(&meta).await.unwrap();
    assert!(dem.values().iter().zip(valley().values()).all(|(a, b)| (a - b).abs() < 1e-3));
    // A file can be taken out again, and where each comes from is told in the log.
    let source = [("source", "Lidar of 2024"), ("date", "2024"), ("scale", "4 m"), ("licence", "CC BY 4.0")];
    let (status, _) = site.send(&format!("/studies/{study}/dem-files/1/provenance"), &source).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert!(desk(&site, study).await.contains("Lidar of 2024, 2024, 4 m, CC BY 4.0"));
    refused(&site, study, "dem-files/0/remove", &[], "this DEM began with").await;
    done(&site, study, "dem-files/1/remove", &[]).await;
    assert_eq!(terrain(&site, study).await["frame"]["cols"], 220);
    // The same again, and what cannot be put together.
    let add = format!("/studies/{study}/dem-files");
    let (status, text) = send_files(&site, &add, &[&west]).await;
    assert!(
        status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("part of this DEM already"),
        "{text}"
    );
    let nowhere = dir.path().join("nowhere.asc");
    std::fs::write(&nowhere, "ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2\n3 4\n").unwrap();
    let (status, text) = send_files(&site, &add, &[&nowhere]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("does not say its CRS"), "{text}");
    let (status, text) = send_files(&site, &add, &[]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("choose a DEM file"), "{text}");
}

/// Where there are many files, the desk shows the first and says of findings those that matter most.
#[tokio::test(flavor = "multi_thread")]
async fn of_many_files_the_first_are_shown() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    // Five by five tiles that share a column and a row with their neighbours; each second one lies higher.
    let (rows, cols) = (FRAME.rows / 5, FRAME.cols / 5);
    let tile = |number: usize| {
        let (top, left) = (number / 5 * rows, number % 5 * cols);
        let (high, wide) = ((rows + 1).min(FRAME.rows - top), (cols + 1).min(FRAME.cols - left));
        let mut values = valley().window(top, left, high, wide);
        let raised = if number % 2 == 1 { 1.0 + number as f32 / 100.0 } else { 0.0 };
        values.values_mut().iter_mut().for_each(|z| *z += raised);
        written(dir.path(), &format!("tile{number:02}.tif"), &values, &FRAME.window(top, left, high, wide))
    };
    let files: Vec<PathBuf> = (0..25).map(tile).collect();
    let files: Vec<&Path> = files.iter().map(PathBuf::as_path).collect();
    let (status, text) = site.upload(&files, "Tiles").await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(terrain(&site, study).await["frame"], json!(FRAME));
    let page = desk(&site, study).await;
    assert_eq!(
        page.matches("above the files before it").count() + page.matches("below the files before it").count(),
        12
    );
    assert!(page.contains("12 more files lie at other heights than those before them"), "{page}");
    assert!(page.contains("more seams stand out from the ground beside them"), "{page}");
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "terrain", "files").await;
    until(hand.driver, "document.querySelectorAll('.files li:not(.rest)').length === 20").await;
    hand.clicks(".files .rest button").await;
    until(hand.driver, "document.querySelectorAll('.files li').length === 25").await;
    // The last file is moved and taken out where it is shown now.
    hand.sends("/move", hand.clicks("[aria-label='Up: tile24.tif counts more']")).await;
    site.finish(study).await;
    until(hand.driver, "document.querySelector('.files .rest')").await;
    hand.clicks(".files .rest button").await;
    hand.sends("/remove", hand.clicks("[aria-label='Remove tile23.tif']")).await;
    until(hand.driver, "document.querySelector('.files .rest')?.textContent.includes('Show 4 more')").await;
    accessible(hand.driver, "many files").await;
}

/// Tiles that differ in CRS, cell size and unit are brought to the grid of the first, and that is said.
#[tokio::test(flavor = "multi_thread")]
async fn files_that_differ_are_brought_to_one_grid() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let plane = |x: f64, y: f64| 100.0 + (x - 500_000.0) * 0.02 + (4_760_000.0 - y) * 0.01;
    let fine =
        Frame { rows: 100, cols: 100, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
    let coarse =
        Frame { rows: 40, cols: 60, left: 500_510.0, top: 4_760_010.0, cell_size: 30.0, unit_m: 1.0 };
    let of = |frame: &Frame, unit: f64| {
        Grid::from_fn(frame.rows, frame.cols, |c| {
            let (x, y) = frame.centre(c);
            (plane(x, y) / unit) as f32
        })
    };
    let first = written(dir.path(), "fine.tif", &of(&fine, 1.0), &fine);
    let second = dir.path().join("coarse.tif");
    write_cog(&second, &of(&coarse, 0.3048), &coarse, &utm(), f32::NAN, Coarser::Mean, "elevation", "ft")
        .unwrap();
    let third = dir.path().join("degrees.tif");
    let made = std::process::Command::new("gdalwarp")
        .args(["-q", "-t_srs", "EPSG:4326", "-r", "bilinear"])
        .args([&first, &third])
        .status()
        .unwrap();
    assert!(made.success());
    let (status, text) = site.upload(&[&first, &second, &third], "Mixed").await;
    assert_eq!(status, StatusCode::OK, "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    let job = site.finish(study).await;
    assert!(job.message.contains("coarse.tif was resampled on cells of 10 m (bilinear)"), "{}", job.message);
    assert!(job.message.contains("degrees.tif was warped from"), "{}", job.message);
    let facts = terrain(&site, study).await;
    let frame: Frame = serde_json::from_value(facts["frame"].clone()).unwrap();
    let meta = site.store().raster(study, RasterRole::Dem).await.unwrap().unwrap();
    let dem = site.store().read_raster::<f32>(&meta).await.unwrap();
    let mut told = 0;
    for (i, &z) in dem.values().iter().enumerate() {
        let (x, y) = frame.centre(dem.cell(i));
        if !z.is_nan() {
            told += 1;
            // Beyond the outermost centres values are those of the outermost cells.
            assert!((z as f64 - plane(x, y)).abs() < 0.5, "{z} at {x}, {y}");
        }
    }
    assert!(told > 25_000);
    assert!(desk(&site, study).await.contains("Files brought to one grid"));
}

/// The valley with a sea in the west, a spike, a pit, and whole-metre steps.
fn doubtful(dir: &Path) -> PathBuf {
    let mut dem = valley();
    for (i, z) in dem.values_mut().iter_mut().enumerate() {
        *z = if i % FRAME.cols < 30 { 0.0 } else { z.round() };
    }
    dem.values_mut()[100 * FRAME.cols + 300] += 120.0;
    written(dir, "doubtful.tif", &dem, &FRAME)
}

/// Spikes, the sea, voids, then steps, each in the file as it was given, then the warp: a void that is filled first is not widened by it, and the sea is no void.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_is_mended_in_the_file_before_it_is_warped() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let mut dem = valley();
    for (i, z) in dem.values_mut().iter_mut().enumerate() {
        let (row, col) = (i / FRAME.cols, i % FRAME.cols);
        *z = match (col < 30, (row / 6, col / 6)) {
            (true, _) => 0.0,
            (_, (20, 40)) => f32::NAN,
            _ => z.round(),
        };
    }
    dem.values_mut()[100 * FRAME.cols + 300] += 120.0;
    let study = site.study(&written(dir.path(), "all.tif", &dem, &FRAME), "All of it").await;
    let all = [
        ("crs", "EPSG:32627"),
        ("cell_size", "10"),
        ("spikes", "on"),
        ("sea", "on"),
        ("voids", "on"),
        ("steps", "on"),
        ("full", "1"),
    ];
    done(&site, study, "prepare", &all).await;
    let facts = terrain(&site, study).await;
    let told: Vec<String> = serde_json::from_value(facts["done"].clone()).unwrap();
    let words = ["spike", "sea of", "voids of 36 cells", "half a step of rounding", "reprojected"];
    let places: Vec<Option<usize>> = words.iter().map(|w| told.iter().position(|t| t.contains(w))).collect();
    assert!(places.iter().all(Option::is_some) && places.is_sorted(), "{told:?}");
    assert_eq!(facts["quality"]["void_cells"].as_u64().unwrap_or(0), 0, "{facts}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_doubtful_is_found_and_mended() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&doubtful(dir.path()), "Doubtful").await;
    let page = desk(&site, study).await;
    for found in ["Sea", "Spikes", "Whole-number elevations", "2 single cells stand far out"] {
        assert!(page.contains(found), "{found}: {page}");
    }
    done(&site, study, "prepare", &[("sea", "on")]).await;
    let facts = terrain(&site, study).await;
    assert_eq!(facts["summary"]["nodata_cells"], 30 * FRAME.rows);
    done(&site, study, "prepare", &[("spikes", "on")]).await;
    let spike = Cell { row: 100, col: 300 };
    let truth = valley().values()[100 * FRAME.cols + 300] as f64;
    assert!((elevation(&site, study, spike).await - truth).abs() < 2.0, "mended");
    assert_eq!(
        terrain(&site, study).await["summary"]["nodata_cells"],
        30 * FRAME.rows,
        "the sea stays outside"
    );
    done(&site, study, "prepare", &[("steps", "on")]).await;
    let page = desk(&site, study).await;
    assert!(
        !page.contains("Whole-number")
            && !page.contains("Spikes")
            && page.contains("half a step of rounding")
    );
    // Each is undone by itself, the last first.
    assert_eq!(site.send(&format!("/studies/{study}/undo"), &[]).await.0, StatusCode::NO_CONTENT);
    site.finish(study).await;
    assert!(desk(&site, study).await.contains("Whole-number elevations"));
    assert_eq!(terrain(&site, study).await["prepared"]["spikes"], true);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_dem_is_clipped_and_lined_up() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Valley").await;
    let all = [("full", "1"), ("crs", "EPSG:32628"), ("cell_size", "10"), ("resampling", "bilinear")];
    let with = |more: &[(&'static str, &'static str)]| [&all[..], more].concat();
    // What it would lead to is told before.
    let extent =
        with(&[("clip", "extent"), ("extent", "500995,4758005,502005,4759005"), ("margin_m", "100")]);
    let plan = site.post(&format!("/studies/{study}/prepare-plan")).form(&extent).send().await.unwrap();
    let plan: Value = plan.json().await.unwrap();
    assert!(plan["told"].as_str().unwrap().starts_with("122 × 121 cells of 10 m"), "{plan}");
    done(&site, study, "prepare", &extent).await;
    let frame: Frame = serde_json::from_value(terrain(&site, study).await["frame"].clone()).unwrap();
    assert_eq!((frame.rows, frame.cols, frame.left), (121, 122, 500_890.0));
    // Values are those of the file, to the bit.
    let at = Cell { row: 150, col: 150 };
    assert_eq!(elevation(&site, study, at).await as f32, valley().values()[150 * FRAME.cols + 150]);
    // A drawn polygon; outside it there is nothing.
    done(&site, study, "prepare", &with(&[("clip", "none")])).await;
    let triangle = "[[501000,4759000],[503000,4759000],[502000,4758000],[501000,4759000]]";
    let (status, text) =
        site.send(&format!("/studies/{study}/draw"), &[("role", "boundaries"), ("line", triangle)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let layer = site.store().layers(study).await.unwrap()[0].id;
    let clip = format!("layer:{layer}");
    let mut polygon = with(&[]);
    polygon.push(("clip", &clip));
    done(&site, study, "prepare", &polygon).await;
    let facts = terrain(&site, study).await;
    assert_eq!(facts["summary"]["cells"], 10_000, "half of 200 x 100 cells");
    // Lined up with another grid: warped where it must be.
    let other = Frame { rows: 4, cols: 4, left: 500_003.0, top: 4_759_996.0, cell_size: 20.0, unit_m: 1.0 };
    let grid = written(dir.path(), "grid.tif", &Grid::filled(4, 4, 1.0), &other);
    let (status, text) = send_files(&site, &format!("/studies/{study}/align"), &[&grid]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    let frame: Frame = serde_json::from_value(terrain(&site, study).await["frame"].clone()).unwrap();
    let whole = |offset: f64| (offset / 20.0 - (offset / 20.0).round()).abs() < 1e-9;
    assert!(
        frame.cell_size == 20.0 && whole(frame.left - other.left) && whole(frame.top - other.top),
        "{frame:?}"
    );
    // What cannot be is refused, and all stays.
    let far = with(&[("clip", "extent"), ("extent", "0,0,1000,1000")]);
    refused(&site, study, "prepare", &far, "does not cover any cell").await;
    refused(&site, study, "prepare", &with(&[("clip", "extent"), ("extent", "")]), "extent is not known")
        .await;
    refused(&site, study, "prepare", &with(&[("clip", "lake")]), "choose what the DEM is clipped to").await;
    refused(&site, study, "prepare", &with(&[("margin_m", "-5")]), "must not be below 0").await;
    refused(&site, study, "prepare", &[("crs", "EPSG:4326")], "not projected").await;
    assert_eq!(terrain(&site, study).await["frame"]["cell_size"], 20.0);
}

#[tokio::test(flavor = "multi_thread")]
async fn other_dems_of_the_area_keep_what_was_done_to_them() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Valley").await;
    let first = site.store().study(study).await.unwrap();
    let coarse =
        Frame { rows: 100, cols: 130, left: 500_000.0, top: 4_760_000.0, cell_size: 30.0, unit_m: 1.0 };
    let poor = Grid::from_fn(100, 130, |c| 600.0 - c.row as f32 + (c.col as f32 - 65.0).abs());
    let poor = written(dir.path(), "poor.tif", &poor, &coarse);
    let (status, text) = send_files(&site, &format!("/studies/{study}/candidates"), &[&poor]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(terrain(&site, study).await["frame"], json!(coarse));
    assert!(site.store().study(study).await.unwrap().network.is_none(), "nothing was done to it yet");
    let page = desk(&site, study).await;
    assert!(
        page.contains("valley.tif")
            && page.contains("10 m, 120 000 cells, routed".replace(' ', "\u{202F}").as_str())
            || page.contains("routed"),
        "{page}"
    );
    done(&site, study, "route", &[]).await;
    // Lined up with the one that is kept aside.
    let kept = site.store().candidates(study).await.unwrap()[0].id;
    done(&site, study, "prepare", &[("full", "1"), ("align", &format!("candidate:{kept}"))]).await;
    assert_eq!(terrain(&site, study).await["frame"]["cell_size"], 10.0);
    // Back to the first: as it was left.
    let (status, text) = site.send(&format!("/studies/{study}/candidates/{kept}/take-up"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let now = site.store().study(study).await.unwrap();
    assert_eq!((now.terrain, now.routing, now.network), (first.terrain, first.routing, first.network));
    let streams = site.json(&format!("/studies/{study}/streams?cells=500&west=500000&south=4757000&east=504000&north=4760000&resolution=10")).await;
    assert!(!streams["reaches"].as_array().unwrap().is_empty());
    let meta = site.store().raster(study, RasterRole::Dem).await.unwrap().unwrap();
    assert_eq!((meta.rows, meta.cols), (FRAME.rows, FRAME.cols));
    let other = site.store().candidates(study).await.unwrap();
    assert_eq!((other.len(), other[0].name.as_str()), (1, "poor.tif"));
    refused(&site, study, "prepare", &[("align", "candidate:9999")], "no such DEM").await;
    let (status, _) = site.send(&format!("/studies/{study}/candidates/{}/delete", other[0].id), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert!(site.store().candidates(study).await.unwrap().is_empty());
    // A copy of a study is whole.
    site.send(&format!("/studies/{study}/duplicate"), &[]).await;
    let copy =
        site.store().studies().await.unwrap().into_iter().find(|s| s.name.ends_with("copy")).unwrap().id;
    done(&site, copy, "reread", &[]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn weights_are_accumulated_and_handed_over() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Valley").await;
    // Two millimetres everywhere, on a coarser grid.
    let coarse =
        Frame { rows: 20, cols: 30, left: 499_500.0, top: 4_760_500.0, cell_size: 200.0, unit_m: 1.0 };
    let rain = written(dir.path(), "rain.tif", &Grid::filled(20, 30, 2.0), &coarse);
    let form = |meaning: &str| {
        let part = Part::bytes(std::fs::read(&rain).unwrap()).file_name("rain.tif");
        Form::new().text("meaning", meaning.to_owned()).part("dem", part)
    };
    let address = format!("/studies/{study}/weights");
    let answer = site.post(&address).multipart(form("")).send().await.unwrap();
    assert!(answer.text().await.unwrap().contains("say what the weights are"));
    let answer = site.post(&address).multipart(form("rain, mm")).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::NO_CONTENT);
    done(&site, study, "route", &[]).await;
    let meta = site.store().raster(study, RasterRole::Weighted).await.unwrap().unwrap();
    let sums = site.store().read_raster::<f32>(&meta).await.unwrap();
    let meta = site.store().raster(study, RasterRole::Accumulation).await.unwrap().unwrap();
    let cells = site.store().read_raster::<u32>(&meta).await.unwrap();
    for (sum, &cells) in sums.values().iter().zip(cells.values()) {
        assert!((sum - 2.0 * (cells as f32 + 1.0)).abs() <= 1e-4 * sum, "{sum} of {cells}");
    }
    let (x, y) = FRAME.centre(Cell { row: 200, col: 200 });
    let told = site.json(&format!("/studies/{study}/cell?x={x}&y={y}")).await;
    assert!(told["weighted"].as_f64().unwrap() > 2.0 && told["weighted_of"] == "rain, mm", "{told}");
    done(&site, study, "package", &[]).await;
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let names: Vec<String> = zip.file_names().map(|n| n.unwrap().into_owned()).collect();
    let weighted =
        names.iter().find(|n| n.ends_with("weighted_total.tif")).unwrap_or_else(|| panic!("{names:?}"));
    let out = dir.path().join("weighted.tif");
    std::io::copy(&mut zip.by_name(weighted).unwrap(), &mut std::fs::File::create(&out).unwrap()).unwrap();
    let unit = bothros_formats::VerticalUnit::Metre;
    let back = read_elevation(&out, "weighted.tif", 1, unit, &bothros_core::Silent).unwrap();
    assert!(back.values().iter().zip(sums.values()).all(|(a, b)| a.to_bits() == b.to_bits()));
}

#[tokio::test(flavor = "multi_thread")]
async fn views_follow_the_textbook() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let frame =
        Frame { rows: 300, cols: 300, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
    // A plane that falls by 1 in 4 to the east.
    let plane = Grid::from_fn(300, 300, |c| 900.0 - 2.5 * c.col as f32);
    let study = site.study(&written(dir.path(), "plane.tif", &plane, &frame), "Plane").await;
    let range = site.json(&format!("/studies/{study}/range/slope")).await;
    let degrees = 0.25f64.atan().to_degrees();
    assert!((range["low"].as_f64().unwrap() - degrees).abs() < 1e-3, "{range}");
    let flat = site.json(&format!("/studies/{study}/range/near?radius=50")).await;
    assert!(flat["low"].as_f64().unwrap().abs() < 1e-2, "{flat}");
    let view = "west=500500&south=4757500&east=502500&north=4759500&resolution=5";
    let lines = site.json(&format!("/studies/{study}/contours?{view}&interval=50")).await;
    for line in lines["lines"].as_array().unwrap() {
        // Straight from north to south, where the plane has that elevation.
        let x = 500_005.0 + (900.0 - line["elevation"].as_f64().unwrap()) / 0.25;
        assert!(line["line"].as_array().unwrap().iter().all(|p| (p[0].as_f64().unwrap() - x).abs() < 0.02));
    }
    assert!(lines["lines"].as_array().unwrap().len() >= 9, "{lines}");
    for bad in ["interval=0", "interval=-5"] {
        let answer = site.get(&format!("/studies/{study}/contours?{view}&{bad}")).await;
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    }
    let raster = site.json(&format!("/studies/{study}/map")).await["rasters"]["dem"]["id"].as_i64().unwrap();
    for what in ["slope", "curvature", "near", "far"] {
        let tile = format!("/studies/{study}/tiles/{what}/{raster}/0/0/0?low=0&high=20&radius=80");
        let answer = site.get(&tile).await;
        assert_eq!(
            (answer.status(), answer.headers()["content-type"].to_str().unwrap()),
            (StatusCode::OK, "image/png")
        );
    }
    assert_eq!(site.get(&format!("/studies/{study}/range/beauty")).await.status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn zipped_shapefiles_are_unpacked() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Valley").await;
    let json = dir.path().join("s.geojson");
    std::fs::write(&json, br#"{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"a"},"geometry":{"type":"LineString","coordinates":[[-15.0,42.98],[-14.99,42.97]]}}]}"#).unwrap();
    let made = std::process::Command::new("ogr2ogr")
        .args(["-f", "ESRI Shapefile", "-t_srs", "EPSG:32628"])
        .args([&dir.path().join("s.shp"), &json])
        .status()
        .unwrap();
    assert!(made.success());
    let archive = |files: &[(&str, Vec<u8>)]| {
        let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for (name, bytes) in files {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut zip, bytes).unwrap();
        }
        zip.finish().unwrap().into_inner()
    };
    let parts: Vec<(String, Vec<u8>)> = ["shp", "shx", "dbf", "prj"]
        .iter()
        .map(|e| (format!("../deep/s.{e}"), std::fs::read(dir.path().join(format!("s.{e}"))).unwrap()))
        .collect();
    let named = |n: usize| parts[..n].iter().map(|(n, b)| (n.as_str(), b.clone())).collect::<Vec<_>>();
    let many = vec![0u8; 70_000_000];
    for (bytes, expected) in [
        (b"no archive".to_vec(), "no archive that can be opened"),
        (archive(&[("readme.txt", vec![1])]), "holds no layer"),
        (archive(&named(3)), "does not tell its CRS"),
        (archive(&[("a.geojson", vec![1]), ("b.geojson", vec![1])]), "several layers"),
        (archive(&[("a.geojson", many)]), "unpacks to more than"),
        (archive(&named(4)), ""),
    ] {
        let form = Form::new()
            .text("role", "mapped_streams")
            .part("file", Part::bytes(bytes).file_name("streams.zip"));
        let answer = site.post(&format!("/studies/{study}/layers")).multipart(form).send().await.unwrap();
        let (status, text) = (answer.status(), answer.text().await.unwrap());
        if expected.is_empty() {
            assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
        } else {
            // One is asked about, the others are refused.
            let asked = if expected.contains("CRS") {
                StatusCode::CONFLICT
            } else {
                StatusCode::UNPROCESSABLE_ENTITY
            };
            assert!(status == asked && text.contains(expected), "{expected}: {text}");
        }
    }
    assert_eq!(site.store().features_of(study, LayerRole::MappedStreams).await.unwrap().len(), 1);
    // Reshaped, refused, deleted, and each undone.
    let layer = site.store().layers(study).await.unwrap()[0].id;
    let feature = format!("/studies/{study}/layers/{layer}/features/1");
    let before = site.store().layer(study, layer).await.unwrap().1;
    let line = r#"{"line":[[501000,4759000],[501500,4758500]]}"#;
    assert_eq!(site.send(&feature, &[("shape", line)]).await.0, StatusCode::NO_CONTENT);
    assert_ne!(site.store().layer(study, layer).await.unwrap().1, before);
    let (status, text) = site.send(&feature, &[("shape", r#"{"point":[1,2]}"#)]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("cannot have this shape"), "{text}");
    assert_eq!(site.send(&feature, &[]).await.0, StatusCode::NO_CONTENT);
    let (status, text) = site.send(&feature, &[("shape", line)]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("another user"), "{text}");
    for _ in 0..2 {
        assert_eq!(site.send(&format!("/studies/{study}/undo"), &[]).await.0, StatusCode::NO_CONTENT);
    }
    assert_eq!(site.store().layer(study, layer).await.unwrap().1, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_stage_is_walked_in_the_browser() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&doubtful(dir.path()), "Doubtful").await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=terrain", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes' && document.querySelector('.finding')").await;
    // Views are turned on, with their keys and controls.
    click(driver, "#drawn .add summary").await;
    for layer in ["slope", "near", "contours"] {
        click(driver, &format!("[data-layer={layer}]")).await;
    }
    until(driver, "Number(document.getElementById('map').dataset.contours) > 5").await;
    until(driver, "bothrosMap.views.ranges.near").await;
    accessible(driver, "views").await;
    // A change of the form is planned at once, and drawn.
    click(driver, "[data-to-section=preparation]").await;
    click(driver, "#prepare [name=full_rectangle]").await;
    until(driver, "document.getElementById('plan').textContent.includes('400')").await;
    assert_eq!(value(driver, "document.querySelectorAll('#plan.wrong').length").await, 0);
    accessible(driver, "preparation").await;
    click(driver, "#prepare [name=sea]").await;
    click(driver, "#prepare .btn-primary").await;
    until(driver, "document.getElementById('desk').textContent.includes('declared as outside')").await;
    let facts = terrain(&site, study).await;
    assert_eq!(facts["frame"]["cols"], 370, "the sea is cropped away");
    press(driver, Key::Control + "z").await;
    until(driver, "document.getElementById('desk').textContent.includes('looks like the sea')").await;
    // The style is kept with the study.
    driver.execute("bothrosMap.views.set('relief', { azimuth: 90 }); return 1", vec![]).await.unwrap();
    let kept = async {
        loop {
            let style =
                site.json(&format!("/studies/{study}/map")).await["style"]["relief"]["azimuth"].clone();
            if style == json!(90) {
                return;
            }
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(std::time::Duration::from_secs(20), kept).await.expect("the style is kept");
}
