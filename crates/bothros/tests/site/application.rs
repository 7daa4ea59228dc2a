//! What the pages stand on, over the wire: tiles, cells, streams, pour points, undo, studies, events.

use std::sync::Arc;
use std::time::Duration;

use crate::support::browser::{browser, until};
use crate::support::{FRAME, Site, valley, valley_file};
use bothros_core::Cell;
use bothros_store::RasterRole;
use bothros_workflow::{Facts, GridCache};
use reqwest::StatusCode;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// The first event of a study's stream.
async fn next_event_of_a_job(mut answer: reqwest::Response) -> Value {
    let mut text = String::new();
    loop {
        let piece = answer.chunk().await.unwrap().expect("the stream goes on");
        text += std::str::from_utf8(&piece).unwrap();
        // What is whole ends with an empty line.
        let whole = text.rsplit_once("\n\n").map_or("", |(whole, _)| whole);
        let events =
            whole.lines().filter_map(|l| l.strip_prefix("data: ")).map(|l| serde_json::from_str(l).unwrap());
        if let Some(event) = events.into_iter().find(|e: &Value| e["job"].is_i64()) {
            return event;
        }
    }
}

async fn valley_site() -> (Site, i64) {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Valley").await;
    (site, study)
}

#[tokio::test(flavor = "multi_thread")]
async fn tiles_hold_what_the_raster_holds() {
    let (site, study) = valley_site().await;
    let map = site.json(&format!("/studies/{study}/map")).await;
    assert_eq!(map["crs"]["epsg"], 32628);
    let area = &map["rasters"]["area"];
    let path = format!("/studies/{study}/tiles/area/{}/0/0/0", area["id"]);
    let answer = site.get(&path).await;
    let tag = answer.headers()["etag"].to_str().unwrap().to_owned();
    assert!(answer.headers()["cache-control"].to_str().unwrap().contains("immutable"));
    let bytes = answer.bytes().await.unwrap();
    let tile: Vec<f32> = bytes.chunks_exact(4).map(|b| f32::from_le_bytes(b.try_into().unwrap())).collect();
    let meta = site.store().raster(study, RasterRole::Accumulation).await.unwrap().unwrap();
    let cells = site.store().read_raster::<u32>(&meta).await.unwrap();
    for row in 0..256 {
        for col in 0..256 {
            assert_eq!(tile[row * 256 + col], cells.values()[row * FRAME.cols + col] as f32 + 1.0);
        }
    }
    let known =
        site.client.get(format!("{}{path}", site.base)).header("If-None-Match", tag).send().await.unwrap();
    assert_eq!(known.status(), StatusCode::NOT_MODIFIED);
    for what in ["dem", "sinks", "direction"] {
        let raster = &map["rasters"][what]["id"];
        let answer =
            site.get(&format!("/studies/{study}/tiles/{what}/{raster}/0/1/1?low=300&high=700")).await;
        assert_eq!(answer.headers()["content-type"], "image/png", "{what}");
        assert!(answer.bytes().await.unwrap().starts_with(b"\x89PNG"));
    }
    let picture = site.get(&format!("/studies/{study}/picture.png")).await;
    assert_eq!(picture.headers()["content-type"], "image/png");
    for wrong in ["area/999999/0/0/0", "area/1/99/0/0", "nothing/1/0/0/0"] {
        let answer = site.get(&format!("/studies/{study}/tiles/{wrong}")).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cell_tells_all_that_is_known_of_it() {
    let (site, study) = valley_site().await;
    // The pit in the valley floor: row 150, column 201.
    let (x, y) = (FRAME.left + 2015.0, FRAME.top - 1505.0);
    let cell = site.json(&format!("/studies/{study}/cell?x={x}&y={y}")).await;
    assert_eq!((cell["row"].as_u64(), cell["col"].as_u64()), (Some(150), Some(201)));
    let z = valley().values()[150 * FRAME.cols + 201] as f64;
    assert!((cell["elevation_m"].as_f64().unwrap() - z).abs() < 1e-4);
    assert!(cell["fill_m"].as_f64().unwrap() > 0.5, "{cell}");
    // Near the central meridian of the zone, 15 W.
    assert!((cell["lon"].as_f64().unwrap() + 15.0).abs() < 0.05, "{cell}");
    let outside = site.json(&format!("/studies/{study}/cell?x=0&y=0")).await;
    assert!(outside.get("elevation_m").is_none());
    let window = site.json(&format!("/studies/{study}/cells?row=149&col=200&rows=3&cols=3")).await;
    assert!((window["elevation"][4].as_f64().unwrap() - z).abs() < 1e-4);
    assert_eq!(window["direction"].as_array().unwrap().len(), 9);
    let far = site.get(&format!("/studies/{study}/cells?row=0&col=0&rows=4000&cols=4000")).await;
    assert_eq!(far.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

/// While the grids of a large study are being read, a cell tells what is kept of it alone.
#[tokio::test(flavor = "multi_thread")]
async fn a_cell_is_told_before_the_study_has_been_read() {
    let (site, study) = valley_site().await;
    let store = site.store();
    let facts = Arc::new(Facts::of(&store.study(study).await.unwrap()).unwrap());
    let cell = Cell { row: 180, col: 201 };
    let nothing_read = GridCache::default();
    let at_once = nothing_read.cell_flow(store, &facts, cell, Duration::ZERO).await.unwrap().unwrap();
    assert_eq!(at_once.further, None);
    let in_time =
        nothing_read.cell_flow(store, &facts, cell, Duration::from_secs(60)).await.unwrap().unwrap();
    assert_eq!((in_time.accumulation, in_time.direction), (at_once.accumulation, at_once.direction));
    assert!(in_time.further.is_some());
    let (x, y) = FRAME.centre(cell);
    let page = site.json(&format!("/studies/{study}/cell?x={x}&y={y}")).await;
    assert_eq!(page["accumulation"], at_once.accumulation);
    assert_eq!(
        (&page["waiting"], &page["least"]),
        (&json!(false), &json!(in_time.further.unwrap().is_least))
    );

    // The page asks again, though the pointer stays, and promises nothing until it knows.
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=network", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    let slow = "window.asked = 0; const real = window.fetch; window.fetch = async (address, options) => { \
        const answer = await real(address, options); if (!String(address).includes('/cell?')) return answer; \
        const { order, reach, least, ...rest } = await answer.json(); window.asked += 1; \
        await new Promise((done) => setTimeout(done, 300)); \
        const told = window.asked < 4 ? { ...rest, waiting: true } : { ...rest, order, reach, least }; \
        return new Response(JSON.stringify(told), { headers: { 'Content-Type': 'application/json' } }); }; return 1";
    driver.execute(slow, vec![]).await.unwrap();
    let map = driver.find(By::Id("map")).await.unwrap();
    driver.action_chain().move_to_element_center(&map).perform().await.unwrap();
    let says = |what: &str| format!("document.getElementById('readout').textContent.includes('{what}')");
    until(driver, &format!("{} && {}", says("drains at least"), says("streams are being read"))).await;
    until(driver, &format!("window.asked >= 4 && !{} && {}", says("being read"), says("drains "))).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_follow_the_threshold() {
    let (site, study) = valley_site().await;
    let [west, south, east, north] = FRAME.extent();
    let view = format!("west={west}&south={south}&east={east}&north={north}&resolution=5");
    let mut before = usize::MAX;
    for cells in [50, 500, 5000] {
        let told = site.json(&format!("/studies/{study}/streams?cells={cells}&{view}")).await;
        let reaches = told["reaches"].as_array().unwrap().len();
        assert!(reaches < before && reaches > 0, "{cells}: {reaches}");
        before = reaches;
        let (status, _) =
            site.send(&format!("/studies/{study}/threshold"), &[("cells", &cells.to_string())]).await;
        assert_eq!(status, StatusCode::NO_CONTENT);
    }
    let (status, _) =
        site.send(&format!("/studies/{study}/threshold"), &[("area", "12"), ("unit", "ha")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let cells = |study: &bothros_store::Study| study.network.as_ref().unwrap()["threshold"].as_u64();
    assert_eq!(cells(&site.store().study(study).await.unwrap()), Some(1200), "12 ha of 100 m²");
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert_eq!(cells(&site.store().study(study).await.unwrap()), Some(5000));
}

#[tokio::test(flavor = "multi_thread")]
async fn pour_points_are_placed_moved_and_undone() {
    let (site, study) = valley_site().await;
    let base = format!("/studies/{study}");
    let send = async |path: &str, fields: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("{base}/{path}"), fields).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    let points = async || site.json(&format!("{base}/catchments")).await;
    send("snapping", &[("snap_m", "60"), ("snap_to", "largest")]).await;
    send("pour-points", &[("x", "502005"), ("y", "4757500"), ("name", "Mill")]).await;
    let first = points().await;
    let catchment = &first[0]["catchment"];
    assert_eq!(first[0]["name"], "Mill");
    assert!(catchment["moved_m"].as_f64().unwrap() <= 60.0);
    // Polygon area equals cell count times cell area: shoelace over all rings, about the first point.
    let mut doubled = 0.0;
    for ring in first[0]["outline"].as_array().unwrap().iter().flat_map(|p| p.as_array().unwrap()) {
        let ring: Vec<[f64; 2]> = serde_json::from_value(ring.clone()).unwrap();
        let [x0, y0] = ring[0];
        let cross = |w: &[[f64; 2]]| (w[0][0] - x0) * (w[1][1] - y0) - (w[1][0] - x0) * (w[0][1] - y0);
        doubled += ring.windows(2).map(cross).sum::<f64>();
    }
    let cells = catchment["cells"].as_f64().unwrap();
    assert_eq!(doubled / 2.0, cells * 100.0);
    assert!((catchment["area_km2"].as_f64().unwrap() - cells * 1e-4).abs() < 1e-9);

    let id = first[0]["id"].as_i64().unwrap();
    send(&format!("pour-points/{id}/move"), &[("x", "502005"), ("y", "4759000")]).await;
    let moved = points().await;
    assert!(moved[0]["catchment"]["cells"].as_f64().unwrap() < cells, "further up the valley");
    send(&format!("pour-points/{id}/rename"), &[("name", "Ford")]).await;
    send(&format!("pour-points/{id}/delete"), &[]).await;
    assert_eq!(points().await, Value::Array(vec![]));
    send("undo", &[]).await;
    assert_eq!(points().await[0]["name"], "Ford");
    send("undo", &[]).await;
    assert_eq!(points().await[0]["name"], "Mill");
    send("undo", &[]).await;
    assert_eq!(points().await[0]["catchment"], first[0]["catchment"]);
    send("undo", &[]).await;
    assert_eq!(points().await, Value::Array(vec![]));
    // How points snap was chosen before all that.
    send("undo", &[]).await;
    let (status, text) = site.send(&format!("{base}/undo"), &[]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("nothing left"), "{text}");

    // Found by name, and by latitude and longitude.
    send("pour-points", &[("place", "502005 4757500"), ("name", "Weir")]).await;
    let by_name = site.json(&format!("{base}/find?text=weir")).await;
    assert_eq!(by_name["x"], 502_005.0);
    let degrees = site.json(&format!("{base}/find?text=42.9762%20N%2014.9754%20W")).await;
    assert!((degrees["x"].as_f64().unwrap() - 502_005.0).abs() < 60.0, "{degrees}");

    // Routing again delineates them again.
    send("route", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    assert!(points().await[0]["catchment"]["cells"].as_u64().unwrap() > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn studies_are_described_duplicated_deleted_and_restored() {
    let (site, study) = valley_site().await;
    let (status, text) = site.send(&format!("/studies/{study}/describe"), &[("name", "  ")]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("needs a name"), "{text}");
    let described = [("name", "Valley of pits"), ("description", "a trial & more")];
    site.send(&format!("/studies/{study}/describe"), &described).await;
    site.send(&format!("/studies/{study}/duplicate"), &[]).await;
    let page = site.get("/").await.text().await.unwrap();
    assert!(page.contains("Valley of pits, copy") && page.contains("a trial &#38; more"), "{page}");
    let copy = site.store().studies().await.unwrap()[0].id;
    let network = site.get(&format!("/studies/{copy}/desk/network")).await.text().await.unwrap();
    assert!(network.contains("Reaches"));
    site.send(&format!("/studies/{copy}/delete"), &[]).await;
    assert_eq!(site.get(&format!("/studies/{copy}/")).await.status(), StatusCode::NOT_FOUND);
    assert!(site.get("/").await.text().await.unwrap().contains("Restore"));
    site.send(&format!("/studies/{copy}/restore"), &[]).await;
    assert_eq!(site.get(&format!("/studies/{copy}/")).await.status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn progress_is_told_as_it_happens() {
    let (site, study) = valley_site().await;
    let stream = site.get("/events").await;
    assert_eq!(stream.headers()["content-type"], "text/event-stream");
    site.send(&format!("/studies/{study}/route"), &[]).await;
    let event = next_event_of_a_job(stream).await;
    assert_eq!(event["study"], study);
    assert!(event["job"].is_i64() && event["state"].is_string(), "{event}");
    assert_eq!(site.finish(study).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_stage_has_help_and_licences_are_shown() {
    let site = Site::new().await;
    for topic in ["start", "terrain", "conditioning", "network", "catchments", "handover"] {
        let text = site.get(&format!("/help/{topic}")).await.text().await.unwrap();
        assert!(text.contains("<dl>"), "{topic}");
    }
    assert_eq!(site.get("/help/none").await.status(), StatusCode::NOT_FOUND);
    let licences = site.get("/licences").await.text().await.unwrap();
    for name in ["openlayers", "htmx", "alpine", "bootstrap", "source-sans-3"] {
        assert!(licences.contains(&format!("<h3>{name}</h3>")), "{name}");
    }
}
