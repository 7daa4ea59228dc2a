//! How sure streams and catchments are: asked for, seen while it grows, cut short, out of date.

use bothros_store::RasterRole;
use bothros_workflow::{Facts, UncertaintyFacts};
use reqwest::StatusCode;
use thirtyfour::prelude::*;

use crate::support::browser::{browser, press, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

async fn routed(site: &Site, name: &str) -> i64 {
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), name).await;
    let at = [("x", "502005"), ("y", "4757500")];
    let (status, text) = site.send(&format!("/studies/{study}/pour-points"), &at).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    study
}

async fn found(site: &Site, study: i64) -> UncertaintyFacts {
    Facts::of(&site.store().study(study).await.unwrap()).unwrap().uncertainty.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn realisations_are_asked_for_seen_and_told_by_hand() {
    let site = Site::new().await;
    let study = routed(&site, "How sure").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "sure").await;
    // What cannot be is refused in words, and what was typed stays.
    for (field, text, told) in [
        ("#realise-error", "0", "must be greater than 0"),
        ("#realise-error", "9000", "must not be above"),
        ("#realise-error", "900", "nothing would be left of the land"),
        ("#realise-correlation", "90000", "moves the DEM as a whole"),
        ("#realise-count", "5", "whole number from 10 to 1000"),
        ("#realise-count", "12.5", "whole number from 10 to 1000"),
        ("#realise-seed", "-1", "whole number from 0"),
    ] {
        let before = value(driver, &format!("document.querySelector('{field}').value")).await;
        hand.types("#realise-error", "0.8").await;
        hand.types(field, text).await;
        hand.clicks("#run-realise").await;
        let said = format!("document.getElementById('notice').textContent.includes({told:?})");
        until(driver, &said).await;
        assert_eq!(value(driver, &format!("document.querySelector('{field}').value")).await, text);
        hand.types(field, before.as_str().unwrap()).await;
    }
    for (field, text) in [
        ("#realise-error", "0.8"),
        ("#realise-correlation", "60"),
        ("#realise-count", "20"),
        ("#realise-seed", "7"),
    ] {
        hand.types(field, text).await;
    }
    hand.sends("/realisations", hand.clicks("#run-realise")).await;
    until(driver, "document.getElementById('realised')?.textContent.startsWith('20 realisations')").await;
    let offered = site.get(&format!("/studies/{study}/rasters/stream_probability.tif")).await;
    assert_eq!(offered.status(), StatusCode::OK);
    let first = found(&site, study).await;
    assert_eq!((first.realisations(), first.asked.seed, first.catchments.len()), (20, 7, 1));
    let area = first.area_km2(0).unwrap();
    assert!(area.low <= area.median && area.median <= area.high && area.mean > 0.0, "{area:?}");
    // Probabilities are drawn, and told of the place under the pointer.
    hand.clicks("[data-divide='1']").await;
    until(driver, "bothrosMap.shown.has('divide') && bothrosMap.layers.divide.getVisible()").await;
    hand.clicks("[data-see='relief,probable']").await;
    until(
        driver,
        "bothrosMap.shown.has('probable') && document.querySelector('#drawn').textContent.includes('always')",
    )
    .await;
    let cell = site.get(&format!("/studies/{study}/cell?x=502005&y=4757500")).await.text().await.unwrap();
    assert!(cell.contains("\"stream_probability\":"), "{cell}");
    for role in [RasterRole::StreamProbability, RasterRole::CatchmentProbability(0)] {
        let meta = site.store().raster(study, role).await.unwrap().unwrap();
        let what = if role == RasterRole::StreamProbability { "probable" } else { "divide" };
        let tile = site.get(&format!("/studies/{study}/tiles/{what}/{}/0/0/0", meta.id)).await;
        assert_eq!(tile.status(), StatusCode::OK, "{what}");
        let shares = site.store().read_raster::<f32>(&meta).await.unwrap();
        assert!(shares.values().contains(&1.0) && shares.values().iter().all(|p| (0.0..=1.0).contains(p)));
    }
    // The same seed gives the same; another does not.
    hand.sends("/realisations", hand.clicks("#run-realise")).await;
    let again = found(&site, study).await;
    assert_eq!(again.figures, first.figures);
    hand.types("#realise-seed", "8").await;
    hand.sends("/realisations", hand.clicks("#run-realise")).await;
    assert_ne!(found(&site, study).await.figures, first.figures);
    // Another threshold: what stands there is no longer of this study.
    assert_eq!(
        value(driver, "document.querySelector('[data-section=sure] .warn')").await,
        serde_json::Value::Null
    );
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "777")]).await;
    hand.opens(&site, study, "catchments", "sure").await;
    until(
        driver,
        "document.querySelector('[data-section=sure] .warn')?.textContent.includes('make them again')",
    )
    .await;
    press(driver, Key::Escape).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn realisations_that_are_cut_short_are_kept() {
    let site = Site::new().await;
    let study = routed(&site, "Cut short").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "catchments", "sure").await;
    for (field, text) in
        [("#realise-error", "0.5"), ("#realise-correlation", "0"), ("#realise-count", "1000")]
    {
        hand.types(field, text).await;
    }
    hand.clicks("#run-realise").await;
    // Results are shown while the job goes on.
    until(hand.driver, "/^\\d+ of 1000 realisations/.test(document.getElementById('realised')?.textContent)")
        .await;
    assert!(site.store().active_job(study).await.unwrap().is_some(), "it still runs");
    hand.clicks("#log [hx-post*='/cancel/']").await;
    hand.rests().await;
    let kept = found(&site, study).await;
    assert!(kept.realisations() >= 10 && kept.realisations() < 1000, "{}", kept.realisations());
    until(
        hand.driver,
        "document.getElementById('log').textContent.includes('of 1000 realisations of the DEM')",
    )
    .await;
    // A DEM that is prepared anew has no such results.
    let before = site.get(&format!("/studies/{study}/map")).await.text().await.unwrap();
    assert!(before.contains("stream_probability"));
}
