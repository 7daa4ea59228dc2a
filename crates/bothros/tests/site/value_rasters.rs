//! Rasters of the analyst by hand: added, looked up, told of catchments, and what takes its values from them.

use thirtyfour::prelude::*;

use crate::catchments::study;
use crate::support::browser::{accessible, browser, press, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, written};

#[tokio::test(flavor = "multi_thread")]
async fn rasters_are_added_and_told_of_catchments_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Cover", "4757300").await;
    let upper = [("x", "502005"), ("y", "4758900"), ("name", "upper")];
    let (status, _) = site.send(&format!("/studies/{study}/pour-points"), &upper).await;
    assert!(status.is_success(), "{status}");
    // West of the stream class 11, east of it 42; curve numbers 60 and 80 on the same coarser grid, whose edge is the stream.
    let coarse = bothros_core::Frame {
        rows: 40,
        cols: 60,
        left: 499_010.0,
        top: 4_761_000.0,
        cell_size: 100.0,
        unit_m: 1.0,
    };
    let halves = |west: f32, east: f32| {
        bothros_core::Grid::from_fn(coarse.rows, coarse.cols, |c| if c.col < 30 { west } else { east })
    };
    let cover = written(dir.path(), "cover.tif", &halves(11.0, 42.0), &coarse);
    let odd = written(dir.path(), "odd.tif", &halves(11.5, 42.0), &coarse);
    let numbers = written(dir.path(), "cn.tif", &halves(60.0, 80.0), &coarse);
    let shares = written(dir.path(), "paved.tif", &halves(10.0, 40.0), &coarse);
    let too_much = written(dir.path(), "much.tif", &halves(60.0, 800.0), &coarse);
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "rasters").await;
    until(driver, "document.querySelectorAll('#zonal-figures tbody tr').length >= 3").await;
    let add = async |file: &std::path::Path, name: &str, holds: &str, unit: &str| {
        hand.gives("#raster-file", &[file]).await;
        hand.types("#raster-name", name).await;
        hand.picks("#raster-holds", holds).await;
        hand.types("#raster-unit", unit).await;
        hand.clicks("#raster-form button").await;
    };
    add(&odd, "land cover", "codes", "").await;
    until(driver, "document.body.textContent.includes('11.5, which is no whole number')").await;
    hand.sends("/rasters", add(&cover, "land cover", "codes", "")).await;
    until(driver, "document.querySelectorAll('.class-shares tbody tr').length === 2").await;
    accessible(driver, "rasters").await;
    // The valley is as wide on both sides.
    let share = value(driver, "document.querySelector('.class-shares td:last-child').textContent").await;
    let share: f64 = share
        .as_str()
        .unwrap()
        .replace(" %", "")
        .replace('\u{a0}', "")
        .trim_end_matches('%')
        .trim()
        .parse()
        .unwrap();
    assert!((45.0..55.0).contains(&share), "{share}");
    hand.sends("/rasters", add(&too_much, "too much", "mea", "")).await;
    hand.sends("/rasters", add(&numbers, "curve numbers", "mea", "")).await;
    until(
        driver,
        "[...document.querySelectorAll('#zonal-figures td.t')].some(d => d.textContent === 'curve numbers')",
    )
    .await;
    // Curve numbers that classes stand for.
    hand.clicks("details.more:has(#lookup-1) summary").await;
    hand.types("#lookup-1", "11; 7").await;
    hand.clicks("form:has(#lookup-1) button").await;
    until(driver, "document.body.textContent.includes('line 1 of the lookup table')").await;
    hand.types("#lookup-1", "11; 80; 40").await;
    hand.sends("/rasters/lookup", hand.clicks("form:has(#lookup-1) button")).await;
    until(driver, "document.body.textContent.includes('What its one class stands for')").await;
    hand.sends("/zonal", hand.picks("#zonal-point", "2")).await;
    hand.sends("/zonal", hand.picks("#zonal-point", "\u{e013}")).await;
    // They give each catchment a number of its own; what cannot be one is refused.
    hand.clicks("[data-to-section=measures]").await;
    until(driver, "document.getElementById('curve-number-from')").await;
    hand.picks("#curve-number-from", "mean of too").await;
    hand.clicks("form:has(#curve-number-from) button").await;
    until(driver, "document.body.textContent.includes('curve numbers lie between 0 and 100')").await;
    hand.picks("#curve-number-from", "mean of cu").await;
    hand.sends("/concentration", hand.clicks("form:has(#curve-number-from) button")).await;
    until(driver, "document.getElementById('mean-curve-number')").await;
    let mean = value(driver, "Number(document.getElementById('mean-curve-number').textContent)").await;
    assert!((68.0..72.0).contains(&mean.as_f64().unwrap()), "{mean}");
    // Half of the land is of a class that stands for 80 and is 40 % impervious; the other half stands for nothing.
    hand.picks("#curve-number-from", "mean of la").await;
    hand.sends("/concentration", hand.clicks("form:has(#curve-number-from) button")).await;
    until(driver, "document.getElementById('mean-curve-number').textContent === '80.0'").await;
    let table =
        site.get(&format!("/studies/{study}/tables/subbasin_parameters?as=csv")).await.text().await.unwrap();
    assert!(
        table.contains("80.0000,mean of what the classes of raster land cover stand for,0.4000,mean of what"),
        "{table}"
    );
    hand.picks("#curve-number-from", "mean of cu").await;
    hand.sends("/concentration", hand.clicks("form:has(#curve-number-from) button")).await;
    // Impervious shares are means of a raster too, where it holds shares.
    hand.opens(&site, study, "handover", "scheme").await;
    until(driver, "document.getElementById('model-impervious-from')").await;
    hand.picks("#model-impervious-from", "cu").await;
    hand.clicks("#model-form button").await;
    until(driver, "document.body.textContent.includes('shares lie between 0 and 1')").await;
    hand.opens(&site, study, "catchments", "rasters").await;
    hand.sends("/rasters", add(&shares, "paved", "mea", "%")).await;
    hand.opens(&site, study, "handover", "scheme").await;
    until(driver, "document.getElementById('model-impervious-from')").await;
    hand.picks("#model-impervious-from", "pa").await;
    hand.sends("/scheme/model", hand.clicks("#model-form button")).await;
    let table =
        site.get(&format!("/studies/{study}/tables/subbasin_parameters?as=csv")).await.text().await.unwrap();
    assert!(table.contains("mean of raster paved"), "{table}");
    hand.opens(&site, study, "catchments", "rasters").await;
    until(driver, "document.querySelector(\"form[hx-post$='/rasters/remove']\")").await;
    // What is used cannot be removed, and what is removed comes back.
    hand.clicks("[data-to-section=rasters]").await;
    let of = |name: &str| format!("form[hx-post$='/rasters/remove']:has([value='{name}']) button");
    hand.clicks(&of("curve numbers")).await;
    until(driver, "document.body.textContent.includes('choose another source for them first')").await;
    hand.sends("/rasters/remove", hand.clicks(&of("land cover"))).await;
    until(driver, "document.querySelectorAll('.class-shares').length === 0").await;
    press(driver, Key::Control + "z").await;
    until(driver, "document.querySelectorAll('.class-shares').length === 1").await;
    // A copy of the study has them too, files and all.
    let (status, _) = site.send(&format!("/studies/{study}/duplicate"), &[]).await;
    assert!(status.is_success() || status.is_redirection(), "{status}");
    let copy = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
    let point = site.store().pour_points(copy).await.unwrap()[0].id;
    let told = site.get(&format!("/studies/{copy}/pour-points/{point}/zonal")).await.text().await.unwrap();
    assert!(told.contains("land cover") && told.contains("curve numbers"), "{told}");
}
