//! What decides where streams begin: area and slope, converging land, surveyed heads; and points whose area is known.

use reqwest::StatusCode;

use crate::handover::{gives_the_package_again, modelled};
use crate::support::browser::{accessible, browser, press, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

/// Two heads on side valleys, one on a ridge beside the map, one on a slope that nothing drains to.
const HEADS: [[f64; 2]; 3] = [[501_505.0, 4_758_695.0], [502_705.0, 4_758_395.0], [490_000.0, 4_758_000.0]];

async fn send(site: &Site, study: i64, path: &str, form: &[(&str, &str)]) {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
}

async fn surveyed(site: &Site, study: i64) {
    for [x, y] in HEADS {
        let line = format!("[[{x},{y}]]");
        send(site, study, "draw", &[("role", "channel_heads"), ("line", &line)]).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_streams_begin_by_is_chosen_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Beginnings").await;
    send(&site, study, "threshold", &[("cells", "300")]).await;
    let headwaters = async || {
        let network = site.store().study(study).await.unwrap().network.unwrap();
        (network["headwaters"].as_u64().unwrap(), network["threshold"].as_u64().unwrap())
    };
    let by_area = headwaters().await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "network", "threshold").await;
    until(driver, "bothrosMap.data.begun === null").await;
    // Fields come with what needs them.
    hand.picks("#begins-by", "area and").await;
    until(driver, "!document.querySelector('[data-with=slope_area]').hidden").await;
    until(driver, "document.querySelector('[data-with=converging]').hidden").await;
    hand.types("#begins-exponent", "9").await;
    hand.clicks("#begins-form button").await;
    until(driver, "document.getElementById('notice').textContent.includes('must not be above 5')").await;
    hand.types("#begins-exponent", "1.5").await;
    hand.types("#begins-slope", "20").await;
    hand.sends("/begins", hand.clicks("#begins-form button")).await;
    until(driver, "document.querySelector('label[for=slider]').textContent.includes('slopes by 20')").await;
    until(driver, "bothrosMap.data.begun").await;
    assert_ne!(headwaters().await, by_area);
    accessible(driver, "what streams begin by").await;
    // Under the hand, pixels are those of the network: the canvas holds what decides, which is not the area.
    hand.clicks("label[for=slider]").await;
    until(driver, "document.querySelector('#drawn [data-layer=streams]').checked").await;
    value(driver, "document.getElementById('slider').focus()").await;
    let step = "document.getElementById('slider').value = 500, \
        document.getElementById('slider').dispatchEvent(new Event('input', { bubbles: true })), true";
    value(driver, step).await;
    until(driver, "bothrosMap.flow.told === bothrosMap.flow.begun && bothrosMap.flow.told.some(v => v > 1)")
        .await;
    let id = value(driver, "bothrosMap.data.rasters.area.id").await;
    let tile = site.get(&format!("/studies/{study}/tiles/begun/{id}/0/0/0")).await;
    assert_eq!((tile.status(), tile.bytes().await.unwrap().len()), (StatusCode::OK, 256 * 256 * 4));
    press(driver, thirtyfour::Key::Escape).await;
    // It is kept as a trial that says so, and does not pass for one of another beginning.
    send(&site, study, "trials", &[("remark", "steep land earlier")]).await;
    hand.opens(&site, study, "network", "trials").await;
    until(driver, "document.querySelector('.trials').textContent.includes('by slope to the power 1.5')")
        .await;
    hand.opens(&site, study, "network", "threshold").await;
    hand.picks("#begins-by", "converging").await;
    hand.types("#begins-curvature", "0.0001").await;
    hand.types("#begins-over", "25").await;
    hand.sends("/begins", hand.clicks("#begins-form button")).await;
    until(driver, "document.querySelector('label[for=slider]').textContent.includes('converging land')")
        .await;
    let trials = site.get(&format!("/studies/{study}/trials")).await.text().await.unwrap();
    assert!(trials.contains("streams began by contributing area times the power 1.5"), "{trials}");
    // Evidence follows, and is silent where it cannot speak.
    let evidence = site.get(&format!("/studies/{study}/evidence")).await.text().await.unwrap();
    assert!(
        evidence.contains("says nothing of a threshold that is more than contributing area"),
        "{evidence}"
    );
    // Without surveyed heads there is nothing to begin at.
    hand.picks("#begins-by", "surveyed").await;
    hand.clicks("#begins-form button").await;
    until(driver, "document.getElementById('notice').textContent.includes('no surveyed heads')").await;
    for _ in 0..2 {
        send(&site, study, "undo", &[]).await;
    }
    assert!(trials_are_by_area(&site, study).await);
    send(&site, study, "undo", &[]).await;
    assert_eq!(headwaters().await, by_area);
}

async fn trials_are_by_area(site: &Site, study: i64) -> bool {
    let settings = site.store().study(study).await.unwrap().settings;
    settings["beginning"]["begins"]["by"] == "slope_area" || settings["beginning"]["begins"]["by"] == "area"
}

#[tokio::test(flavor = "multi_thread")]
async fn surveyed_heads_are_evidence_and_streams_begin_at_them() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "heads").await;
    surveyed(&site, study).await;
    let evidence = async || site.get(&format!("/studies/{study}/evidence")).await.text().await.unwrap();
    let told = evidence().await;
    assert!(told.contains("At 2 surveyed heads the contributing area is"), "{told}");
    assert!(told.contains("1 surveyed head lies outside the DEM"), "{told}");
    assert!(told.contains("surveyed heads put it at") || told.contains("Surveyed heads put it at"), "{told}");
    // A survey that may be far off finds larger areas.
    let (status, text) = site.send(&format!("/studies/{study}/heads-within"), &[("within", "9000")]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("50 cells"), "{text}");
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    hand.opens(&site, study, "network", "threshold").await;
    hand.types("#heads-within", "60").await;
    hand.sends("/heads-within", hand.clicks("form[hx-post$='/heads-within'] button")).await;
    assert_ne!(evidence().await, told);
    send(&site, study, "begins", &[("by", "surveyed")]).await;
    let row = site.store().study(study).await.unwrap();
    assert_eq!(row.network.unwrap()["headwaters"], 2);
    assert!(evidence().await.contains("no evidence for the threshold"));
    // Heads that come later do not slip in.
    send(&site, study, "draw", &[("role", "channel_heads"), ("line", "[[501605,4759295]]")]).await;
    let desk = site.get(&format!("/studies/{study}/desk/network")).await.text().await.unwrap();
    assert!(desk.contains("The surveyed heads were changed since"), "{desk}");
    assert_eq!(site.store().study(study).await.unwrap().network.unwrap()["headwaters"], 2);
    send(&site, study, "begins", &[("by", "surveyed")]).await;
    assert_eq!(site.store().study(study).await.unwrap().network.unwrap()["headwaters"], 3);
    // Conditioning anew keeps them, and the recipe in the package begins at the same heads.
    send(&site, study, "route", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(site.store().study(study).await.unwrap().network.unwrap()["headwaters"], 3);
    let text = gives_the_package_again(&site, study, dir.path(), "heads").await;
    assert!(text.contains("by = \"surveyed\"") && text.contains("#channel_heads"), "{text}");
    let readme = std::fs::read_to_string(dir.path().join("package/README.txt")).unwrap();
    assert!(readme.contains("Streams begin where surveyed heads"), "{readme}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_recipe_of_divided_flow_and_slope_gives_the_package_again() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "steep").await;
    send(&site, study, "begins", &[("by", "slope_area"), ("exponent", "1"), ("at_slope", "30")]).await;
    let text = gives_the_package_again(&site, study, dir.path(), "steep").await;
    assert!(text.contains("by = \"slope_area\"") && text.contains("at_slope = 0.3"), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn divided_flow_is_handed_out_as_angles_and_shares() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "divided").await;
    let stream = crate::support::geojson(&[&crate::support::STREAM]);
    let (status, told) =
        crate::support::add_layer(&site, study, "mapped_streams", &[("streams.geojson", stream)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    for (routing, files) in [("dinf", vec!["flow_angle"]), ("mfd", vec!["flow_share_n", "flow_share_se"])] {
        let choices = [
            ("sinks", "fill"),
            ("max_fill_depth_m", ""),
            ("breach_length_m", ""),
            ("breach_depth_m", ""),
            ("burn", "trench"),
            ("burn_depth_m", "5"),
            ("burn_buffer_m", "30"),
            ("burn_buffer_depth_m", "2"),
            ("routing", routing),
        ];
        send(&site, study, "conditioning", &choices).await;
        send(&site, study, "route", &[]).await;
        assert_eq!(site.finish(study).await.state, "done");
        if routing == "mfd" {
            let browser = browser().await;
            let hand = Hand { driver: &browser.driver };
            hand.opens(&site, study, "handover", "package").await;
            hand.sends("/package/shares", hand.clicks("#shares")).await;
            until(hand.driver, "document.getElementById('desk').textContent.includes('flow_share_ne.tif')")
                .await;
        }
        let text = gives_the_package_again(&site, study, dir.path(), "divided").await;
        assert!(text.contains(routing), "{text}");
        for name in files {
            let read = |path: String| {
                let path = dir.path().join(path);
                let unit = bothros_formats::VerticalUnit::Metre;
                bothros_formats::read_elevation(&path, name, 1, unit, &bothros_core::Silent).unwrap()
            };
            let (ours, run) = (read(format!("package/divided_{name}.tif")), read(format!("out/{name}.tif")));
            let differ = ours.values().iter().zip(run.values()).filter(|(a, b)| a.to_bits() != b.to_bits());
            assert_eq!(differ.count(), 0, "{name}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_point_finds_the_cell_that_fits_its_known_area() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Gauges").await;
    send(&site, study, "threshold", &[("cells", "300")]).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "catchments", "points").await;
    hand.sends("/snapping", hand.types("#snap-m", "300")).await;
    // The field comes before anything is sent.
    hand.picks("#snap-to", "cell that").await;
    until(driver, "document.activeElement.id === 'known-area'").await;
    hand.sends("/snapping", hand.types("#known-area", "0.5")).await;
    send(&site, study, "pour-points", &[("x", "502105"), ("y", "4758505"), ("name", "known")]).await;
    let area = |at: usize| {
        let store = site.store();
        async move {
            let point = store.pour_points(study).await.unwrap().swap_remove(at);
            (point.snap_to, point.catchment.unwrap()["area_km2"].as_f64().unwrap())
        }
    };
    let (by, km2) = area(0).await;
    assert_eq!(by, "area_500000");
    // An area that no cell near by has is warned of.
    hand.sends("/snapping", hand.types("#known-area", "900")).await;
    send(&site, study, "pour-points", &[("x", "502105"), ("y", "4757505"), ("name", "too large")]).await;
    hand.opens(&site, study, "catchments", "points").await;
    until(driver, "document.querySelector('.points').textContent.includes('less than the known 900')").await;
    // Areas come with a file too.
    let table = format!("x,y,name,area_km2\n502105,4758505,again,{km2}\n502105,4758105,plain,\n");
    let file = dir.path().join("gauges.csv");
    std::fs::write(&file, table).unwrap();
    hand.sends("/snapping", hand.picks("#snap-to", "nearest")).await;
    hand.gives("#points-file", &[&file]).await;
    hand.sends("/pour-points-file", hand.clicks("#points-file-form button")).await;
    let points = site.store().pour_points(study).await.unwrap();
    let by: Vec<&str> = points.iter().map(|p| p.snap_to.as_str()).collect();
    let m2 = (km2 * 1e6).round();
    assert!(by.contains(&format!("area_{m2}").as_str()) || points.len() == 3, "{by:?}");
    assert!(by.contains(&"nearest_stream"), "{by:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drop_is_followed_from_the_map() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "A drop").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "network", "threshold").await;
    press(driver, "d").await;
    until(driver, "document.getElementById('mode').textContent.includes('followed from')").await;
    hand.draws(&[(501_505.0, 4_758_695.0)]).await;
    until(driver, "Number(bothrosMap.target.dataset.followed) > 50").await;
    until(driver, "document.querySelector('#measured svg')").await;
    accessible(driver, "a drop that was followed").await;
    hand.clicks("#measured [data-close-measured]").await;
    until(driver, "!document.querySelector('#measured svg')").await;
}
