//! The Catchments stage by hand: many pour points, sub-basins, dams, sites, a published boundary, the view in three dimensions.

use serde_json::json;
use thirtyfour::prelude::*;

use crate::support::browser::{accessible, browser, press, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, add_layer, geojson, valley, valley_file, written};

/// A study of the valley with a network, and a pour point where its stream leaves.
pub(crate) async fn study(site: &Site, dir: &std::path::Path, name: &str, northing: &str) -> i64 {
    let study = site.routed(&valley_file(dir), name).await;
    let send = async |path: &str, fields: &[(&str, &str)]| {
        let (status, told) = site.send(&format!("/studies/{study}/{path}"), fields).await;
        assert!(status.is_success(), "{path}: {told}");
    };
    send("threshold", &[("cells", "400")]).await;
    // The stem, and not what comes in beside it.
    send("snapping", &[("snap_m", "100"), ("snap_to", "largest")]).await;
    send("pour-points", &[("x", "502005"), ("y", northing), ("name", "mouth")]).await;
    study
}

/// Name and area, in km², of each pour point.
async fn points(site: &Site, study: i64) -> Vec<(String, f64)> {
    let all = site.json(&format!("/studies/{study}/catchments")).await;
    let all = all.as_array().unwrap().iter();
    all.map(|p| (p["name"].as_str().unwrap().to_owned(), p["catchment"]["area_km2"].as_f64().unwrap_or(0.0)))
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn many_pour_points_are_placed_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Many", "4757300").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "catchments", "points").await;
    // A file in another CRS: one lies outside, two fall into one cell.
    let file = dir.path().join("gauges.csv");
    let to = bothros_formats::Transform::to_wgs84(&crate::support::utm()).unwrap();
    let mut table = "name,lon,lat\n".to_owned();
    let odd = "Größe, \"alt\" <b>&amp;</b>".replace('"', "\"\"");
    for (name, x, y) in [
        ("upper", 502_005.0, 4_758_900.0),
        (&odd, 502_004.0, 4_758_903.0),
        (&odd, 502_005.0, 4_758_000.0),
        ("far", 700_000.0, 4_758_000.0),
    ] {
        let (lon, lat) = to.point(x, y).unwrap();
        table += &format!("\"{name}\",{lon},{lat}\n");
    }
    std::fs::write(&file, table).unwrap();
    hand.gives("#points-file", &[&file]).await;
    hand.types("#points-layer", "").await;
    hand.types("#points-crs", "EPSG:4326").await;
    hand.sends("/pour-points-file", hand.clicks("#points-file-form button")).await;
    until(hand.driver, "document.querySelectorAll('#desk [data-point]').length === 3").await;
    until(hand.driver, "document.body.textContent.includes('another has their cell')").await;
    let all = points(&site, study).await;
    assert_eq!(all[2].0, "Größe, \"alt\" <b>&amp;</b>", "{all:?}");
    assert!(all[1].1 < all[2].1 && all[2].1 < all[0].1, "downstream they grow: {all:?}");
    press(hand.driver, Key::Control + "z").await;
    until(hand.driver, "document.querySelectorAll('#desk [data-point]').length === 1").await;
    // Along the network, each way once.
    for (along, order, interval) in [
        ("at every j", "", ""),
        ("at every o", "", ""),
        ("at the", "1", ""),
        ("along a main stem, by l", "", "500"),
        ("along a main stem, by a", "", "0.5"),
    ] {
        hand.picks("#points-along", along).await;
        if !order.is_empty() {
            hand.types("#points-order", order).await;
        }
        if !interval.is_empty() {
            hand.types("#points-interval", interval).await;
            hand.picks("#points-stem", "1\u{e007}").await;
        }
        hand.sends("/pour-points-along", hand.clicks("#points-along-form button")).await;
        let told = points(&site, study).await;
        assert!(told.len() > 1 || along == "at every o", "{along}: {told:?}");
        if along.ends_with('l') {
            assert!(told.len() >= 5 && told[1].0 == "Station 1", "{told:?}");
        }
        press(hand.driver, Key::Control + "z").await;
        until(hand.driver, "document.querySelectorAll('#desk [data-point]').length === 1").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn sub_basins_are_divided_merged_split_and_named_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Divided", "4757100").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "subbasins").await;
    until(driver, "document.querySelector('#subbasins strong')").await;
    until(driver, "Number(document.getElementById('map').dataset.subbasins) > 4").await;
    accessible(driver, "sub-basins").await;
    let count = async || {
        let told = value(driver, "parseInt(document.querySelector('#subbasins strong').textContent)").await;
        told.as_u64().unwrap()
    };
    let reaches = count().await;
    // No two neighbours share a colour, and all land is somebody's.
    let drawn = site
        .json(&format!(
            "/studies/{study}/subbasins?west=500000&south=4757000&east=504000&north=4760000&cells=1"
        ))
        .await;
    let drawn = drawn.as_array().unwrap();
    assert_eq!(drawn.len() as u64, reaches);
    let land: f64 = drawn.iter().map(|s| s["area"].as_f64().unwrap()).sum();
    assert!((land / 1e6 - points(&site, study).await[0].1).abs() < 1e-6, "{land}");

    hand.sends("/subbasins/division", hand.picks("#division", "trib")).await;
    until(driver, &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) < {reaches}"))
        .await;
    hand.sends("/subbasins/division", hand.picks("#division", "of about")).await;
    until(driver, "document.querySelector('label[for=target-area]')").await;
    hand.sends("/subbasins/division", hand.types("#target-area", "2")).await;
    until(driver, "document.querySelector('#subbasins .warn')?.textContent.includes('junction')").await;
    hand.sends("/subbasins/division", hand.picks("#outline-kind", "smo")).await;
    hand.sends("/subbasins/division", hand.picks("#division", "one for")).await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {reaches}"),
    )
    .await;

    // One is looked at, named, merged, and taken apart again.
    hand.draws(&[(501_200.0, 4_758_500.0)]).await;
    until(driver, "document.querySelector('[data-subbasin] dl.measures dd')").await;
    accessible(driver, "a sub-basin").await;
    hand.sends("/name", async {
        hand.types("#subbasin-name", "Mill brook").await;
        hand.clicks("#subbasin .edit form button").await;
    })
    .await;
    until(driver, "document.querySelector('#subbasin h3')?.textContent.includes('Mill brook')").await;
    hand.clicks("#subbasin [data-show-subbasin]").await;
    until(driver, "!document.querySelector('#subbasin h3').textContent.includes('Mill brook')").await;
    hand.draws(&[(501_200.0, 4_758_500.0)]).await;
    until(driver, "document.querySelector('#subbasin h3')?.textContent.includes('Mill brook')").await;
    hand.sends("/merge", hand.clicks("#subbasin [hx-post$='/merge']")).await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {}", reaches - 1),
    )
    .await;
    hand.sends("/subbasins/split", async {
        hand.clicks("#section-subbasins > p [data-split-subbasin]").await;
        hand.draws(&[(502_005.0, 4_757_800.0)]).await;
    })
    .await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {reaches}"),
    )
    .await;
    until(driver, "document.querySelector('[data-subbasin]')").await;
    hand.sends("/subbasins/split", async {
        hand.clicks("#subbasin [data-split-subbasin]").await;
        hand.draws(&[(502_005.0, 4_758_300.0)]).await;
    })
    .await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {}", reaches + 1),
    )
    .await;
    press(driver, Key::Control + "z").await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {reaches}"),
    )
    .await;
    hand.sends("/subbasins/forget", hand.clicks("#subbasins [hx-post$='/forget']")).await;
    until(driver, "!document.querySelector('#subbasins [hx-post$=\"/forget\"]')").await;
    // The catchment of one is kept; all basins of the DEM are looked at.
    press(driver, "0").await;
    until(driver, "bothrosMap.map.getPixelFromCoordinate([501200, 4758500])?.every(p => p > 0)").await;
    hand.draws(&[(501_200.0, 4_758_500.0)]).await;
    until(driver, "document.querySelector('#subbasin h3')?.textContent.includes('Mill brook')").await;
    hand.sends("/keep", hand.clicks("#subbasin [hx-post$='/keep']")).await;
    assert_eq!(points(&site, study).await.len(), 2);
    hand.sends("/subbasins/division", hand.picks("#division", "all b")).await;
    until(driver, "document.querySelector('#subbasins')?.textContent.includes('basins of the DEM')").await;
    hand.sends("/subbasins/division", hand.picks("#division", "one for")).await;
    until(
        driver,
        &format!("parseInt(document.querySelector('#subbasins strong')?.textContent) === {reaches}"),
    )
    .await;
    hand.clicks("#section-subbasins [data-open-table=subbasins]").await;
    until(driver, "document.querySelectorAll('#drawer-table tbody tr').length > 3").await;
    let table = site.get(&format!("/studies/{study}/tables/measures?format=csv")).await.text().await.unwrap();
    assert!(table.lines().count() as u64 >= reaches + 2, "a row for each, and for the catchment: {table}");
}

