//! Controls that need a state of their own: an archive, a file that asks something back, a job that runs, a damaged study.

use std::path::Path;

use thirtyfour::prelude::*;

use crate::bad_input::translated;
use crate::processes::rough_file;
use crate::support::browser::{browser, click, press, until, value};
use crate::support::hand::Hand;
use crate::support::{
    FRAME, Site, add_layer, damage, database, geojson, srtm_file, utm, valley, valley_file, written,
};

/// A ring around the middle of the valley, WGS 84.
fn boundary(dir: &Path) -> std::path::PathBuf {
    let to = bothros_formats::Transform::to_wgs84(&utm()).unwrap();
    let corners = [
        (501_000.0, 4_759_000.0),
        (503_000.0, 4_759_000.0),
        (503_000.0, 4_758_000.0),
        (501_000.0, 4_759_000.0),
    ];
    let ring: Vec<_> = corners.iter().map(|&(x, y)| to.point(x, y).unwrap()).map(|(x, y)| [x, y]).collect();
    let feature = serde_json::json!({ "type": "Feature", "properties": {}, "geometry": { "type": "Polygon", "coordinates": [ring] } });
    let path = dir.join("boundary.geojson");
    std::fs::write(
        &path,
        serde_json::json!({ "type": "FeatureCollection", "features": [feature] }).to_string(),
    )
    .unwrap();
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn elevations_are_fetched_by_hand() {
    let dir = tempfile::tempdir().unwrap();
    let (site, _) = crate::archive::site(dir.path()).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    driver.goto(format!("{}/begin", site.base)).await.unwrap();
    until(driver, "document.querySelectorAll('.collection').length === 1").await;
    click(driver, "#draw-polygon").await;
    let map = driver.find(By::Id("map")).await.unwrap();
    for (x, y) in [(-60, -50), (70, -40), (20, 60)] {
        driver.action_chain().move_to_element_with_offset(&map, x, y).click().perform().await.unwrap();
    }
    press(driver, Key::Enter).await;
    until(driver, "/file/.test(document.getElementById('told').textContent)").await;
    let ring = boundary(dir.path());
    hand.gives("#boundary-file", &[&ring]).await;
    until(driver, "document.getElementById('boundary-told').textContent.trim() === 'boundary'").await;
    hand.types("#study-name", "Fetched").await;
    hand.types("#study-description", "for the town").await;
    until(driver, "!document.getElementById('go').disabled").await;
    // The archive's files are gone at first, and then there again.
    let kept: Vec<(std::path::PathBuf, Vec<u8>)> = std::fs::read_dir(dir.path())
        .unwrap()
        .map(|e| e.unwrap().path())
        .filter(|p| p.extension().is_some_and(|e| e == "tif"))
        .map(|p| (p.clone(), std::fs::read(&p).unwrap()))
        .collect();
    for (path, _) in &kept {
        std::fs::remove_file(path).unwrap();
    }
    click(driver, "#go").await;
    until(driver, "document.querySelector('[hx-post$=\"/fetch-again\"]')").await;
    for (path, content) in &kept {
        std::fs::write(path, content).unwrap();
    }
    let study = site.store().studies().await.unwrap()[0].id;
    hand.sends("/fetch-again", hand.clicks("[hx-post$='/fetch-again']")).await;
    until(driver, "document.querySelector('#desk')?.textContent.includes('Go on to Conditioning')").await;
    // Another DEM from the archive.
    hand.opens(&site, study, "terrain", "files").await;
    hand.clicks("#archive-set").await;
    press(driver, Key::Escape).await;
    hand.types("#archive-margin", "20").await;
    hand.sends("/fetch", hand.clicks("form[hx-post$='/fetch'] button")).await;
    until(driver, "document.querySelector('[hx-post$=\"/take-up\"]')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_asks_back_is_answered_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let two =
        translated(dir.path(), "two.tif", &["-ot", "Float32", "-b", "1", "-b", "1", "-a_srs", "EPSG:32628"]);
    assert!(site.upload(&[&two], "two").await.0.is_success());
    let study = site.store().studies().await.unwrap()[0].id;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "terrain", "findings").await;
    hand.picks("#band", "2").await;
    hand.sends("/band", hand.clicks("form[hx-post$='/band'] button")).await;
    // It is read again, and the desk with it; it does not tell its vertical unit either.
    site.finish(study).await;
    until(hand.driver, "document.getElementById('notice').textContent.includes('Read two.tif')").await;
    hand.rests().await;
    until(hand.driver, "document.querySelector('#desk').textContent.includes('20 × 20')").await;
    hand.picks("#unit", "feet").await;
    hand.sends("/vertical-unit", hand.clicks("form[hx-post$='/vertical-unit'] button")).await;
    until(hand.driver, "document.querySelector('#desk').textContent.includes('foot')").await;
    // One in latitude and longitude is brought to eastings and northings.
    assert!(site.upload(&[&srtm_file(dir.path())], "degrees").await.0.is_success());
    let study = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
    site.finish(study).await;
    hand.opens(&site, study, "terrain", "findings").await;
    hand.clicks("form.warp details > summary").await;
    hand.types("#crs-warp", "32616").await;
    until(hand.driver, "document.querySelector('form.warp .crs-list button')").await;
    hand.picks("#resampling", "cub").await;
    hand.types("form.warp #cell-size", "200").await;
    hand.sends("/prepare", hand.clicks("form.warp > .btn-primary")).await;
    until(hand.driver, "document.querySelector('#desk').textContent.includes('Go on to Conditioning')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_takes_long_is_cancelled_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&rough_file(dir.path(), 2400), "Rough").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "conditioning", "settings").await;
    click(hand.driver, "#desk-side .next").await;
    until(hand.driver, "document.querySelector('#log [data-job]')").await;
    click(hand.driver, "#log [hx-post*='/cancel/']").await;
    until(hand.driver, "!document.querySelector('#log [data-job]')").await;
    assert_eq!(site.store().last_job(study).await.unwrap().unwrap().state, "cancelled");
    assert!(site.send(&format!("/studies/{study}/route"), &[]).await.0.is_success());
    site.finish(study).await;
    hand.opens(&site, study, "network", "threshold").await;
    click(hand.driver, "[data-abort=evidence]").await;
    until(hand.driver, "document.querySelector('#evidence').textContent.includes('Cancelled')").await;
    // Streams that were burned are judged without burning; that too is cancelled, and the evidence stands there again.
    let stream = [[500_400.0, 4_759_600.0], [510_000.0, 4_750_400.0]];
    add_layer(&site, study, "mapped_streams", &[("streams.geojson", geojson(&[&stream]))]).await;
    let choices = [
        ("sinks", "fill"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", ""),
        ("breach_depth_m", ""),
        ("burn", "trench"),
        ("burn_depth_m", "5"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
    ];
    assert!(site.send(&format!("/studies/{study}/conditioning"), &choices).await.0.is_success());
    assert!(site.send(&format!("/studies/{study}/route"), &[]).await.0.is_success());
    site.finish(study).await;
    hand.opens(&site, study, "network", "threshold").await;
    until(hand.driver, "document.getElementById('judge')").await;
    hand.clicks("#judge").await;
    click(hand.driver, "[data-abort=judging]").await;
    until(hand.driver, "document.getElementById('judge')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pour_points_are_placed_and_measured_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Points").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "points").await;
    hand.sends("/snapping", hand.types("#snap-m", "60")).await;
    hand.sends("/snapping", hand.picks("#snap-to", "larg")).await;
    hand.sends("/snapping", hand.picks("#snap-to", "near")).await;
    // Before the click the pointer tells what drains there and where the point would snap.
    hand.clicks("#desk [data-section=points] [data-place]").await;
    let map = driver.find(By::Id("map")).await.unwrap();
    driver.action_chain().move_to_element_center(&map).perform().await.unwrap();
    until(driver, "/^Here .* drain.*(snap|stays)/.test(document.getElementById('mode').textContent)").await;
    until(driver, "document.getElementById('map').dataset.pointed === 'Point'").await;
    hand.sends("/pour-points", hand.draws(&[(502_005.0, 4_757_500.0)])).await;
    until(driver, "document.getElementById('map').dataset.pointed === ''").await;
    hand.sends("/move", async {
        hand.clicks("[data-move]").await;
        hand.draws(&[(502_005.0, 4_757_700.0)]).await;
    })
    .await;
    hand.sends("/pour-points", async {
        hand.types("#place", "502005 4758400").await;
        hand.types("#point-name", "Ford").await;
        hand.clicks("#typed-point button").await;
    })
    .await;
    // What is measured, of one and of the other.
    hand.clicks("[data-to-section=measures]").await;
    until(driver, "document.querySelectorAll('#measures dl.measures dd').length > 20").await;
    crate::support::browser::accessible(driver, "measures of a catchment").await;
    let area = "document.querySelector('#measures dl.measures dd').textContent";
    let first = value(driver, area).await;
    hand.picks("#measured-point", "2 Ford").await;
    until(driver, &format!("{area} !== {first}")).await;
    // The curve number lets the lag equation answer; a formula is chosen with its reason, and not without.
    let lag = "[...document.querySelectorAll('#concentration tr')].find(r => r.textContent.includes('Lag equation')).children[1].textContent";
    until(driver, &format!("{lag} === 'there is no curve number'")).await;
    hand.sends("/concentration", async {
        hand.types("#curve-number", "75").await;
        hand.clicks("form:has(#curve-number) button").await;
    })
    .await;
    until(driver, &format!("Number({lag}) > 0")).await;
    hand.picks("#tc-formula", "Tém").await;
    hand.clicks("form:has(#tc-formula) button").await;
    until(driver, "document.getElementById('notice').textContent.includes('say why')").await;
    hand.types("#tc-reason", "made for basins of this size").await;
    hand.sends("/concentration", hand.clicks("form:has(#tc-formula) button")).await;
    until(driver, "document.querySelector('#concentration tr.chosen')?.textContent.includes('Témez')").await;
    // The pointer on the long profile shows the place on the map.
    let svg = driver.query(By::Css("[data-places-of-chart] svg")).first().await.unwrap();
    svg.scroll_into_view().await.unwrap();
    driver.action_chain().move_to_element_center(&svg).perform().await.unwrap();
    until(driver, "document.getElementById('map').dataset.pointed === 'Point'").await;
    hand.clicks("#desk [data-open-table=measures]").await;
    until(driver, "document.querySelectorAll('#drawer tbody tr').length > 2").await;
    let settings = site.store().study(study).await.unwrap().settings["concentration"].clone();
    assert_eq!(settings["formula"], "temez", "{settings}");
    // In the package, with the reason.
    hand.opens(&site, study, "handover", "package").await;
    click(driver, "#desk-side .next").await;
    until(driver, "document.querySelector('#download')").await;
    hand.clicks("#download").await;
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let mut read = |name: &str| {
        let mut text = String::new();
        std::io::Read::read_to_string(&mut archive.by_name(name).unwrap(), &mut text).unwrap();
        text
    };
    let table = read("points_measures.csv");
    // Two catchments, then the sub-basins.
    let whole = table.lines().skip(1).filter(|line| line.split(',').nth(1) == Some("")).count();
    assert!(whole == 2 && table.lines().count() > 3, "{table}");
    assert!(read("README.txt").contains("Témez 1978 is used, because: made for basins of this size"));
    // Undone one by one.
    for path in ["undo", "undo"] {
        assert!(site.send(&format!("/studies/{study}/{path}"), &[]).await.0.is_success());
    }
    let settings = site.store().study(study).await.unwrap().settings["concentration"].clone();
    assert_eq!(
        (&settings["formula"], &settings["curve_number"]),
        (&serde_json::Value::Null, &serde_json::Value::Null)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_do_what_the_help_says() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    // Two hollows are left as they are, so that streams end inside.
    let mut dem = valley();
    for (i, z) in dem.values_mut().iter_mut().enumerate() {
        let (row, col) = (i / FRAME.cols, i % FRAME.cols);
        if (140..150).contains(&row) && (195..206).contains(&col) {
            *z -= 30.0;
        }
    }
    let study = site.study(&written(dir.path(), "hollow.tif", &dem, &FRAME), "Keys").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "conditioning", "settings").await;
    hand.sends("/conditioning", hand.picks("#sinks", "leave all")).await;
    hand.sends("/route", press(driver, "u")).await;
    site.finish(study).await;
    hand.opens(&site, study, "network", "reaches").await;
    hand.clicks("#continuity details > summary").await;
    until(driver, "document.querySelector('#continuity details[open] tr')").await;
    // Moving and zooming by keys when the map has the focus.
    click(driver, "#map").await;
    for (key, changed) in [
        (Key::Up + "", "getCenter()[1]"),
        (Key::Down + "", "getCenter()[1]"),
        (Key::Left + "", "getCenter()[0]"),
        (Key::Right + "", "getCenter()[0]"),
        ("+".into(), "getResolution()"),
        ("-".into(), "getResolution()"),
    ] {
        let look = format!("bothrosMap.map.getView().{changed}");
        let before = value(driver, &look).await;
        driver.find(By::Id("map")).await.unwrap().send_keys(key).await.unwrap();
        until(driver, &format!("{look} !== {before}")).await;
    }
    // The threshold by brackets.
    let cells = "Number(document.getElementById('threshold').dataset.cells)";
    hand.opens(&site, study, "network", "threshold").await;
    let before = value(driver, "document.getElementById('slider').value").await;
    hand.sends("/threshold", press(driver, "[")).await;
    until(
        driver,
        &format!("{cells} > 0 && document.getElementById('slider').value !== '{}'", before.as_str().unwrap()),
    )
    .await;
    hand.sends("/threshold", press(driver, "]")).await;
    press(driver, "z").await;
    press(driver, Key::Escape).await;
    let map = driver.find(By::Id("map")).await.unwrap();
    driver.action_chain().move_to_element_center(&map).perform().await.unwrap();
    until(driver, "/E \\d/.test(document.getElementById('readout').textContent)").await;
    press(driver, "x").await;
    until(driver, "!document.getElementById('notice').hidden").await;
    hand.sends("/draw", async {
        press(driver, "b").await;
        until(driver, "!document.getElementById('mode').hidden").await;
        hand.draws(&[(502_005.0, 4_758_700.0), (502_005.0, 4_758_300.0)]).await;
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_that_cannot_be_read_is_saved_by_hand() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let bad = site.study(&valley_file(dir.path()), "bad").await;
    damage(&url, bad);
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&site.base).await.unwrap();
    until(driver, "window.Alpine && document.querySelector('a[href$=\"/raw.json\"]')").await;
    click(driver, "a[href$='/raw.json']").await;
}
