//! A network that is judged and changed by hand, and studies that are kept in order.

use thirtyfour::prelude::*;

use super::streams;
use crate::support::browser::{browser, click, press, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, add_layer, valley_file};

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
