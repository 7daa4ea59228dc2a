//! Every control, used as a person would: what is clicked, typed and chosen reaches the server, and what comes back is shown.

use std::path::{Path, PathBuf};

use bothros_core::{Frame, Grid};
use thirtyfour::prelude::*;

use crate::support::browser::{browser, click, press, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, STREAM, Site, add_layer, dammed, geojson, valley, valley_file, written};

/// The part of the study's frame that begins at a cell.
fn part(dir: &Path, name: &str, values: &Grid<f32>, at: (usize, usize)) -> PathBuf {
    written(dir, name, values, &FRAME.window(at.0, at.1, values.rows(), values.cols()))
}

/// The dammed valley with a hollow and a hole beside the railway.
fn holed() -> Grid<f32> {
    let mut dem = dammed();
    for i in 0..dem.len() {
        let cell = dem.cell(i);
        let z = &mut dem.values_mut()[i];
        match (cell.row, cell.col) {
            (60..=64, 120..=124) => *z -= 4.0,
            (100..=102, 300..=302) => *z = f32::NAN,
            _ => {}
        }
    }
    dem
}

fn streams() -> Vec<(&'static str, Vec<u8>)> {
    let astray: [[f64; 2]; 2] = [[501_205.0, 4_759_800.0], [501_205.0, 4_757_500.0]];
    vec![("streams.geojson", geojson(&[&STREAM, &astray]))]
}

