//! What the map draws, and how: styles of layers and streams, ramps, pictures from map servers.

use std::io::Read;
use std::sync::Arc;

use bothros::elevations::Elevations;
use bothros::map_servers::MapServers;
use bothros::serve::Outside;
use bothros_formats::{Crs, Picture};
use bothros_maps::{Ground, read_servers};
use reqwest::StatusCode;
use serde_json::Value;
use thirtyfour::prelude::*;

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, add_layer, database, geojson, valley_file};

async fn open(driver: &WebDriver, site: &Site, study: i64, stage: &str, drawn: &str) {
    driver.goto(&format!("{}/studies/{study}/?stage={stage}&draw={drawn}", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
}

/// Types into a field of a style, and leaves it.
async fn typed(driver: &WebDriver, field: &str, text: &str) {
    Hand { driver }.types(&format!("[data-style='{field}']"), text).await;
}

/// Chooses from a select by the first letters of an option.
async fn chosen(driver: &WebDriver, field: &str, words: &str) {
    Hand { driver }.picks(&format!("[data-style='{field}']"), words).await;
}

/// Opens the style of a layer.
async fn style_of(driver: &WebDriver, name: &str) {
    let head = format!("summary[aria-label='Style of {name}']");
    if value(driver, &format!("document.querySelector(\"{head}\").parentElement.open")).await == false {
        click(driver, &head).await;
    }
}

async fn kept(site: &Site, study: i64, pointer: &str, expected: Value) {
    for _ in 0..200 {
        let style = site.json(&format!("/studies/{study}/map")).await["style"].clone();
        if style.pointer(pointer) == Some(&expected) {
            return;
        }
        tokio::task::yield_now().await;
    }
    panic!("{pointer} is never {expected}");
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_are_drawn_by_order_as_chosen_and_the_package_takes_the_styles_along() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "styled").await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "60")]).await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network", "relief,streams").await;
    until(driver, "Number(document.getElementById('map').dataset.reaches) > 1").await;
    style_of(driver, "Network").await;
    accessible(driver, "style of the network").await;
    // Of those that are marked too the line comes first.
    let drawn = "(f => [bothrosMap.layers.streams.getStyleFunction()(f)].flat()[0])\
        (bothrosMap.layers.streams.getSource().getFeatures().find(f => f.get('order') === 1))";
    typed(driver, "streams Order 1, width, px", "6").await;
    until(driver, &format!("{drawn}.getStroke().getWidth() === 6")).await;
    // The picker of colours is the browser's own, which no driver reaches.
    let pick = "const f = document.querySelector(\"[data-style='streams Order 1, colour']\"); f.value = '#aa0011'; \
        f.dispatchEvent(new Event('change', { bubbles: true }))";
    driver.execute(pick, vec![]).await.unwrap();
    until(driver, &format!("{drawn}.getStroke().getColor() === '#AA0011'")).await;
    chosen(driver, "streams Line", "dashed").await;
    until(driver, &format!("{drawn}.getStroke().getLineDash().length === 2")).await;
    chosen(driver, "streams Label", "contributing area").await;
    until(driver, &format!("/ha|m²|km²/.test({drawn}.getText().getText())")).await;
    // What lies beyond what can be drawn is brought within it.
    typed(driver, "streams Label size, px", "900").await;
    until(driver, "document.querySelector(\"[data-style='streams Label size, px']\").value === '48'").await;
    kept(&site, study, "/streams/size", 48.into()).await;
    kept(&site, study, "/streams/orders/1/width", 6.into()).await;
    // It is there again after the page is opened anew, and in the key.
    driver.refresh().await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    until(
        driver,
        &format!("{drawn}.getStroke().getWidth() === 6 && {drawn}.getStroke().getColor() === '#AA0011'"),
    )
    .await;
    until(driver, "document.querySelectorAll('#drawn .line-key').length >= 1").await;
    let (status, _) = site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let mut document = String::new();
    archive.by_name("styled_reaches.sld").unwrap().read_to_string(&mut document).unwrap();
    for part in ["#AA0011", ">6<", "stroke-dasharray", "contributing_area_km2", ">48<"] {
        assert!(document.contains(part), "{part}: {document}");
    }
    // Drawn otherwise, the package is no longer what the study is; with another opacity it is.
    let fresh = async || site.store().packages(Some(study)).await.unwrap()[&study];
    assert!(fresh().await);
    style_of(driver, "Network").await;
    chosen(driver, "streams Line", "solid").await;
    kept(&site, study, "/streams/dash", "solid".into()).await;
    assert!(!fresh().await);
    click(driver, ".style button:not(.acts button)").await;
    until(driver, &format!("{drawn}.getStroke().getWidth() < 1")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn layers_are_drawn_in_their_colours_with_labels_and_catchments_as_outlines() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "layers").await;
    let line = geojson(&[&[[501_800.0, 4_757_800.0], [502_200.0, 4_758_100.0]]]);
    assert_eq!(add_layer(&site, study, "walls", &[("wall.geojson", line)]).await.0, StatusCode::NO_CONTENT);
    let point = [("x", "502005"), ("y", "4757500"), ("name", "Mill")];
    assert_eq!(site.send(&format!("/studies/{study}/pour-points"), &point).await.0, StatusCode::NO_CONTENT);
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "catchments", "relief,features,catchments").await;
    until(driver, "document.getElementById('map').dataset.features === '1'").await;
    style_of(driver, "Layers").await;
    let wall = "(f => bothrosMap.layers.features.getStyleFunction()(f))(bothrosMap.layers.features.getSource().getFeatures()[0])";
    assert_eq!(
        value(
            driver,
            "document.querySelector(\"[data-style='features Layers of']\").selectedOptions[0].text"
        )
        .await,
        "Walls"
    );
    typed(driver, "input-walls Width, px", "8").await;
    until(driver, &format!("{wall}.getStroke().getWidth() === 8")).await;
    kept(&site, study, "/input-walls/width", 8.into()).await;
    style_of(driver, "Catchments").await;
    chosen(driver, "catchments Fill", "outline alone").await;
    let catchment = "(f => bothrosMap.layers.catchments.getStyleFunction()(f))\
        (bothrosMap.layers.catchments.getSource().getFeatures().find(f => f.get('kind') === 'catchment'))";
    until(driver, &format!("{catchment}.getFill() === null || {catchment}.getFill() === undefined")).await;
    chosen(driver, "catchments Label", "area").await;
    let point = "(f => bothrosMap.layers.catchments.getStyleFunction()(f))\
        (bothrosMap.layers.catchments.getSource().getFeatures().find(f => f.get('kind') === 'point'))";
    until(driver, &format!("/km²|ha/.test({point}.getText().getText())")).await;
    // A layer is added from the list at this stage too.
    click(driver, "#drawn .add summary").await;
    click(driver, "[data-add-layer]").await;
    until(driver, "document.activeElement.id === 'layer-role'").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn rasters_take_another_ramp_and_range() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "ramps").await;
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network", "relief,slope,area").await;
    until(driver, "bothrosMap.views.ranges.slope").await;
    let address =
        |layer: &str| format!("bothrosMap.layers.{layer}.getSource().getTileUrlFunction()([0, 0, 0])");
    style_of(driver, "Slope").await;
    chosen(driver, "slope Ramp", "viridis").await;
    until(driver, &format!("{}.includes('ramp=viridis')", address("slope"))).await;
    click(driver, "[data-style='slope reversed']").await;
    until(driver, &format!("{}.includes('reversed=true')", address("slope"))).await;
    let before = value(driver, "bothrosMap.views.ranges.slope.high").await.as_f64().unwrap();
    chosen(driver, "slope Range", "all values").await;
    until(driver, &format!("bothrosMap.views.ranges.slope.high >= {before}")).await;
    typed(driver, "slope high", "12.5").await;
    until(driver, &format!("{}.includes('high=12.5')", address("slope"))).await;
    typed(driver, "slope low", "nonsense").await;
    until(driver, "document.querySelector(\"[data-style='slope low']\").value !== 'nonsense'").await;
    kept(&site, study, "/slope/ramp", "viridis".into()).await;
    // The picture is another.
    let tile = async |query: &str| {
        let path = value(driver, &address("slope")).await;
        let path = path.as_str().unwrap().split('?').next().unwrap().to_owned();
        site.get(&format!("{path}?low=0&high=20{query}")).await.bytes().await.unwrap()
    };
    let (own, even) = (tile("").await, tile("&ramp=viridis").await);
    assert_ne!(own, even);
    assert_eq!(tile("&ramp=no-such").await, own, "an unknown ramp is the layer's own");
    // Contributing area is drawn by the page itself.
    style_of(driver, "Accumulation").await;
    let colours = value(driver, "bothrosMap.flow.areaColours[0]").await;
    chosen(driver, "area Ramp", "magma").await;
    until(driver, &format!("bothrosMap.flow.areaColours[0] !== {colours}")).await;
    // The terrain by percentiles.
    style_of(driver, "Terrain").await;
    chosen(driver, "relief Range", "10 to 90 %").await;
    until(driver, "bothrosMap.views.ranges.relief && !bothrosMap.views.reliefQuery().includes('NaN')").await;
    for (odd, status) in [("outer=50", 422), ("outer=-1", 422), ("outer=x", 400), ("outer=0", 200)] {
        let answer = site.get(&format!("/studies/{study}/range/relief?{odd}")).await;
        assert_eq!(answer.status().as_u16(), status, "{odd}");
    }
}

