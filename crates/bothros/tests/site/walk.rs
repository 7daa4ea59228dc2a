//! The whole job in headless Chromium, as a person would do it: on the demo scenario, and on a real
//! SRTM tile.

use std::path::Path;
use std::process::Command;
use std::sync::LazyLock;

use crate::support::browser::{accessible, browser, click, press, until, upload, value};
use crate::support::{Site, python, srtm_file};
use bothros_core::{Silent, catchments, conditioning, routing};
use bothros_demo::{Scenario, generate, write_files};
use thirtyfour::prelude::*;

pub static SCENARIO: LazyLock<Scenario> =
    LazyLock::new(|| generate(&|_| {}).expect("the scenario is generated"));

async fn fill_and_route(driver: &WebDriver) {
    press(driver, "2").await;
    until(driver, "document.getElementById('run-route')").await;
    click(driver, "#run-route").await;
    until(driver, "document.querySelector('table.list') && bothrosMap.layers.area").await;
    accessible(driver, "conditioning").await;
}

/// Moves the slider as a hand does, and sees the map follow.
async fn move_threshold(driver: &WebDriver) {
    press(driver, "3").await;
    until(
        driver,
        "document.getElementById('slider') && bothrosMap.layers.streams.getSource().getFeatures().length > 0",
    )
    .await;
    let reaches =
        value(driver, "bothrosMap.layers.streams.getSource().getFeatures().length").await.as_u64().unwrap();
    let before = value(driver, "bothrosMap.frames").await.as_u64().unwrap();
    let slide = "const s = document.getElementById('slider'); const from = Number(s.value); let i = 0; const done = arguments[0];
        (function step() { s.value = from - 2 * i; s.dispatchEvent(new Event('input', { bubbles: true })); i += 1;
            if (i < 25) requestAnimationFrame(step); else { s.dispatchEvent(new Event('change', { bubbles: true })); done(true); } })();";
    driver.execute_async(slide, vec![]).await.unwrap();
    until(driver, &format!("bothrosMap.frames >= {before} + 10")).await;
    until(
        driver,
        &format!(
            "bothrosMap.resting && bothrosMap.layers.streams.getSource().getFeatures().length > {reaches}"
        ),
    )
    .await;
    accessible(driver, "network").await;
    // Keys do the same, and undo takes it back.
    let cells = value(driver, "bothrosMap.threshold").await.as_u64().unwrap();
    press(driver, "]").await;
    until(driver, &format!("bothrosMap.threshold > {cells} && Number(document.getElementById('threshold').dataset.cells) > {cells}")).await;
    press(driver, Key::Control + "z").await;
    until(driver, &format!("Number(document.getElementById('threshold').dataset.cells) === {cells}")).await;
}

/// Places a pour point with P and a click at a coordinate.
async fn place(driver: &WebDriver, x: f64, y: f64) {
    press(driver, "p").await;
    until(driver, "!document.getElementById('mode').hidden").await;
    let at = value(driver, &format!("bothrosMap.map.getPixelFromCoordinate([{x}, {y}])")).await;
    let size = value(driver, "bothrosMap.map.getSize()").await;
    let offset = |i: usize| (at[i].as_f64().unwrap() - size[i].as_f64().unwrap() / 2.0).round() as i64;
    let map = driver.find(By::Id("map")).await.unwrap();
    driver
        .action_chain()
        .move_to_element_with_offset(&map, offset(0), offset(1))
        .click()
        .perform()
        .await
        .unwrap();
}

