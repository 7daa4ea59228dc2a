//! Files, layers and pictures by hand, and a DEM that is prepared.

use bothros_core::Grid;
use thirtyfour::prelude::*;

use super::part;
use crate::support::browser::{browser, press, until};
use crate::support::hand::Hand;
use crate::support::{FRAME, STREAM, Site, geojson, valley, valley_file};

#[tokio::test(flavor = "multi_thread")]
async fn layers_and_pictures_are_added_and_changed_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Layers").await;
    let file = dir.path().join("streams.geojson");
    std::fs::write(&file, geojson(&[&STREAM])).unwrap();
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "terrain", "layers").await;
    hand.picks("#layer-role", "Breach").await;
    hand.gives("#layer-file", &[&file]).await;
    for (field, text) in [
        ("#layer-name", "layer"),
        ("#layer-crs", "EPSG:4326"),
        ("#layer-source", "survey"),
        ("#layer-date", "2024"),
        ("#layer-scale", "1:5000"),
        ("#layer-licence", "none needed"),
    ] {
        hand.types(field, text).await;
    }
    hand.sends("/layers", hand.clicks("#add-layer > button:not([type])")).await;
    until(hand.driver, "document.querySelector('#layers .layers')?.textContent.includes('1:5000') || document.querySelector('#layers .layers')?.textContent.includes('survey')").await;
    // Drawn as the role that is chosen, reshaped, deleted.
    hand.picks("#layer-role", "Walls").await;
    hand.sends("/draw", async {
        hand.clicks("#add-layer [data-draw='']").await;
        hand.draws(&[(501_500.0, 4_758_900.0), (502_500.0, 4_758_900.0)]).await;
    })
    .await;
    until(hand.driver, "document.getElementById('map').dataset.features === '2'").await;
    hand.clicks("#add-layer [data-edit]").await;
    hand.draws(&[(501_800.0, 4_758_900.0)]).await;
    until(hand.driver, "document.getElementById('map')").await;
    press(hand.driver, Key::Delete).await;
    until(hand.driver, "document.getElementById('map').dataset.features === '1'").await;
    press(hand.driver, Key::Escape).await;
    hand.sends("/delete", hand.clicks("#layers .layers [hx-post$='/delete']")).await;
    hand.sends("/draw", async {
        hand.clicks("[data-draw=boundaries]").await;
        hand.draws(&[(501_500.0, 4_759_000.0), (502_500.0, 4_759_000.0), (502_500.0, 4_758_000.0)]).await;
    })
    .await;
    // A picture with its place, shown, removed.
    let picture = dir.path().join("picture.png");
    std::fs::write(&picture, bothros_formats::encode_png(40, 30, &[120; 4800]).unwrap()).unwrap();
    let world = dir.path().join("picture.pgw");
    std::fs::write(&world, "100\n0\n0\n-100\n500050\n4759950\n").unwrap();
    hand.gives("#backdrop-file", &[&picture, &world]).await;
    for (field, text) in [
        ("#backdrop-source", "survey"),
        ("#backdrop-date", "2023"),
        ("#backdrop-scale", "1 m"),
        ("#backdrop-licence", "none needed"),
    ] {
        hand.types(field, text).await;
    }
    hand.sends("/backdrops", hand.clicks("#add-backdrop button")).await;
    hand.clicks("[data-show-picture]").await;
    until(hand.driver, "[...bothrosMap.shown].some(k => k.startsWith('backdrop-'))").await;
    hand.sends("/delete", hand.clicks("[hx-post*='/backdrops/']")).await;
    until(hand.driver, "!document.querySelector('[data-show-picture]')").await;
    assert!(site.store().backdrops(study).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_put_in_order_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let whole = valley();
    let mut east = whole.window(0, 180, FRAME.rows, 220);
    for z in east.values_mut() {
        *z += 2.0;
    }
    let west = part(dir.path(), "west.tif", &whole.window(0, 0, FRAME.rows, 220), (0, 0));
    let east = part(dir.path(), "east.tif", &east, (0, 180));
    let (status, text) = site.upload(&[&west, &east], "Halves").await;
    assert!(status.is_success(), "{text}");
    let study = site.store().studies().await.unwrap()[0].id;
    site.finish(study).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "terrain", "files").await;
    let first = "document.querySelector('.files li strong').textContent";
    hand.sends("/move", hand.clicks("[aria-label='Up: east.tif counts more']")).await;
    until(hand.driver, &format!("{first} === 'east.tif'")).await;
    hand.sends("/move", hand.clicks("[aria-label='Down: east.tif counts less']")).await;
    until(hand.driver, &format!("{first} === 'west.tif'")).await;
    hand.sends("/level", hand.clicks("#desk [data-section=findings] form[hx-post$='/level'] button")).await;
    hand.sends("/level", hand.clicks("#desk [data-section=files] form[hx-post$='/level'] button")).await;
    hand.clicks(".files li:first-child details > summary").await;
    for (field, text) in [
        ("source", "survey"),
        ("date", "2024-03"),
        ("scale", "10 m"),
        ("licence", "none needed"),
        ("datum", "EGM2008"),
    ] {
        hand.types(&format!(".files li:first-child [name={field}]"), text).await;
    }
    hand.sends("/provenance", hand.clicks(".files li:first-child form button")).await;
    until(hand.driver, "document.querySelector('.files summary').textContent.includes('survey')").await;
    // Heights of the other file are counted from nobody knows what.
    let told =
        "document.querySelector('[data-section=findings]').textContent.includes('not stated of east.tif')";
    until(hand.driver, told).await;
    hand.sends("/remove", hand.clicks("[aria-label='Remove east.tif']")).await;
    hand.gives("#more-files", &[&east]).await;
    hand.sends("/dem-files", hand.clicks("form[data-send$='/dem-files'] button")).await;
    until(hand.driver, "document.querySelectorAll('.files li').length === 2").await;
    // Another DEM of the area, worked on, left, deleted.
    let other = part(dir.path(), "other.tif", &valley(), (0, 0));
    hand.gives("#candidate-files", &[&other]).await;
    hand.sends("/candidates", hand.clicks("form[data-send$='/candidates'] button")).await;
    until(hand.driver, "document.querySelector('[hx-post$=\"/take-up\"]')").await;
    hand.sends("/take-up", hand.clicks("[hx-post$='/take-up']")).await;
    until(hand.driver, "document.querySelector('[hx-post*=\"/candidates/\"][hx-post$=\"/delete\"]')").await;
    hand.sends("/delete", async {
        hand.clicks("[hx-post*='/candidates/'][hx-post$='/delete']").await;
        hand.agrees().await;
    })
    .await;
    until(hand.driver, "!document.querySelector('[hx-post*=\"/candidates/\"]')").await;
}

