//! The Conditioning stage: the review of barriers, layers, lines drawn by hand, choices; over the wire
//! and in the browser.

use std::path::{Path, PathBuf};

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::{FRAME, STREAM, Site, add_layer, dammed, geojson, written};
use bothros_store::LayerRole;
use reqwest::StatusCode;
use thirtyfour::prelude::*;

/// The dammed valley with a pit that is only noise.
fn dammed_file(dir: &Path) -> PathBuf {
    let mut dem = dammed();
    dem.values_mut()[60 * FRAME.cols + 120] -= 0.2;
    written(dir, "dammed.tif", &dem, &FRAME)
}

async fn job(site: &Site, study: i64, path: &str) -> String {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    job.message
}

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
    assert!(card.contains("a mapped stream passes") && card.contains("data-chart=\"crossing\""), "{card}");

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
    assert!(desk.contains("Out of date") && desk.contains("1 to breach"), "out of date");
    let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
    assert_eq!(rail.matches("out of date").count(), 2, "Conditioning and Network: {rail}");
    job(&site, study, "route").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    assert!(routing["sinks"]["volume_m3"].as_f64().unwrap() < 500.0, "{}", routing["sinks"]);
    assert!(routing["conditioned"]["ground"]["cut_m3"].as_f64().unwrap() > 1000.0);
    let desk = site.get(&format!("/studies/{study}/desk/conditioning")).await.text().await.unwrap();
    assert!(!desk.contains("Out of date"));
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
    until(driver, "document.querySelector('.barrier-card .chart .fill.clay')").await;
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
    until(driver, "document.querySelector('[data-chart=cut_and_fill]') && bothrosMap.layers.change").await;
    accessible(driver, "cut and fill").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    assert!(routing["conditioned"]["ground"]["cut_m3"].as_f64().unwrap() > 500.0);
    press(driver, Key::Control + "z").await;
    until(driver, "document.querySelector('#desk').textContent.includes('Out of date')").await;
}