#[tokio::test(flavor = "multi_thread")]
async fn conditioning_is_chosen_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&part(dir.path(), "dammed.tif", &holed(), (0, 0)), "By hand").await;
    add_layer(&site, study, "mapped_streams", &streams()).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "conditioning", "lines").await;
    // Each kind of line is drawn by its own button.
    let (x, y) = (502_005.0, 4_758_500.0);
    let line = [(x, y + 160.0), (x, y - 200.0)];
    let ring = [(x - 300.0, y + 200.0), (x + 300.0, y + 200.0), (x + 300.0, y - 300.0)];
    for (role, places) in [
        ("breach_lines", &line[..]),
        ("walls", &line),
        ("rebuild_areas", &ring),
        ("closed_basins", &line[..1]),
    ] {
        hand.sends("/draw", async {
            hand.clicks(&format!("#desk [data-draw={role}]")).await;
            hand.draws(places).await;
            if places.len() == 1 {
                press(hand.driver, Key::Escape).await;
            }
        })
        .await;
    }
    until(hand.driver, "document.querySelectorAll('#layers .layers li').length === 5").await;
    // Every choice is kept as soon as it is made.
    let conditioning = "/conditioning";
    hand.sends(conditioning, hand.picks("#sinks", "breach within the limits, fill")).await;
    for (field, text) in [("#max-fill", "9"), ("#breach-length", "400"), ("#breach-depth", "12")] {
        hand.sends(conditioning, hand.types(field, text)).await;
    }
    hand.sends(conditioning, hand.picks("#routing", "D-inf")).await;
    for (field, text) in [("#burn-depth", "2"), ("#burn-buffer", "40"), ("#burn-buffer-depth", "1")] {
        hand.sends(conditioning, hand.types(field, text)).await;
    }
    hand.sends(conditioning, hand.picks("#own", "every")).await;
    for (field, text) in [("#own-step", "4"), ("#tension", "0.4"), ("#blend", "30")] {
        hand.sends(conditioning, hand.types(field, text)).await;
    }
    hand.sends(conditioning, hand.clicks("#desk [name=fill_voids]")).await;
    hand.sends(conditioning, hand.clicks("#desk [name=level_lakes]")).await;
    hand.sends(conditioning, hand.picks("#burn", "trench with")).await;
    let choices = site.store().study(study).await.unwrap().settings["conditioning"].clone();
    assert_eq!(choices["max_fill_depth_m"], 9.0, "{choices}");
    assert_eq!(
        (&choices["fill_voids"], &choices["rebuild_tension"]),
        (&true.into(), &0.4.into()),
        "{choices}"
    );
    // The burned stream is seen across, here and elsewhere, and the place is shown on the map.
    until(hand.driver, "document.querySelector('#burn-section .chart')").await;
    hand.clicks("[data-burn-here]").await;
    hand.draws(&[(502_005.0, 4_759_000.0)]).await;
    until(hand.driver, "document.querySelector('#burn-section [data-x]')").await;
    hand.clicks("#burn-section [data-x]").await;
    until(hand.driver, "bothrosMap.marker?.getPosition()").await;
    // Weights are given and taken away.
    let rain = part(dir.path(), "rain.tif", &Grid::filled(FRAME.rows, FRAME.cols, 3.0), (0, 0));
    hand.gives("#weight-file", &[&rain]).await;
    hand.types("#weight-meaning", "rain, mm").await;
    hand.sends("/weights", hand.clicks("form[data-send$='/weights'] button")).await;
    until(hand.driver, "document.querySelector('#weights summary')?.textContent.includes('rain, mm')").await;
    hand.sends("/weights/remove", hand.clicks("[hx-post$='/weights/remove']")).await;
    // Found, conditioned, and looked at.
    hand.sends("/review", hand.clicks("#run-review")).await;
    until(hand.driver, "document.querySelector('#sinks-list, #barriers')").await;
    hand.clicks("[data-open-table=sinks]").await;
    until(hand.driver, "document.querySelector('#drawer [data-tab=sinks][aria-selected=true]')").await;
    hand.clicks("[data-open-table=crossings]").await;
    until(hand.driver, "document.querySelector('#drawer [data-tab=crossings][aria-selected=true]')").await;
    hand.clicks("#drawer [data-close-drawer]").await;
    hand.clicks("#astray > summary").await;
    hand.clicks("[data-see='near,provisional']").await;
    until(hand.driver, "bothrosMap.shown.has('near') && bothrosMap.shown.has('provisional')").await;
    hand.clicks("details:has([data-misfit]) > summary").await;
    hand.clicks("[data-misfit]").await;
    hand.sends("/route", hand.clicks("#run-route")).await;
    until(hand.driver, "document.querySelector('#desk [data-section=result] .chart')").await;
    hand.clicks("#desk [data-section=result] details.more > summary").await;
    hand.clicks("#cuts > summary").await;
    hand.clicks("[data-swipe]").await;
    until(hand.driver, "document.querySelector('.swipe')").await;
    hand.clicks("[data-swipe]").await;
    hand.clicks("#desk [data-section=result] dl.facts a").await;
    until(hand.driver, "bothrosMap.marker?.getPosition()").await;
    // The numbers of a chart are saved.
    hand.clicks("#desk [data-section=result] .chart-numbers > summary").await;
    hand.clicks("#desk [data-section=result] [data-save=svg]").await;
    hand.clicks("#desk [data-section=result] [data-save=csv]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn crossings_on_coarse_cells_are_asked_for_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    // A valley that falls to the south, and a bank of one cell across it.
    let dem = Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let ground = 600.0 - c.row as f32 * 0.5 + (c.col as f32 - 200.0).abs() * 0.4;
        if c.row == 150 { ground.max(529.0) } else { ground }
    });
    let frame = Frame { cell_size: 30.0, ..FRAME };
    let study = site.study(&written(dir.path(), "coarse.tif", &dem, &frame), "Coarse").await;
    let review = async || {
        assert!(site.send(&format!("/studies/{study}/review"), &[]).await.0.is_success());
        let job = site.finish(study).await;
        assert_eq!(job.state, "done", "{}", job.message);
        site.store().barriers(study).await.unwrap().len()
    };
    assert_eq!(review().await, 0);
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "conditioning", "crossings").await;
    let told = "document.querySelector('[data-section=crossings]').textContent";
    until(hand.driver, &format!("{told}.includes('Cells of 30 m show no crossings')")).await;
    hand.clicks("details:has(#review-choice) > summary").await;
    hand.sends("/review/choice", hand.clicks("#review-choice [name=on_coarse_cells]")).await;
    hand.opens(&site, study, "conditioning", "crossings").await;
    hand.clicks("details:has(#review-choice) > summary").await;
    hand.sends("/review/choice", async {
        hand.types("#vertical-error", "0.5").await;
        press(hand.driver, Key::Enter).await;
    })
    .await;
    let choice = site.store().study(study).await.unwrap().settings["review"].clone();
    assert_eq!((&choice["vertical_error_m"], &choice["on_coarse_cells"]), (&0.5.into(), &true.into()));
    assert_eq!(review().await, 1);
    hand.opens(&site, study, "conditioning", "crossings").await;
    until(hand.driver, &format!("{told}.includes('vertical error of 0.5 m')")).await;
    hand.clicks("[data-barrier-row]").await;
    until(hand.driver, "document.querySelector('.barrier-card .score')?.textContent.startsWith('score ')")
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn crossings_are_decided_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&part(dir.path(), "dammed.tif", &holed(), (0, 0)), "Crossings").await;
    assert!(site.send(&format!("/studies/{study}/review"), &[]).await.0.is_success());
    site.finish(study).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "conditioning", "crossings").await;
    // Two are found. What is decided counts, and the next open one comes; once all are decided, all are listed.
    let decided = async |words: &str| {
        let told = "document.querySelector('#desk [data-section=crossings] .hint').textContent";
        until(hand.driver, &format!("{told}.includes('{words}')")).await;
    };
    let card = async || {
        hand.clicks("[data-barrier-row]").await;
        let same = "document.querySelector('.barrier-card')?.dataset.barrier === document.querySelector('[data-barrier-row]').dataset.barrierRow";
        until(hand.driver, same).await;
    };
    for (decision, words) in
        [("breach", "1 to breach"), ("fill", "1 to fill"), ("keep", "1 to keep"), ("", "1 open")]
    {
        card().await;
        hand.sends("/decide", hand.clicks(&format!(".barrier-card [data-decide='{decision}']"))).await;
        decided(words).await;
    }
    card().await;
    hand.clicks(".barrier-card [data-redraw]").await;
    until(hand.driver, "!document.getElementById('mode').hidden").await;
    press(hand.driver, Key::Escape).await;
    for (key, words) in [("y", "1 to breach"), ("i", "2 to fill"), ("k", "1 to keep")] {
        card().await;
        hand.sends("/decide", press(hand.driver, key)).await;
        decided(words).await;
    }
    hand.clicks("[data-open-table=crossings]").await;
    let row = "#drawer tbody tr:first-child";
    for (value, words) in [
        ("", "1 open"),
        ("breach", "breach"),
        ("", "1 open"),
        ("fill", "fill"),
        ("", "1 open"),
        ("keep", "keep"),
    ] {
        hand.sends("/decide", hand.clicks(&format!("{row} .row-acts [value='{value}']"))).await;
        decided(words).await;
        let other = if value.is_empty() { "keep" } else { "" };
        until(hand.driver, &format!("document.querySelector(\"{row} .row-acts [value='{other}']\")")).await;
    }
}

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