/// The valley with a sea in the west, a spike, whole-metre steps, and a hole.
fn doubtful() -> Grid<f32> {
    let mut dem = valley();
    for (i, z) in dem.values_mut().iter_mut().enumerate() {
        *z = if i % FRAME.cols < 30 { 0.0 } else { z.round() };
    }
    dem.values_mut()[100 * FRAME.cols + 300] += 120.0;
    dem.values_mut()[200 * FRAME.cols + 100] = f32::NAN;
    dem
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dem_is_prepared_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&part(dir.path(), "doubtful.tif", &doubtful(), (0, 0)), "Doubtful").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "terrain", "findings").await;
    hand.clicks("#desk [data-section=findings] .finding a[data-x]").await;
    until(hand.driver, "bothrosMap.marker?.getPosition()").await;
    // Everything that can be chosen, and the plan that follows.
    for field in ["steps", "spikes", "sea", "voids", "full_rectangle"] {
        hand.sends("/prepare-plan", hand.clicks(&format!("#prepare [name={field}]"))).await;
    }
    hand.sends("/prepare-plan", hand.types("#prepare #cell-size", "20")).await;
    hand.sends("/prepare-plan", hand.picks("#prepare-resampling", "cub")).await;
    hand.clicks("#prepare-align").await;
    press(hand.driver, Key::Escape).await;
    hand.sends("/prepare-plan", hand.picks("#prepare-clip", "what")).await;
    hand.sends("/prepare-plan", hand.types("#prepare-margin", "50")).await;
    until(hand.driver, "/\\d/.test(document.getElementById('plan').textContent)").await;
    hand.clicks("#prepare details > summary").await;
    hand.types("#crs-warp", "29N").await;
    until(hand.driver, "document.querySelector('#prepare .crs-list button')").await;
    hand.sends("/prepare", hand.clicks("#prepare > .btn-primary")).await;
    let prepared = site.store().study(study).await.unwrap().terrain.unwrap()["prepared"].clone();
    for field in ["steps", "spikes", "sea", "voids", "full_rectangle"] {
        assert_eq!(prepared[field], true, "{field}: {prepared}");
    }
    // Clipped to what was seen, no row is left empty, and none is called ragged.
    let page = site.get(&format!("/studies/{study}/desk/terrain")).await.text().await.unwrap();
    assert!(!page.contains("Ragged rim"), "{page}");
    hand.sends("/reread", async {
        hand.clicks("[hx-post$='/reread']").await;
        hand.agrees().await;
    })
    .await;
    let beside = part(dir.path(), "beside.tif", &valley().window(0, 0, 40, 40), (0, 0));
    hand.gives("#align-file", &[&beside]).await;
    hand.sends("/align", hand.clicks("form[data-send$='/align'] button")).await;
    hand.sends("/prepare", hand.clicks("#mend-all button")).await;
}
