//! The face: what a desk, the map and its lists do under the hand.

use bothros_core::Coarser;
use bothros_formats::write_cog;
use reqwest::StatusCode;
use serde_json::json;
use thirtyfour::prelude::*;

use crate::support::browser::{accessible, browser, click, press, until, value, wheel};
use crate::support::{FRAME, Site, add_layer, utm, valley, valley_file};

async fn open(driver: &WebDriver, site: &Site, study: i64, stage: &str) {
    driver.goto(&format!("{}/studies/{study}/?stage={stage}", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
}

/// Types into a field as a person does.
async fn typed(driver: &WebDriver, selector: &str, text: &str) {
    let field = driver.query(By::Css(selector)).first().await.unwrap();
    field.scroll_into_view().await.unwrap();
    field.click().await.unwrap();
    field.send_keys(Key::Control + "a").await.unwrap();
    field.send_keys(Key::Backspace + text).await.unwrap();
}

const SHOWN: &str =
    "[...document.querySelectorAll('#desk [data-section]')].find(s => !s.hidden)?.dataset.section";

#[tokio::test(flavor = "multi_thread")]
async fn sections_of_a_desk_are_reached_by_click_by_key_and_by_address() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let browser = browser().await;
    let driver = &browser.driver;
    // None is longer than two screens of 800 pixels, on any stage.
    for (stage, sections) in [
        ("terrain", vec!["findings", "preparation", "files", "recipe", "layers", "pictures"]),
        ("conditioning", vec!["sinks", "crossings", "lines", "settings", "result"]),
        ("network", vec!["threshold", "shortfalls", "trials", "edits", "reaches", "layers"]),
        (
            "catchments",
            vec!["points", "measures", "rasters", "subbasins", "places", "published", "sure", "layers"],
        ),
        ("handover", vec!["package", "scheme", "recipe", "proof", "kept", "connect", "sheets", "layers"]),
    ] {
        open(driver, &site, study, stage).await;
        let keys = "[...document.querySelectorAll('#desk [data-section]')].map(s => s.dataset.section)";
        assert_eq!(value(driver, keys).await, json!(sections), "{stage}");
        for section in &sections {
            if sections.len() > 1 {
                click(driver, &format!("[data-to-section={section}]")).await;
            }
            until(driver, &format!("{SHOWN} === '{section}'")).await;
            until(driver, "!document.querySelector('#desk [data-section]:not([hidden]) .working')").await;
            accessible(driver, &format!("{stage}, {section}")).await;
            let height = value(driver, "document.getElementById('desk').scrollHeight").await;
            assert!(height.as_u64().unwrap() <= 1600, "{stage}, {section}: {height} pixels");
        }
    }
    // By key, around the end; the head stays in sight; the address brings the section back.
    open(driver, &site, study, "network").await;
    press(driver, ".").await;
    until(driver, &format!("{SHOWN} === 'shortfalls'")).await;
    press(driver, ",").await;
    press(driver, ",").await;
    until(driver, &format!("{SHOWN} === 'layers'")).await;
    driver.execute("document.getElementById('desk').scrollTop = 500", vec![]).await.unwrap();
    until(driver, "document.querySelector('.desk-head').getBoundingClientRect().top >= 0").await;
    until(driver, "new URLSearchParams(location.search).get('section') === 'layers'").await;
    driver.refresh().await.unwrap();
    until(driver, &format!("document.body.dataset.ready === 'yes' && {SHOWN} === 'layers'")).await;
    // Each stage keeps its own; the one next action leads on.
    press(driver, "2").await;
    until(driver, &format!("{SHOWN} === 'sinks'")).await;
    press(driver, "3").await;
    until(driver, &format!("{SHOWN} === 'layers'")).await;
    click(driver, "#next-stage").await;
    until(driver, "document.querySelector('.desk-head h2').textContent === 'Catchments'").await;
    assert_eq!(
        value(driver, "document.querySelector('#next-place').textContent.trim()").await,
        "Place a pour point P"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_out_of_date_says_so_in_place_and_is_mended_by_one_key() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "conditioning").await;
    click(driver, "[data-to-section=settings]").await;
    typed(driver, "#max-fill", "2").await;
    driver.find(By::Id("max-fill")).await.unwrap().send_keys(Key::Tab + "").await.unwrap();
    until(driver, "document.querySelector('.desk-head[data-stale]')").await;
    for stage in ["3", "4", "5"] {
        press(driver, stage).await;
        until(driver, "document.querySelector('.desk-head .stale')?.textContent.includes('Out of date')")
            .await;
        until(driver, "document.querySelector('#run-route')?.textContent.includes('Bring up to date')").await;
    }
    let table = site.get(&format!("/studies/{study}/tables/reaches")).await.text().await.unwrap();
    assert!(table.contains("Out of date"), "{table}");
    // Charts say it too.
    press(driver, "3").await;
    until(driver, "getComputedStyle(document.querySelector('#evidence .chart'), '::before').content.includes('out of date')").await;
    accessible(driver, "out of date").await;
    press(driver, "u").await;
    until(driver, "!document.querySelector('.desk-head[data-stale]')").await;
    let table = site.get(&format!("/studies/{study}/tables/reaches")).await.text().await.unwrap();
    assert!(!table.contains("Out of date"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_map_zooms_at_once_by_wheel_box_buttons_and_keys() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network").await;
    let resolution = "bothrosMap.map.getView().getResolution()";
    let still = "!bothrosMap.map.getView().getAnimating() && !bothrosMap.map.getView().getInteracting()";
    let whole = value(driver, resolution).await.as_f64().unwrap();
    let map = driver.find(By::Id("map")).await.unwrap();
    // The wheel, without a click before.
    wheel(driver, "#map", -300).await;
    until(driver, &format!("{resolution} < {whole} * 0.9 && {still}")).await;
    let near = value(driver, resolution).await.as_f64().unwrap();
    // A box.
    click(driver, "[data-zoom=box]").await;
    until(driver, "document.querySelector('[data-zoom=box]').getAttribute('aria-pressed') === 'true'").await;
    let chain = driver.action_chain().move_to_element_with_offset(&map, -60, -50).click_and_hold();
    chain.move_by_offset(60, 40).move_by_offset(60, 40).release().perform().await.unwrap();
    until(driver, &format!("{resolution} < {near} * 0.6 && {still}")).await;
    until(driver, "document.querySelector('[data-zoom=box]').getAttribute('aria-pressed') === 'false'").await;
    // The view before, by key; then the whole study, by key and by button.
    press(driver, "v").await;
    until(driver, &format!("Math.abs({resolution} / {near} - 1) < 0.05 && {still}")).await;
    press(driver, "0").await;
    until(driver, &format!("Math.abs({resolution} / {whole} - 1) < 0.01 && {still}")).await;
    click(driver, "[data-zoom=in]").await;
    until(driver, &format!("{resolution} < {whole} * 0.6 && {still}")).await;
    click(driver, "[data-zoom=out]").await;
    until(driver, &format!("Math.abs({resolution} / {whole} - 1) < 0.05 && {still}")).await;
    click(driver, "[data-zoom=in]").await;
    until(driver, &format!("{resolution} < {whole} * 0.6 && {still}")).await;
    click(driver, "[data-zoom=whole]").await;
    until(driver, &format!("Math.abs({resolution} / {whole} - 1) < 0.01 && {still}")).await;
    // By double click.
    driver.action_chain().move_to_element_center(&map).double_click().perform().await.unwrap();
    until(driver, &format!("{resolution} < {whole} * 0.8 && {still}")).await;
    // To a layer.
    press(driver, "0").await;
    until(driver, &format!("Math.abs({resolution} / {whole} - 1) < 0.01 && {still}")).await;
    let centre = value(driver, "bothrosMap.map.getView().getCenter().join()").await;
    click(driver, "[data-zoom-to=streams]").await;
    until(driver, &format!("bothrosMap.map.getView().getCenter().join() !== {centre} && {still}")).await;
    // The list of what is drawn folds to a button, and stays so.
    click(driver, "[data-fold-list]").await;
    until(driver, "!document.querySelector('#drawn [data-layer]')").await;
    driver.refresh().await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes' && document.querySelector('[data-fold-list]')")
        .await;
    assert!(value(driver, "document.querySelector('#drawn [data-layer]')").await.is_null());
    click(driver, "[data-fold-list]").await;
    until(driver, "document.querySelector('#drawn [data-layer]')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_crs_is_found_by_typing() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("bare.asc");
    let rows: String =
        (0..20).map(|r| (0..30).map(|c| format!("{} ", 100 + r + c)).collect::<String>() + "\n").collect();
    std::fs::write(
        &path,
        format!(
            "ncols 30\nnrows 20\nxllcorner 500000\nyllcorner 4758000\ncellsize 10\nNODATA_value -9999\n{rows}"
        ),
    )
    .unwrap();
    let study = site.study(&path, "Bare").await;
    let browser = browser().await;
    let driver = &browser.driver;
    // For a file that does not tell its CRS.
    open(driver, &site, study, "terrain").await;
    typed(driver, "#crs-source", "28N").await;
    until(driver, "document.querySelector('.crs-list [data-crs]')?.dataset.crs === 'EPSG:32628'").await;
    accessible(driver, "choosing a CRS").await;
    click(driver, ".crs-list [data-crs='EPSG:32628']").await;
    until(driver, "document.querySelector('.desk-head #next-stage')").await;
    // For another to reproject to; Enter in the search sends nothing.
    click(driver, "[data-to-section=preparation]").await;
    click(driver, "#prepare details summary").await;
    typed(driver, "#crs-warp", "27N").await;
    until(driver, "document.querySelector('#prepare .crs-list [data-crs]')?.dataset.crs === 'EPSG:32627'")
        .await;
    driver.find(By::Id("crs-warp")).await.unwrap().send_keys(Key::Enter + "").await.unwrap();
    click(driver, "#prepare .crs-list [data-crs='EPSG:32627']").await;
    until(driver, "document.querySelector('#offer [name=crs]').value === 'EPSG:32627'").await;
    click(driver, "#prepare .btn-primary").await;
    until(driver, "document.querySelector('#desk').textContent.includes('reprojected from EPSG:32628')")
        .await;
    let facts = site.store().study(study).await.unwrap().terrain.unwrap();
    assert_eq!(facts["crs"]["epsg"], 32627);
}

/// A shapefile without its .prj, which does not tell its CRS.
fn without_crs(dir: &std::path::Path, points: &[[f64; 2]]) -> Vec<(String, Vec<u8>)> {
    let csv: String = points.iter().map(|p| format!("{} {}, ", p[0], p[1])).collect();
    let source = dir.join("line.csv");
    std::fs::write(&source, format!("id,WKT\n1,\"LINESTRING ({})\"\n", csv.trim_end_matches(", "))).unwrap();
    let out = dir.join("ditch.shp");
    let made = std::process::Command::new("ogr2ogr").arg(&out).arg(&source).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    ["shp", "shx", "dbf"]
        .map(|e| (format!("ditch.{e}"), std::fs::read(out.with_extension(e)).unwrap()))
        .into_iter()
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_layer_without_a_crs_asks_for_it() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let files = without_crs(dir.path(), &[[502_010.0, 4_759_900.0], [502_012.0, 4_757_010.0]]);
    let parts: Vec<(&str, Vec<u8>)> = files.iter().map(|(n, b)| (n.as_str(), b.clone())).collect();
    let (status, told) = add_layer(&site, study, "mapped_streams", &parts).await;
    assert_eq!(status, StatusCode::CONFLICT, "{told}");
    let asked: serde_json::Value = serde_json::from_str(&told).unwrap();
    assert!(asked["text"].as_str().unwrap().contains("does not tell its CRS"), "{asked}");
    assert_eq!(asked["fit"][0]["crs"], "EPSG:32628", "the study's own first: {asked}");
    // By hand, where mapped streams are missed: at Network.
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network").await;
    click(driver, "[data-to-section=layers]").await;
    driver
        .execute("document.getElementById('layer-role').value = 'mapped_streams'; return 1", vec![])
        .await
        .unwrap();
    let paths: Vec<String> =
        files.iter().map(|(n, _)| dir.path().join(n).to_str().unwrap().to_owned()).collect();
    driver.find(By::Id("layer-file")).await.unwrap().send_keys(paths.join("\n")).await.unwrap();
    click(driver, "#add-layer button").await;
    until(
        driver,
        "!document.getElementById('layer-crs-ask').hidden && document.querySelector('[data-layer-crs]')",
    )
    .await;
    accessible(driver, "a layer without a CRS").await;
    click(driver, "[data-layer-crs='EPSG:32628']").await;
    until(driver, "document.querySelector('#layers h3')?.textContent === 'Input layers: 1'").await;
    // In a CRS in which it lies elsewhere it is refused.
    let layers = site.store().layers(study).await.unwrap();
    assert_eq!((layers.len(), layers[0].features), (1, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_is_recommended_is_mended_in_one_run_in_the_right_order() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    // Whole metres, a sea in the west, a spike.
    let mut values = valley();
    for row in 0..FRAME.rows {
        for col in 0..FRAME.cols {
            let z = &mut values.values_mut()[row * FRAME.cols + col];
            *z = if col < 60 { 0.0 } else { z.round().max(1.0) };
        }
    }
    values.values_mut()[100 * FRAME.cols + 300] += 300.0;
    let path = dir.path().join("coast.tif");
    write_cog(&path, &values, &FRAME, &utm(), f32::NAN, Coarser::Mean, "elevation", "m").unwrap();
    let study = site.study(&path, "Coast").await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "terrain").await;
    let told = value(driver, "document.getElementById('mend-all').textContent").await;
    let told = told.as_str().unwrap();
    let at = |of: &str| told.find(of).unwrap_or_else(|| panic!("{of}: {told}"));
    assert!(at("spikes are") < at("the sea") && at("the sea") < at("steps of rounding"), "{told}");
    click(driver, "#mend-all button").await;
    until(driver, "!document.getElementById('mend-all') && document.querySelector('#desk').textContent.includes('half a step of rounding')").await;
    let facts = site.store().study(study).await.unwrap().terrain.unwrap();
    assert_eq!(
        facts["summary"]["nodata_cells"],
        60 * FRAME.rows,
        "all of the sea, and nothing else: {}",
        facts["done"]
    );
    assert_eq!(facts["quality"]["spikes"], 0, "{}", facts["done"]);
    assert!(facts["quality"]["step_m"].is_null(), "{}", facts["quality"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn hillshade_is_a_layer_of_its_own_and_the_ground_is_quiet_after_terrain() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "terrain").await;
    let ground = "bothrosMap.layers.relief.getOpacity()";
    assert_eq!(value(driver, ground).await, 1);
    press(driver, "3").await;
    until(driver, &format!("{ground} < 0.8")).await;
    press(driver, "1").await;
    until(driver, &format!("{ground} === 1")).await;
    click(driver, "#drawn .add summary").await;
    click(driver, "[data-layer=shade]").await;
    until(driver, "bothrosMap.layers.shade.isVisible()").await;
    click(driver, "[aria-label='Style of Hillshade']").await;
    // By key on the slider, and by the tick.
    let light = driver.find(By::Css("[data-shade=azimuth]")).await.unwrap();
    light.send_keys(Key::Left + "").await.unwrap();
    let address = "bothrosMap.layers.shade.getSource().getTileUrlFunction()([0, 0, 0])";
    until(driver, &format!("{address}.includes('azimuth=310')")).await;
    click(driver, "[data-shade=four_sides]").await;
    until(driver, &format!("{address}.includes('four_sides=true')")).await;
    accessible(driver, "hillshade").await;
    // It is kept with the study, and drawn by the server: greys, other ones from four sides.
    let kept = async {
        loop {
            let style = site.json(&format!("/studies/{study}/map")).await["style"]["shade"].clone();
            if style["four_sides"] == true && style["azimuth"] == 310 {
                return;
            }
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(std::time::Duration::from_secs(20), kept).await.expect("the style is kept");
    let tile = value(driver, address).await.as_str().unwrap().to_owned();
    let four = site.get(&tile).await.bytes().await.unwrap();
    let one = site.get(&tile.replace("four_sides=true", "four_sides=false")).await.bytes().await.unwrap();
    let decoder = png::Decoder::new(std::io::Cursor::new(&four[..]));
    let mut reader = decoder.read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut pixels).unwrap();
    assert!(pixels.chunks_exact(4).all(|p| p[0] == p[1] && p[1] == p[2]), "greys");
    assert_ne!(four, one);
}