/// A table of points with elevations, in the study's CRS.
fn heights(rows: &[(f64, f64, f64)]) -> Vec<u8> {
    let lines: String = rows.iter().map(|(x, y, z)| format!("{x},{y},{z}\n")).collect();
    format!("x,y,elevation\n{lines}").into_bytes()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_embankment_is_taken_away_by_rebuilding_the_ground() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    // An area over the railway where the stream passes; beside it the ground is known in two places.
    let area = "[[501905,4758600],[502105,4758600],[502105,4758370],[501905,4758370]]";
    let (status, told) =
        site.send(&format!("/studies/{study}/draw"), &[("role", "rebuild_areas"), ("line", area)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let flat = b"x,y\n502005,4758500\n".to_vec();
    let (status, told) = add_layer(&site, study, "elevation_points", &[("flat.csv", flat)]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && told.contains("tells no elevations"), "{told}");
    let known = heights(&[(502_005.0, 4_758_485.0, 524.3), (502_005.0, 4_758_405.0, 520.3)]);
    let (status, told) = add_layer(&site, study, "elevation_points", &[("known.csv", known)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    job(&site, study, "route").await;
    let routing = site.store().study(study).await.unwrap().routing.unwrap();
    let steps = routing["conditioned"]["steps"].as_array().unwrap();
    assert_eq!(steps[0]["kind"], "rebuild");
    assert!(steps[0]["moved"]["cut_m3"].as_f64().unwrap() > 1000.0, "{}", steps[0]);
    // Where the railway stood in the way, water passes.
    let place = site.json(&format!("/studies/{study}/cell?x=502005&y=4758485")).await;
    assert!((place["elevation_m"].as_f64().unwrap() + place["fill_m"].as_f64().unwrap()) > 523.0);
    assert!(routing["sinks"]["volume_m3"].as_f64().unwrap() < 5000.0, "{}", routing["sinks"]);
    let desk = site.get(&format!("/studies/{study}/desk/conditioning")).await.text().await.unwrap();
    assert!(
        desk.contains("Inside areas to rebuild keep") && desk.contains("Ground rebuilt in areas"),
        "{desk}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_over_high_ground_are_listed_and_burning_is_seen_across() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    let section = format!("/studies/{study}/burn-section");
    assert_eq!(site.get(&section).await.status(), StatusCode::UNPROCESSABLE_ENTITY, "nothing is chosen");
    job(&site, study, "review").await;
    let review = site.store().study(study).await.unwrap().review.unwrap();
    let astray = review["astray"].as_array().unwrap();
    assert!(!astray.is_empty(), "the stream climbs over the railway");
    let row = astray[0]["at"]["row"].as_u64().unwrap();
    assert!((148..=154).contains(&row), "{astray:?}");
    let view = "west=500000&south=4757000&east=504000&north=4760000";
    let layers = site.json(&format!("/studies/{study}/layers?{view}")).await;
    assert!(layers["features"].as_array().unwrap().iter().any(|f| f["role"] == "provisional"));
    add_layer(&site, study, "mapped_streams", &[("streams.geojson", geojson(&[&STREAM]))]).await;
    let burn = [
        ("sinks", "fill"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", ""),
        ("breach_depth_m", ""),
        ("burn", "trench"),
        ("burn_depth_m", "7"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
    ];
    assert_eq!(site.send(&format!("/studies/{study}/conditioning"), &burn).await.0, StatusCode::NO_CONTENT);
    let seen = site.get(&format!("{section}?x=502100&y=4759000")).await.text().await.unwrap();
    assert!(
        seen.contains("data-chart=\"burned_section\"") && seen.contains("below the lower bank"),
        "{seen}"
    );
    job(&site, study, "route").await;
    let beds = site.store().study(study).await.unwrap().routing.unwrap()["conditioned"]["beds"].clone();
    assert!(
        beds[1].as_u64().unwrap() > 200 && beds[0].as_f64() > Some(0.95 * beds[1].as_f64().unwrap()),
        "{beds}"
    );
}

/// From afar the large features are sent, and it is said that there are more; two people who draw at once
/// lose nothing.
#[tokio::test(flavor = "multi_thread")]
async fn layers_may_be_large_and_edited_by_two() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&dammed_file(dir.path()), "Dammed").await;
    let many: Vec<[[f64; 2]; 2]> = (0..20_000)
        .map(|i| {
            let (x, y) = (500_010.0 + (i % 200) as f64 * 19.0, 4_757_010.0 + (i / 200) as f64 * 29.0);
            [[x, y], [x + 5.0, y + if i == 777 { 900.0 } else { 3.0 }]]
        })
        .collect();
    let lines: Vec<&[[f64; 2]]> = many.iter().map(|l| &l[..]).collect();
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("many.geojson", geojson(&lines))]).await;
    assert!(status == StatusCode::NO_CONTENT && told.contains("20000 of mapped streams"), "{told}");
    // A larger file is read in a job, with progress.
    let larger: Vec<&[[f64; 2]]> = lines.iter().cycle().take(140_000).copied().collect();
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("larger.geojson", geojson(&larger))]).await;
    assert!(status == StatusCode::NO_CONTENT && told.contains("being read"), "{told}");
    let job = site.finish(study).await;
    assert!(job.state == "done" && job.message.contains("140000 of mapped streams"), "{}", job.message);
    let (status, told) = site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let all = site
        .json(&format!("/studies/{study}/layers?west=500000&south=4757000&east=504000&north=4760000"))
        .await;
    let sent = all["features"].as_array().unwrap();
    assert_eq!((sent.len(), &all["complete"]), (5000, &serde_json::json!(false)));
    assert!(sent.iter().any(|f| f["id"] == 778), "the longest is among them");
    let near = site
        .json(&format!("/studies/{study}/layers?west=501000&south=4757500&east=501300&north=4757700"))
        .await;
    assert_eq!(near["complete"], true);
    // Two at once.
    let line = |y: f64| format!("[[500500,{y}],[500500,{}]]", y - 50.0);
    let (a, b) = (line(4_759_000.0), line(4_758_900.0));
    let address = format!("/studies/{study}/draw");
    let (fields_a, fields_b) = ([("role", "walls"), ("line", &a[..])], [("role", "walls"), ("line", &b[..])]);
    let (one, two) = tokio::join!(site.send(&address, &fields_a), site.send(&address, &fields_b));
    assert_eq!((one.0, two.0), (StatusCode::NO_CONTENT, StatusCode::NO_CONTENT), "{one:?} {two:?}");
    assert_eq!(site.store().features_of(study, LayerRole::Walls).await.unwrap().len(), 2);
}
