//! Indices of the land: on the map, inside a catchment, in the package; and what the edge of the DEM leaves open.

use bothros_workflow::LandIndex;
use reqwest::StatusCode;

use crate::support::browser::{browser, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

#[tokio::test(flavor = "multi_thread")]
async fn indices_of_the_land_are_looked_at_and_handed_out_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "The land").await;
    let at = [("x", "502005"), ("y", "4757500")];
    let (status, text) = site.send(&format!("/studies/{study}/pour-points"), &at).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "network", "threshold").await;
    for index in LandIndex::ALL {
        let key = index.product().name;
        hand.clicks(&format!("#drawn [data-layer={key}]")).await;
        until(
            driver,
            &format!("bothrosMap.layers['{key}'].getVisible() && bothrosMap.layers['{key}'].getSource()"),
        )
        .await;
        // Its key has a ramp with both ends.
        let ends = format!(
            "document.querySelector('#drawn [data-layer={key}]').checked && document.querySelectorAll('#drawn .ends').length > 1"
        );
        until(driver, &ends).await;
        let told = site.get(&format!("/studies/{study}/land/{key}?cells=300")).await;
        let range: serde_json::Value = told.json().await.unwrap();
        assert!(range["low"].as_f64().unwrap() <= range["high"].as_f64().unwrap(), "{key}: {range}");
        let id = value(driver, "bothrosMap.data.rasters.area.id").await;
        let tile = site.get(&format!("/studies/{study}/tiles/{key}/{id}/0/0/0?cells=300")).await;
        assert_eq!(tile.status(), StatusCode::OK, "{key}");
        hand.clicks(&format!("#drawn [data-layer={key}]")).await;
        until(driver, &format!("!bothrosMap.layers['{key}'].getVisible()")).await;
    }
    let none = site.get(&format!("/studies/{study}/land/beauty?cells=300")).await;
    assert_eq!(none.status(), StatusCode::NOT_FOUND);
    // Inside the catchment.
    hand.opens(&site, study, "catchments", "rasters").await;
    until(driver, "document.getElementById('zonal').textContent.includes('Wetness index')").await;
    let listed = value(driver, "document.getElementById('zonal').textContent").await;
    assert!(listed.as_str().unwrap().contains("Height above the stream"), "{listed}");
    // In the package, once it is wanted; with a name and codes of one's own.
    hand.opens(&site, study, "handover", "package").await;
    hand.types("#short-name", "No Name").await;
    until(driver, "document.getElementById('notice').textContent.includes('small letters')").await;
    hand.sends("/package/short-name", hand.types("#short-name", "brook_7")).await;
    hand.sends("/package/directions", hand.picks("#directions", "degrees")).await;
    hand.sends("/package/indices", hand.clicks("#indices")).await;
    until(driver, "document.getElementById('desk').textContent.includes('wetness_index.tif')").await;
    site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let names: Vec<String> = zip.file_names().map(|name| name.unwrap().into_owned()).collect();
    for index in LandIndex::ALL {
        let name = format!("brook_7_{}.tif", index.product().name);
        assert!(names.contains(&name), "{name}: {names:?}");
    }
    zip.extract(dir.path()).unwrap();
    let path = dir.path().join("brook_7_flow_direction.tif");
    let info = bothros_formats::inspect(&path, "directions").unwrap();
    assert_eq!(info.bands.len(), 1);
    let degrees = bothros_formats::read_elevation(
        &path,
        "directions",
        1,
        bothros_formats::VerticalUnit::Metre,
        &bothros_core::Silent,
    )
    .unwrap();
    assert!(degrees.values().iter().all(|d| *d == -1.0 || (*d >= 0.0 && *d < 360.0 && d % 45.0 == 0.0)));
    let legend = site.get(&format!("/studies/{study}/map")).await.text().await.unwrap();
    assert!(legend.contains("180 S"), "{legend}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_the_edge_upstream_is_a_least_value() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "To the edge").await;
    // The stream of the valley comes from beyond the DEM.
    let cell = site.get(&format!("/studies/{study}/cell?x=502005&y=4757500")).await;
    let cell: serde_json::Value = cell.json().await.unwrap();
    assert_eq!(cell["least"], true, "{cell}");
    let table = site.get(&format!("/studies/{study}/tables/reaches?as=csv")).await.text().await.unwrap();
    let mut lines = table.lines().map(|line| line.split(',').map(str::to_owned).collect::<Vec<_>>());
    let at = lines.next().unwrap().iter().position(|h| h.contains("area_is_least")).unwrap();
    assert!(lines.any(|row| row[at] == "true"), "{table}");
}