#[tokio::test(flavor = "multi_thread")]
async fn dams_sites_and_a_boundary_are_looked_at_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Places", "4757300").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "places").await;
    until(driver, "document.querySelector('#places .empty')").await;
    hand.sends("/draw", async {
        hand.clicks("#places [data-draw=dams]").await;
        hand.draws(&[(501_600.0, 4_758_505.0), (502_400.0, 4_758_505.0)]).await;
    })
    .await;
    until(driver, "document.querySelectorAll('#places [data-dam]').length === 1").await;
    // A second one stops short of the stream, and is warned of.
    let line: &[[f64; 2]] = &[[501_600.0, 4_758_000.0], [501_990.0, 4_758_000.0]];
    assert!(add_layer(&site, study, "dams", &[("short.geojson", geojson(&[line]))]).await.0.is_success());
    hand.opens(&site, study, "catchments", "places").await;
    until(driver, "document.querySelectorAll('#places [data-dam]').length === 2").await;
    until(driver, "document.getElementById('places').textContent.includes('lies at its end')").await;
    hand.sends("/dams/points", hand.clicks("#places [data-dam] button")).await;
    until(driver, "[...document.querySelectorAll('#places [data-dam]')].some(d => d.textContent.includes('pour point'))").await;
    let placed = points(&site, study).await;
    assert!(placed[1].0.starts_with("Dam") && placed[1].1 > 1.0, "{placed:?}");
    hand.sends("/dams/points", hand.clicks("#all-dams")).await;
    until(driver, "document.querySelectorAll('#places [data-dam] form').length === 0").await;

    hand.sends("/draw", async {
        hand.clicks("#places > p > [data-draw=sites]").await;
        hand.draws(&[
            (501_800.0, 4_758_300.0),
            (502_200.0, 4_758_300.0),
            (502_200.0, 4_757_900.0),
            (501_800.0, 4_757_900.0),
        ])
        .await;
    })
    .await;
    until(driver, "document.querySelector('#places .site tbody tr')").await;
    until(driver, "Number(document.getElementById('map').dataset.inflows) >= 1").await;
    accessible(driver, "dams and sites").await;
    let inflows = "document.querySelectorAll('#places .site tbody tr').length";
    hand.sends("/sites/least", hand.types("#least-inflow", "1")).await;
    until(driver, &format!("{inflows} === 1")).await;
    hand.sends("/sites/least", hand.types("#places .site input[name=least]", "0.0001")).await;
    until(driver, &format!("{inflows} === 8")).await;
    hand.clicks("#places .site [data-open-table=inflows]").await;
    until(driver, "document.querySelectorAll('#drawer-table tbody tr').length > 8").await;
    press(driver, "t").await;
    hand.clicks("#places .site p a[data-x]").await;
    let links = value(driver, "document.querySelectorAll('#places .site p a[data-x]').length")
        .await
        .as_u64()
        .unwrap();
    assert!(links > 1, "outflows and sides lead to their places");
    hand.clicks("#places .site p:last-of-type a[data-x]").await;
    hand.sends("/sites/least", hand.types("#places .site input[name=least]", "0.5")).await;
    let before = points(&site, study).await.len();
    hand.sends("/points", hand.clicks("#places [data-inflow-points]")).await;
    assert!(points(&site, study).await.len() > before);

    // The boundary leaves a strip out, and holds another.
    hand.clicks("[data-to-section=published]").await;
    hand.sends("/draw", async {
        hand.clicks("#section-published [data-draw=boundaries]").await;
        hand.draws(&[
            (500_300.0, 4_759_700.0),
            // Beside the list of what is drawn.
            (502_900.0, 4_759_700.0),
            (502_900.0, 4_757_050.0),
            (500_300.0, 4_757_050.0),
        ])
        .await;
    })
    .await;
    until(driver, "document.querySelector('#published-form')").await;
    // A small one comes first, and the one whose area is nearer is chosen all the same.
    hand.picks("#published-boundary", "Bo\u{e007}").await;
    hand.picks("#published-point", "1\u{e007}").await;
    until(driver, "document.querySelector('#published dl.measures')").await;
    until(driver, "Number(document.getElementById('map').dataset.differences) > 0").await;
    accessible(driver, "a published boundary").await;
    let told = value(driver, "document.getElementById('published').textContent").await;
    assert!(told.as_str().unwrap().contains("Intersection over union"), "{told}");
    // One over the other by a handle, and on two maps.
    hand.clicks("[data-swipe-boundary]").await;
    until(driver, "document.querySelector('#map .swipe')?.textContent.includes('boundary')").await;
    driver.find(By::Css("#map .swipe")).await.unwrap().send_keys(Key::Left + "").await.unwrap();
    until(driver, "document.querySelector('#map .swipe').getAttribute('aria-valuenow') === '48'").await;
    hand.clicks("[data-swipe-boundary]").await;
    until(driver, "!document.querySelector('#map .swipe')").await;
    hand.clicks("#boundary-side-by-side").await;
    until(driver, "document.body.dataset.ready === 'yes' && document.querySelectorAll('figure [data-lines]').length === 2").await;
    accessible(driver, "catchment and boundary on two maps").await;
    hand.clicks("#swipe-trials").await;
    until(driver, "document.querySelector('.swipe')").await;
    hand.clicks(".compare-head a").await;
    until(driver, "document.querySelector('[data-to-section=published][aria-selected=true]')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn typed_coordinates_tell_how_they_are_understood() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Typed", "4757300").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "points").await;
    let to = bothros_formats::Transform::to_wgs84(&crate::support::utm()).unwrap();
    let (lon, lat) = to.point(502_005.0, 4_758_300.0).unwrap();
    let minutes = |v: f64| format!("{}° {:.4}'", v.trunc(), v.fract().abs() * 60.0);
    for (text, form) in [
        (format!("{lat:.6} {lon:.6}"), "Latitude and longitude in degrees (WGS 84)"),
        (format!("{} N, {} W", minutes(lat), minutes(-lon)), "in degrees and minutes"),
        ("502005 4758300".into(), "Easting and northing"),
    ] {
        hand.types("#place", &text).await;
        until(driver, &format!("document.getElementById('place-read').textContent.includes('{form}')")).await;
        until(
            driver,
            "/50200\\d/.test(document.getElementById('place-read').textContent.replace(/\\s/g, ''))",
        )
        .await;
    }
    hand.types("#place", "nowhere at all").await;
    until(driver, "document.getElementById('place-read').textContent.includes('is no place')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_catchment_is_compared_masked_and_its_water_followed_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    // The valley with a step across it, over which the stream falls.
    let mut dem = valley();
    for i in 150 * FRAME.cols..dem.len() {
        dem.values_mut()[i] -= 15.0;
    }
    let study = site.routed(&written(dir.path(), "step.tif", &dem, &FRAME), "Step").await;
    site.routed(&valley_file(dir.path()), "Plain valley").await;
    for (x, y, name) in [("502005", "4757300", "mouth"), ("502005", "4758900", "upper")] {
        let fields = [("x", x), ("y", y), ("name", name)];
        assert!(site.send(&format!("/studies/{study}/pour-points"), &fields).await.0.is_success());
    }
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "measures").await;
    until(driver, "document.querySelectorAll('#measures dl.measures dd').length > 20").await;
    hand.clicks("#mask-map").await;
    until(driver, "document.getElementById('map').dataset.masked !== ''").await;
    hand.types("#beside-area", "1").await;
    hand.clicks("#beside-form button").await;
    until(driver, "document.querySelectorAll('#side-by-side tbody tr').length > 20").await;
    until(driver, "document.querySelector('#side-by-side thead').textContent.includes('mouth at')").await;
    hand.picks("#beside-point", "2").await;
    hand.clicks("#beside-form button").await;
    until(driver, "document.querySelector('#side-by-side thead').textContent.includes('upper')").await;
    // The same place where the step is not: nearly the same land, and its outline over this one.
    hand.picks("#beside-point", "Plain").await;
    hand.clicks("#beside-form button").await;
    until(driver, "document.querySelector('#side-by-side thead').textContent.includes('in Plain valley')")
        .await;
    until(driver, "document.getElementById('map').dataset.elsewhere === '1'").await;
    let shared =
        value(driver, "document.getElementById('beside').textContent.match(/over union ([0-9.]+)/)[1]").await;
    assert!(shared.as_str().unwrap().parse::<f64>().unwrap() > 0.9, "{shared}");
    accessible(driver, "two catchments side by side").await;
    // The step is found where it is, on the stem and on the way down from the west.
    hand.clicks("[data-way-down]").await;
    hand.draws(&[(501_500.0, 4_759_700.0)]).await;
    until(driver, "document.querySelector('#way-down svg')").await;
    until(driver, "document.querySelector('#way-down p a[data-x]')").await;
    let northing = value(driver, "Number(document.querySelector('#way-down p a[data-x]').dataset.y)").await;
    assert!((northing.as_f64().unwrap() - 4_758_505.0).abs() < 100.0, "{northing}");
    hand.clicks("#way-down p a[data-x]").await;
    hand.clicks("#mask-map").await;
    until(driver, "document.getElementById('map').dataset.masked === ''").await;
    // What a measured line holds where it is closed.
    press(driver, "m").await;
    hand.draws(&[(501_000.0, 4_758_000.0), (501_500.0, 4_758_000.0), (501_500.0, 4_758_400.0)]).await;
    until(
        driver,
        "document.querySelector('.measured')?.textContent.includes('As a closed ring its area is')",
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ground_is_turned_lit_measured_and_saved_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = study(&site, dir.path(), "Depth", "4757300").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "points").await;
    press(driver, "o").await;
    let shown = "document.getElementById('perspective').dataset.ready === 'yes'";
    until(driver, shown).await;
    accessible(driver, "view in three dimensions").await;
    // What is drawn changes with what is done: the picture is not the one before.
    let picture = async || {
        until(driver, "performance.now() - (window.lookedAt ??= performance.now()) > 400 && ((window.lookedAt = null), true)").await;
        let canvas = driver.find(By::Css("#perspective canvas")).await.unwrap();
        canvas.screenshot_as_png().await.unwrap()
    };
    let first = picture().await;
    assert!(first.len() > 20_000, "something is drawn: {} bytes", first.len());
    for field in ["exaggeration", "azimuth", "altitude"] {
        let slider = driver.find(By::Css(format!("#perspective input[name={field}]"))).await.unwrap();
        slider.click().await.unwrap();
        for _ in 0..3 {
            slider.send_keys(Key::Right + "").await.unwrap();
        }
        assert!(picture().await != first, "{field}");
    }
    let canvas = driver.find(By::Css("#perspective canvas")).await.unwrap();
    let before = picture().await;
    driver
        .action_chain()
        .move_to_element_with_offset(&canvas, 0, 0)
        .click_and_hold()
        .move_by_offset(120, 20)
        .release()
        .perform()
        .await
        .unwrap();
    assert!(picture().await != before, "a drag turns it");
    crate::support::browser::wheel(driver, "#perspective canvas", -200).await;
    hand.clicks("[data-perspective=home]").await;
    for offset in [-60, 60] {
        driver
            .action_chain()
            .move_to_element_with_offset(&canvas, offset, 30)
            .click()
            .perform()
            .await
            .unwrap();
    }
    let told = "document.querySelector('#perspective [data-of=picked]').textContent";
    until(driver, &format!("{told}.includes('apart') && {told}.includes('slope')")).await;
    hand.clicks("[data-perspective=save]").await;
    hand.clicks("[data-perspective=full]").await;
    until(driver, "document.fullscreenElement?.id === 'perspective'").await;
    hand.clicks("[data-perspective=full]").await;
    until(driver, "!document.fullscreenElement").await;
    hand.clicks("[data-perspective=close]").await;
    until(driver, "document.getElementById('perspective').hidden").await;
    // And once more, by its button.
    hand.clicks("[data-zoom=depth]").await;
    until(driver, shown).await;
    press(driver, Key::Escape).await;
    until(driver, "document.getElementById('perspective').hidden").await;
    // A part of the study that lies elsewhere is refused in words.
    let away = format!("/studies/{study}/surface?west=1&south=1&east=2&north=2");
    let answer = site.get(&away).await;
    assert_eq!(answer.status(), reqwest::StatusCode::UNPROCESSABLE_ENTITY);
    assert!(answer.text().await.unwrap().contains("move the map"));
    let all = site
        .get(&format!(
            "/studies/{study}/surface?west=500000&south=4757000&east=504000&north=4760000&size=100"
        ))
        .await;
    let of = |name: &str| all.headers()[name].to_str().unwrap().parse::<f64>().unwrap();
    let (rows, cols) = (of("x-rows"), of("x-cols"));
    assert_eq!(
        json!([rows, cols, of("x-left"), of("x-top"), of("x-cell-x")]),
        json!([75.0, 100.0, 500_000.0, 4_760_000.0, 40.0])
    );
    assert_eq!(all.bytes().await.unwrap().len(), (rows * cols * 4.0) as usize);
}