/// A picture that is red in the west and green in the east of the valley.
pub(crate) fn ground() -> Ground {
    let edge = 100;
    let colour = |i: usize| if i % edge < edge / 2 { [200, 30, 30, 255] } else { [30, 160, 60, 255] };
    let pixels = (0..edge * edge).flat_map(colour).collect();
    let picture =
        Picture { width: edge, height: edge, pixels, original: (edge, edge), crs: None, geo_transform: None };
    let step = FRAME.cols as f64 * FRAME.cell_size / edge as f64;
    let geo_transform = [FRAME.left, step, 0.0, FRAME.top, 0.0, -step];
    Ground { picture, geo_transform, crs: Crs::parse("EPSG:32628").unwrap() }
}

#[tokio::test(flavor = "multi_thread")]
async fn maps_of_servers_lie_behind_the_map_with_whom_they_are_owed_to() {
    let dir = tempfile::tempdir().unwrap();
    let elevations = Elevations::At("http://127.0.0.1:1/".into());
    let maps = MapServers::Simulated { prepare: Arc::new(|| Ok(ground())), port: None };
    let site = Site::with(&database().await, Outside { elevations, maps }).await;
    let study = site.routed(&valley_file(dir.path()), "pictures").await;
    let told = site.json(&format!("/studies/{study}/maps")).await;
    assert_eq!(told["maps"].as_array().unwrap().len(), 3, "{told}");
    // Each of the three standards gives the same colours at the same place.
    let mut tiles = Vec::new();
    for at in 0..3 {
        let answer = site.get(&format!("/studies/{study}/maps/{at}/5/0/0")).await;
        assert_eq!(
            (answer.status(), answer.headers()["content-type"].to_str().unwrap()),
            (StatusCode::OK, "image/png")
        );
        let tag = answer.headers()["etag"].clone();
        let bytes = answer.bytes().await.unwrap();
        let picture = bothros_formats::decode_png(&bytes).unwrap();
        tiles.push([(10, 100), (FRAME.cols.min(250) - 10, 100)].map(|(x, y)| {
            let pixel: [u8; 4] = picture.pixels[(y * 256 + x) * 4..][..4].try_into().unwrap();
            pixel
        }));
        let again = site.client.get(format!("{}/studies/{study}/maps/{at}/5/0/0", site.base));
        assert_eq!(
            again.header("If-None-Match", tag).send().await.unwrap().status(),
            StatusCode::NOT_MODIFIED
        );
    }
    assert!(tiles.iter().all(|t| t == &tiles[0]), "{tiles:?}");
    assert!(tiles[0][0][0] > 150 && tiles[0][1][1] > 120, "{tiles:?}");
    for path in ["maps/3/5/0/0", "maps/0/21/0/0", "maps/0/5/99/0", "maps/0/5/0/99"] {
        assert_eq!(
            site.get(&format!("/studies/{study}/{path}")).await.status(),
            StatusCode::NOT_FOUND,
            "{path}"
        );
    }
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network", "relief,streams").await;
    click(driver, "#drawn .add summary").await;
    click(driver, "[data-layer=server-0]").await;
    until(driver, "performance.getEntriesByType('resource').some(r => r.name.includes('/maps/0/'))").await;
    until(driver, "document.querySelector('.owed').textContent.includes('made up') && !document.querySelector('.owed').hidden").await;
    accessible(driver, "map of a server").await;
    click(driver, "[data-layer=server-0]").await;
    until(driver, "document.querySelector('.owed').hidden").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_map_server_that_does_not_answer_is_told_by_its_name() {
    let text = "[[map]]\nname = \"Soils\"\nkind = \"xyz\"\nurl = \"http://127.0.0.1:1/{z}/{x}/{y}\"\nattribution = \"A\"\n";
    let maps = MapServers::Listed(read_servers(text).unwrap());
    let elevations = Elevations::At("http://127.0.0.1:1/".into());
    let site = Site::with(&database().await, Outside { elevations, maps }).await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "silent").await;
    let answer = site.get(&format!("/studies/{study}/maps/0/5/0/0")).await;
    assert_eq!(answer.status(), StatusCode::BAD_GATEWAY);
    assert!(answer.text().await.unwrap().contains("“Soils” does not answer"));
    let browser = browser().await;
    let driver = &browser.driver;
    open(driver, &site, study, "network", "relief,server-0").await;
    until(driver, "document.getElementById('notice').textContent.includes('“Soils” does not answer')").await;
    press(driver, Key::Escape).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_measured_line_has_one_length_and_tells_the_fall_between_its_ends() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "measured").await;
    // Along no row, column or diagonal; 500 m by 3-4-5.
    let (x, y) = (FRAME.left + 105.0, FRAME.top - 105.0);
    let line = format!("[[{x},{y}],[{},{}]]", x + 300.0, y - 400.0);
    let page = site.get(&format!("/studies/{study}/profile?line={line}")).await.text().await.unwrap();
    assert!(page.contains("<strong>500 m</strong>"), "{page}");
    assert!(page.contains("down") || page.contains("up") || page.contains("level"), "{page}");
    let table = page.split("<tbody>").nth(1).unwrap();
    let last = table.split("<tr").filter(|row| row.contains("<t")).last().unwrap();
    assert!(last.contains("500"), "the profile is as long as the line: {last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_never_hides_what_is_pointed_at() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "narrow").await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.set_window_rect(0, 0, 1024, 900).await.unwrap();
    open(driver, &site, study, "network", "relief,streams").await;
    // On a narrow map it is folded to begin with, and stays as it was left.
    until(driver, "document.querySelector('#drawn.folded')").await;
    click(driver, "[data-fold-list]").await;
    until(driver, "!document.querySelector('#drawn.folded')").await;
    until(driver, "Number(document.getElementById('map').dataset.reaches) > 1").await;
    // A place under the list, and one beside it.
    let place = |x: &str| {
        format!(
            "(r => bothrosMap.map.getCoordinateFromPixel([{x}, r.top + 40 - document.getElementById('map').getBoundingClientRect().top]))\
             (document.getElementById('drawn').getBoundingClientRect())"
        )
    };
    let under = "r.left + 30 - document.getElementById('map').getBoundingClientRect().left";
    for (at, aside) in [(under, true), ("20", false)] {
        let point = format!("bothrosMap.point(new ol.geom.Point({}))", place(at));
        driver.execute(&point, vec![]).await.unwrap();
        until(driver, &format!("document.getElementById('drawn').classList.contains('aside') === {aside}"))
            .await;
    }
    driver.execute("bothrosMap.point(null)", vec![]).await.unwrap();
    until(driver, "!document.querySelector('#drawn.aside')").await;
}
