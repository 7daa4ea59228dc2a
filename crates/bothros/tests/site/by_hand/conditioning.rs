//! Conditioning by hand, and the crossings that are decided before it.

use bothros_core::{Frame, Grid};
use thirtyfour::prelude::*;

use super::{part, streams};
use crate::support::browser::{browser, press, until};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, add_layer, dammed, written};

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