/// Writes the package through the page and unpacks it.
async fn package(driver: &WebDriver, site: &Site, study: i64, dir: &Path) {
    press(driver, "5").await;
    until(driver, "document.getElementById('write-package')").await;
    click(driver, "#write-package").await;
    until(driver, "document.getElementById('download')").await;
    accessible(driver, "handover").await;
    let answer = site.get(&format!("/studies/{study}/package.zip")).await;
    let zip = dir.join("package.zip");
    std::fs::write(&zip, answer.bytes().await.unwrap()).unwrap();
    let unpacked = Command::new("python3").args(["-m", "zipfile", "-e"]).args([&zip, dir]).status().unwrap();
    assert!(unpacked.success());
    for entry in std::fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        let tool = match path.extension().and_then(|e| e.to_str()) {
            Some("tif") => "gdalinfo",
            Some("gpkg" | "geojson") => "ogrinfo",
            _ => continue,
        };
        let mut command = Command::new(tool);
        if tool == "ogrinfo" {
            command.args(["-ro", "-al", "-so"]);
        }
        let out = command.arg(&path).output().unwrap();
        let told = String::from_utf8_lossy(&out.stdout);
        assert!(
            out.status.success() && out.stderr.is_empty(),
            "{}: {}",
            path.display(),
            String::from_utf8_lossy(&out.stderr)
        );
        assert!(told.contains("CRS[") || told.contains("CRS["), "every layer has its CRS: {told}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_from_dem_to_download() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    write_files(&SCENARIO, dir.path()).unwrap();
    let browser = browser().await;
    let driver = &browser.driver;
    let study = upload(driver, &site, &dir.path().join("sorrel_dem_4m.tif"), "Sorrel Water").await;
    until(driver, "document.querySelector('#desk a[data-go=conditioning]')").await;
    accessible(driver, "terrain").await;
    fill_and_route(driver).await;
    move_threshold(driver).await;

    // The gauge by a click, another place by latitude and longitude.
    press(driver, "4").await;
    until(driver, "document.getElementById('typed-point')").await;
    let gauge = &SCENARIO.gauges[0];
    place(driver, gauge.x, gauge.y).await;
    until(driver, "document.getElementById('map').dataset.catchments === '1'").await;
    let area = site.store().pour_points(study).await.unwrap()[0].catchment.clone().unwrap();
    assert!(area["area_km2"].as_f64().unwrap() > 10.0, "the river's catchment: {area}");
    let second = &SCENARIO.gauges[1];
    let utm = bothros_formats::Crs::parse("EPSG:32628").unwrap();
    let (lon, lat) = bothros_formats::Transform::to_wgs84(&utm).unwrap().point(second.x, second.y).unwrap();
    driver.find(By::Id("place")).await.unwrap().send_keys(format!("{lat:.6} N {:.6} W", -lon)).await.unwrap();
    driver.find(By::Id("point-name")).await.unwrap().send_keys(second.name).await.unwrap();
    click(driver, "#typed-point button").await;
    until(driver, "document.getElementById('map').dataset.catchments === '2'").await;
    accessible(driver, "catchments").await;
    let points = site.store().pour_points(study).await.unwrap();
    assert!((points[1].x - second.x).abs() < 0.2 && points[1].name == second.name);
    // Rename, delete, undo.
    click(driver, ".points li:first-child summary").await;
    let name = driver.find(By::Css(".points li:first-child input[name=name]")).await.unwrap();
    name.clear().await.unwrap();
    name.send_keys("Tarnfield weir").await.unwrap();
    click(driver, ".points li:first-child form button").await;
    until(driver, "document.querySelector('.points h4').textContent.includes('Tarnfield weir')").await;
    click(driver, ".points li:nth-child(2) .danger").await;
    until(driver, "document.getElementById('map').dataset.catchments === '1'").await;
    press(driver, Key::Control + "z").await;
    until(driver, "document.getElementById('map').dataset.catchments === '2'").await;

    // Close to the ground, single cells can be read.
    driver
        .execute(
            &format!(
                "bothrosMap.map.getView().setCenter([{}, {}]); bothrosMap.map.getView().setResolution(0.06)",
                gauge.x, gauge.y
            ),
            vec![],
        )
        .await
        .unwrap();
    until(driver, "document.getElementById('map').dataset.closeUp === 'values'").await;

    let out = dir.path().join("package");
    std::fs::create_dir(&out).unwrap();
    package(driver, &site, study, &out).await;
    let told = python("package.py", &[out.to_str().unwrap(), "32628", "2"]);
    assert!(told.contains("agree"), "{told}");

    // The address brings back stage and place.
    driver.refresh().await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes' && document.getElementById('write-package')").await;
    assert!(value(driver, "bothrosMap.map.getView().getResolution()").await.as_f64().unwrap() < 0.1);
    // Help on this screen.
    press(driver, "?").await;
    until(driver, "document.querySelector('.help-sheet h2').textContent === 'Handover'").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_real_srtm_tile_from_degrees_to_download() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let file = srtm_file(dir.path());
    let browser = browser().await;
    let driver = &browser.driver;
    let study = upload(driver, &site, &file, "Jacksboro fault").await;
    until(driver, "document.querySelector('#desk form.warp')").await;
    let desk = driver.find(By::Id("desk")).await.unwrap().text().await.unwrap();
    for expected in ["Geographic coordinates", "Whole-number elevations", "EPSG:32616"] {
        assert!(desk.contains(expected), "{expected} in {desk}");
    }
    assert_eq!(value(driver, "document.getElementById('cell-size').value").await, "80");
    assert_eq!(value(driver, "document.getElementById('notice').hidden").await, true, "nothing complains");
    accessible(driver, "findings").await;
    click(driver, "form.warp button").await;
    until(driver, "[...document.querySelectorAll('#desk button')].find(b => b.textContent.includes('Crop'))")
        .await;
    click(driver, ".finding form:has([name=full_rectangle]) button").await;
    until(driver, "!document.querySelector('.finding form:has([name=full_rectangle])') && document.querySelector('#desk a[data-go=conditioning]')").await;
    let terrain = site.store().study(study).await.unwrap().terrain.unwrap();
    assert_eq!(terrain["crs"]["epsg"], 32616);
    assert_eq!(terrain["summary"]["nodata_cells"], 0);
    fill_and_route(driver).await;
    move_threshold(driver).await;
    press(driver, "4").await;
    until(driver, "document.getElementById('typed-point')").await;
    // On cells of 90 m the nearest stream may lie farther off than the distance: the largest area is chosen instead.
    let largest = [("snap_m", "100"), ("snap_to", "largest")];
    let (status, told) = site.send(&format!("/studies/{study}/snapping"), &largest).await;
    assert!(status.is_success(), "{told}");
    let centre = value(driver, "bothrosMap.map.getView().getCenter()").await;
    place(driver, centre[0].as_f64().unwrap(), centre[1].as_f64().unwrap()).await;
    until(driver, "document.getElementById('map').dataset.catchments === '1'").await;
    let out = dir.path().join("package");
    std::fs::create_dir(&out).unwrap();
    package(driver, &site, study, &out).await;
    let told = python("package.py", &[out.to_str().unwrap(), "32616", "1"]);
    assert!(told.contains("agree"), "{told}");
}

/// The same on every machine: a checksum over the values, and what the scenario must hold.
#[test]
fn the_demo_is_the_same_everywhere() {
    let mut sum = 0xcbf2_9ce4_8422_2325u64;
    // FNV-1a, 64 bit.
    for z in SCENARIO.dem.values() {
        for byte in z.to_bits().to_le_bytes() {
            sum = (sum ^ byte as u64).wrapping_mul(0x0100_0000_01b3);
        }
    }
    assert_eq!(SCENARIO.crossings.len(), 8);
    assert_eq!(SCENARIO.crossings.iter().filter(|c| c.surveyed).count(), 5);
    assert_eq!(SCENARIO.hollows.len(), 3);
    let filled = conditioning::fill(&SCENARIO.dem, &Silent).unwrap();
    for &(x, y) in &SCENARIO.hollows {
        let cell = bothros_demo::FRAME.cell_at(x, y).unwrap();
        let at = SCENARIO.dem.index(cell);
        let depth = filled.values()[at] - SCENARIO.dem.values()[at];
        assert!(depth > 3.0, "a swallow hole at {x}, {y} is {depth} m deep");
    }
    assert_eq!(SCENARIO.gauges.len(), 4);
    assert!(
        SCENARIO.reservoir.values().iter().filter(|&&w| w).count() > 1000,
        "a reservoir of more than 1.6 ha"
    );
    assert!(SCENARIO.dem.values().iter().filter(|z| z.is_nan()).count() > 500, "a void");
    assert_eq!(format!("{sum:016x}"), "b00cdc3533a25b5a");
}

/// The dam and the reservoir as the survey shows them, against the land as it is below noise and embankments.
#[test]
fn the_demo_s_dam_and_reservoir_gather_what_drains_to_them() {
    let frame = &bothros_demo::FRAME;
    let filled = conditioning::fill(&SCENARIO.dem, &Silent).unwrap();
    let directions = routing::flow_directions(&filled, &Silent).unwrap();
    let accumulation = routing::flow_accumulation(&directions, &Silent).unwrap();
    let dam = catchments::at_line(&SCENARIO.dam, &directions, &accumulation, frame).unwrap().unwrap();
    let along = bothros_core::cells_along(&SCENARIO.dam, frame, bothros_core::Connection::Four);
    let area = |cell: &bothros_core::Cell| match SCENARIO.accumulation.values()[accumulation.index(*cell)] {
        u32::MAX => 0,
        cells => u64::from(cells) + 1,
    };
    let truth = along.iter().map(area).max().unwrap();
    let near = |found: u64| (found as f64 / truth as f64 - 1.0).abs();
    assert!(near(dam.cells) < 0.05, "{} against {truth}", dam.cells);
    assert!(!dam.at_end && (dam.beyond as f64) < 0.01 * truth as f64, "{dam:?}");
    // All that enters the reservoir, and its own water, is nearly all that reaches the dam behind which it lies.
    let water = catchments::outline(&SCENARIO.reservoir, frame).polygons;
    let found = catchments::site(&water, 2000, &directions, &accumulation, frame).unwrap();
    let entering = found.entering_cells() + found.own_cells;
    assert!(near(entering) < 0.05, "{entering} against {truth}");
    assert!(found.inflows.len() > 1, "{}", found.inflows.len());
    let shares: u64 = found.inflows.iter().map(|i| i.cells - i.again).sum::<u64>() + found.spread_cells;
    assert_eq!(shares, found.entering_cells());
}
