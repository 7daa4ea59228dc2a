//! Several tabs of one browser, and the start page when something is wrong.

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::{Site, damage, database, valley_file};

/// How many streams of events this tab has opened.
const STREAMS: &str =
    "performance.getEntriesByType('resource').filter(e => new URL(e.name).pathname === '/events').length";

#[tokio::test(flavor = "multi_thread")]
async fn many_tabs_share_one_stream_and_all_hear_what_happens() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "tabs").await;
    let browser = browser().await;
    let driver = &browser.driver;
    let address = format!("{}/studies/{study}/?stage=conditioning", site.base);
    driver.goto(&address).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    let mut tabs = vec![driver.window().await.unwrap()];
    // More than a browser has connections for one server.
    for _ in 0..8 {
        tabs.push(driver.new_tab().await.unwrap());
        driver.switch_to_window(tabs.last().unwrap().clone()).await.unwrap();
        driver.goto(&address).await.unwrap();
        until(driver, "document.body.dataset.ready === 'yes'").await;
    }
    let mut streams = 0;
    for tab in &tabs {
        driver.switch_to_window(tab.clone()).await.unwrap();
        streams += value(driver, STREAMS).await.as_u64().unwrap();
    }
    // An entry stands for a stream that has ended; the one that goes on has none yet.
    assert!(streams <= 1, "{streams} streams");
    press(driver, "u").await;
    for tab in [tabs[0].clone(), tabs[4].clone(), tabs[8].clone()] {
        driver.switch_to_window(tab).await.unwrap();
        until(driver, "document.querySelector('#desk table.list') && bothrosMap.layers.area").await;
    }
    // The tab that kept the stream goes; another takes it over.
    driver.switch_to_window(tabs[0].clone()).await.unwrap();
    driver.close_window().await.unwrap();
    driver.switch_to_window(tabs[5].clone()).await.unwrap();
    let before = value(driver, "document.querySelectorAll('#log .lines li').length").await.as_u64().unwrap();
    press(driver, "u").await;
    driver.switch_to_window(tabs[8].clone()).await.unwrap();
    until(driver, &format!("document.querySelectorAll('#log .lines li').length > {before}")).await;
    assert_eq!(site.finish(study).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_that_cannot_be_opened_is_told_and_deleted_for_good_by_hand() {
    let url = database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    site.study(&valley_file(dir.path()), "good").await;
    let bad = site.study(&valley_file(dir.path()), "damaged").await;
    damage(&url, bad);
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&site.base).await.unwrap();
    until(driver, "window.Alpine && document.querySelectorAll('.card-study').length === 2").await;
    let card = format!("document.querySelector('[data-study=\"{bad}\"]').innerText");
    assert!(value(driver, &card).await.as_str().unwrap().contains("cannot be opened"));
    accessible(driver, "start page with a study that cannot be opened").await;
    let link = value(driver, "document.querySelector('a[download]').href").await;
    assert!(link.as_str().unwrap().ends_with(&format!("/studies/{bad}/raw.json")));
    for (button, left) in [
        ("Delete damaged", "document.querySelectorAll('.card-study').length === 1"),
        ("Delete damaged for good", "!document.querySelector('.gone')"),
    ] {
        click(driver, &format!("button[aria-label='{button}']")).await;
        driver.accept_alert().await.unwrap();
        until(driver, left).await;
    }
    assert!(site.store().deleted_studies().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_is_away_is_told_on_the_page_and_the_page_goes_on() {
    let data = tempfile::Builder::new().prefix("bothros-test-").tempdir().unwrap();
    let place = data.path().to_str().unwrap().to_owned();
    let (_server, base) =
        crate::processes::address(crate::processes::bothros(&["serve", "--port", "0", "--data", &place]));
    let dir = tempfile::tempdir().unwrap();
    let url = std::fs::read_to_string(data.path().join("url")).unwrap().trim().to_owned();
    let store = bothros_store::Store::connect(&url).await.unwrap();
    let study = crate::processes::rough_study(&store, dir.path(), 300).await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(format!("{base}/studies/{study}/?stage=conditioning")).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes' && document.getElementById('run-route')").await;
    // It may be back before the page has asked: then it goes away once more.
    let look = "const done = arguments[0]; const t0 = Date.now(); (function look() { \
        if (!document.getElementById('trouble').hidden) done(true); \
        else if (Date.now() - t0 > 3000) done(false); else setTimeout(look, 20); })();";
    let mut seen = false;
    for _ in 0..15 {
        let pid = std::fs::read_to_string(data.path().join("cluster/postmaster.pid")).unwrap_or_default();
        let pid = pid.lines().next().and_then(|line| line.trim().parse().ok());
        if let Some(pid) = pid {
            // It may have ended already.
            let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::SIGKILL);
        }
        seen = driver.execute_async(look, vec![]).await.unwrap().json() == &serde_json::json!(true);
        if seen {
            break;
        }
    }
    assert!(seen, "the page tells that the database is away");
    until(driver, "document.getElementById('trouble').hidden").await;
    // Without a reload it works on.
    let routed = "(window.asked ??= 0, document.querySelector('#desk table.list') || (Date.now() - window.asked > 3000 && (window.asked = Date.now(), document.getElementById('run-route')?.click(), false)))";
    until(driver, routed).await;
}