#[tokio::test(flavor = "multi_thread")]
async fn a_network_is_judged_and_changed_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Judged").await;
    add_layer(&site, study, "mapped_streams", &streams()).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "network", "threshold").await;
    until(hand.driver, "document.querySelector('#evidence .chart')").await;
    hand.sends("/threshold", async {
        hand.types("#area", "0.02").await;
        hand.clicks("form:has(#area) button").await;
    })
    .await;
    hand.picks("#area-unit", "ha").await;
    hand.sends("/threshold", async {
        hand.types("#cells", "90").await;
        hand.clicks("form:has(#cells) button").await;
    })
    .await;
    let threshold = async || site.store().study(study).await.unwrap().network.unwrap()["threshold"].clone();
    assert_eq!(threshold().await, 90);
    hand.sends("/threshold", hand.clicks("#slider")).await;
    assert_ne!(threshold().await, 90, "the slider has moved it");
    hand.sends("/threshold", hand.clicks(".starts button")).await;
    until(hand.driver, "document.querySelector('#evidence .chart')").await;
    // A threshold is kept for all studies, set here, and forgotten.
    hand.clicks("details:has(#keep-threshold) > summary").await;
    hand.types("#kept-name", "wet land").await;
    hand.types("#kept-reason", "survey of the water board").await;
    hand.sends("/threshold/keep", hand.clicks("#keep-threshold button")).await;
    until(hand.driver, "document.querySelectorAll('.starts li').length === 2").await;
    hand.sends("/threshold", hand.clicks(".starts li:last-child form button")).await;
    until(hand.driver, "document.querySelector('[data-forget-threshold]')").await;
    hand.sends("/forget", hand.clicks("[data-forget-threshold]")).await;
    until(hand.driver, "document.querySelectorAll('.starts li').length === 1").await;
    until(hand.driver, "document.querySelector('#evidence .chart')").await;
    hand.sends("/tolerance", async {
        hand.types("#tolerance", "25").await;
        hand.clicks("form:has(#tolerance) button").await;
    })
    .await;
    until(hand.driver, "document.querySelector('#evidence .chart')").await;
    hand.sends("/threshold", hand.clicks("#evidence form.here button")).await;
    until(hand.driver, "document.querySelector('#evidence details.more')").await;
    let folded = value(hand.driver, "document.querySelectorAll('#evidence details.more').length").await;
    for at in 0..folded.as_u64().unwrap() {
        let script = format!("document.querySelectorAll('#evidence details.more')[{at}].id = 'more-{at}'");
        hand.driver.execute(&script, vec![]).await.unwrap();
        hand.clicks(&format!("#more-{at} > summary")).await;
    }
    // Trials: saved, described, ticked, compared, chosen, deleted.
    hand.types("#trial-remark", "as mapped").await;
    hand.sends("/trials", hand.clicks("#keep-trial")).await;
    hand.sends("/threshold", async {
        hand.types("#cells", "200").await;
        hand.clicks("form:has(#cells) button").await;
    })
    .await;
    hand.sends("/trials", hand.clicks("#keep-trial")).await;
    until(hand.driver, "document.querySelectorAll('[data-trial]').length === 2").await;
    hand.clicks("#compare-form [data-open-table=trials]").await;
    until(hand.driver, "document.querySelector('#drawer [data-tab=trials][aria-selected=true]')").await;
    hand.clicks("#drawer [data-close-drawer]").await;
    hand.types("[data-trial-more] [name=name]", "dense_one").await;
    hand.types("[data-trial-more] [name=remark]", "for the wet season").await;
    hand.sends("/describe", hand.clicks("[data-trial-more] form button")).await;
    until(hand.driver, "document.querySelector('.trials').textContent.includes('dense_one')").await;
    hand.clicks("[data-trial-more] [hx-get$='/justify']").await;
    hand.types("[data-trial-more] textarea", "It agrees with the map.").await;
    hand.sends("/choose", hand.clicks("[data-trial-more] form[hx-post$='/choose'] button")).await;
    until(hand.driver, "document.querySelector('.chosen-trial')").await;
    for at in 1..=2 {
        hand.clicks(&format!(".trials li:nth-child({at}) input")).await;
    }
    hand.clicks("#compare-form [type=submit]").await;
    until(hand.driver, "location.pathname.endsWith('/compare') && document.body.dataset.ready === 'yes'")
        .await;
    hand.clicks("a[href$='?stage=network']").await;
    until(
        hand.driver,
        "document.body.dataset.ready === 'yes' && document.querySelector('#trials [data-trial]')",
    )
    .await;
    hand.sends("/delete", hand.clicks("details.trial:not(:has([data-x])) [hx-post$='/delete']")).await;
    // Edits by hand.
    hand.types("#edit-reason", "seen in the field").await;
    hand.types("#edit-area", "0.5").await;
    for (edit, places) in [
        ("prune", &[(502_005.0, 4_758_500.0)][..]),
        ("head", &[(502_405.0, 4_758_500.0)]),
        ("within", &[(501_500.0, 4_759_000.0), (502_500.0, 4_759_000.0), (502_500.0, 4_758_000.0)]),
    ] {
        hand.sends("/edits", async {
            hand.types("#edit-reason", "seen in the field").await;
            hand.types("#edit-area", "50000").await;
            hand.clicks(&format!("[data-edit-stream={edit}]")).await;
            hand.draws(places).await;
        })
        .await;
        press(hand.driver, Key::Escape).await;
    }
    hand.sends("/edits", hand.clicks("#desk [hx-post$='/edits']")).await;
    // What the reaches are like.
    until(hand.driver, "document.querySelector('[data-see=way]')").await;
    hand.clicks("[data-see=way]").await;
    until(hand.driver, "bothrosMap.shown.has('way')").await;
    hand.clicks("[data-open-table=orders]").await;
    until(hand.driver, "document.querySelector('#drawer [data-tab=orders][aria-selected=true]')").await;
    hand.clicks("#drawer [data-csv]").await;
    hand.clicks("#drawer [data-tab=reaches]").await;
    hand.sends("/threshold", async {
        hand.types("#cells", "2").await;
        hand.clicks("form:has(#cells) button").await;
    })
    .await;
    until(hand.driver, "document.querySelector('#drawer [data-from]')").await;
    hand.clicks("#drawer [data-from='100']").await;
    until(hand.driver, "document.querySelector('#drawer [data-from=\"0\"]')").await;
    hand.clicks("#drawer [data-from='0']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn studies_are_kept_in_order_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let file = valley_file(dir.path());
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    driver.goto(&site.base).await.unwrap();
    until(driver, "window.Alpine").await;
    click(driver, ".masthead [hx-get='/help/start']").await;
    until(driver, "document.querySelector('#help [data-close-help]')").await;
    click(driver, "#help [data-close-help]").await;
    until(driver, "!document.querySelector('#help [data-close-help]')").await;
    hand.gives("#files", &[&file]).await;
    hand.types("#study-name", "Valley").await;
    hand.types("#study-description", "for the culvert").await;
    click(driver, ".new-study button[type=submit]").await;
    until(driver, "document.body.dataset.ready === 'yes'").await;
    // The page of a study: stages, units, help, log, folding, going somewhere.
    hand.rests().await;
    for stage in ["conditioning", "network", "catchments", "handover", "terrain"] {
        click(driver, &format!("#rail [data-go={stage}]")).await;
        until(driver, &format!("document.getElementById('study').dataset.stage === '{stage}'")).await;
        if stage == "conditioning" {
            hand.rests().await;
        }
        if ["network", "handover"].contains(&stage) {
            until(driver, "document.querySelector('#desk .empty [data-go=conditioning]')").await;
            click(driver, "#desk .empty [data-go=conditioning]").await;
            until(driver, "document.getElementById('study').dataset.stage === 'conditioning'").await;
        }
    }
    click(driver, "#next-stage").await;
    until(driver, "document.getElementById('study').dataset.stage === 'conditioning'").await;
    click(driver, "#help-button").await;
    until(driver, "document.querySelector('#help [data-close-help]')").await;
    press(driver, Key::Escape).await;
    click(driver, "[data-log]").await;
    until(driver, "document.querySelector('footer.log.open')").await;
    press(driver, "l").await;
    until(driver, "!document.querySelector('footer.log.open')").await;
    click(driver, "#fold").await;
    until(driver, "document.querySelector('.shell.folded')").await;
    press(driver, "f").await;
    until(driver, "!document.querySelector('.shell.folded')").await;
    press(driver, "/").await;
    until(driver, "!document.getElementById('goto').hidden").await;
    driver.query(By::Id("goto-text")).first().await.unwrap().send_keys("502005 4758500").await.unwrap();
    click(driver, "#goto button").await;
    until(driver, "Math.abs(bothrosMap.map.getView().getCenter()[0] - 502005) < 30").await;
    click(driver, ".units [value=us]").await;
    until(driver, "document.documentElement.dataset.units === 'us' && document.body.dataset.ready === 'yes'")
        .await;
    click(driver, ".units [value=metric]").await;
    until(driver, "document.documentElement.dataset.units !== 'us' && document.body.dataset.ready === 'yes'")
        .await;
    // A measured line and its profile are closed again.
    press(driver, "m").await;
    hand.draws(&[(501_500.0, 4_758_900.0), (502_500.0, 4_758_400.0)]).await;
    until(driver, "document.querySelector('#measured .chart')").await;
    click(driver, "#measured [data-close-measured]").await;
    until(driver, "!document.querySelector('#measured .chart')").await;
    hand.sends("/route", press(driver, "u")).await;
    click(driver, "#open-drawer").await;
    until(driver, "!document.getElementById('drawer').hidden").await;
    press(driver, "t").await;
    until(driver, "document.getElementById('drawer').hidden").await;
    click(driver, ".rail a.home").await;
    // The list of studies.
    until(driver, "document.body.dataset.page === 'start' || document.querySelector('.cards')").await;
    until(driver, "window.Alpine && document.querySelector('[data-study] details.edit')").await;
    click(driver, "[data-study] details.edit > summary").await;
    hand.types("[data-study] [name=name]", "Sorrel").await;
    hand.types("[data-study] [name=description]", "for two culverts").await;
    click(driver, "[data-study] form button").await;
    until(driver, "document.querySelector('[data-study] h3').textContent === 'Sorrel'").await;
    click(driver, "[data-study] [hx-post$='/duplicate']").await;
    until(driver, "document.querySelectorAll('[data-study]').length === 2").await;
    click(driver, "[data-study] [hx-post$='/delete']").await;
    hand.agrees().await;
    until(driver, "document.querySelector('.gone [hx-post$=\"/restore\"]')").await;
    click(driver, ".gone [hx-post$='/restore']").await;
    until(driver, "document.querySelectorAll('[data-study]').length === 2").await;
    click(driver, "[data-study] h3 a").await;
    until(driver, "document.body.dataset.ready === 'yes'").await;
    driver.goto(&site.base).await.unwrap();
    until(driver, "window.Alpine").await;
    click(driver, "[data-study] a.picture").await;
    until(driver, "document.body.dataset.ready === 'yes'").await;
    driver.goto(&site.base).await.unwrap();
    click(driver, ".foot a[href='/licences']").await;
    until(driver, "location.pathname === '/licences'").await;
    click(driver, "a[href='/']").await;
    until(driver, "location.pathname === '/'").await;
    driver.goto(&format!("{}/nowhere", site.base)).await.unwrap();
    click(driver, "a[href='/']").await;
    until(driver, "location.pathname === '/'").await;
    click(driver, "a[href='/begin']").await;
    until(driver, "location.pathname === '/begin'").await;
    click(driver, "a.home").await;
    until(driver, "location.pathname === '/'").await;
}
