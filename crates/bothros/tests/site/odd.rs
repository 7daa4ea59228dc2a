//! Odd questions over the wire: every address is asked with values that make no sense, and each must be answered,
//! with a message or with nothing, never by an error of the server or a closed connection.

use crate::support::{FRAME, Site, add_layer, geojson, valley_file};
use reqwest::StatusCode;

/// What stands in for a number, a name or a list.
const ODD: [&str; 15] = [
    "",
    "0",
    "-1",
    "1",
    "3.5",
    "NaN",
    "inf",
    "-1e308",
    "1e39",
    "1e400",
    "4294967295",
    "99999999999999999999",
    "abc",
    "[[1,2]",
    "%00%F0%9F%8C%8A",
];

/// Addresses that are asked for, each with the names of what it may be asked with.
const ASKED: &[(&str, &[&str])] = &[
    ("", &["stage"]),
    ("/desk/network", &["x"]),
    ("/rail", &[]),
    ("/log", &[]),
    ("/crs", &["q", "target"]),
    ("/plan", &["crs"]),
    ("/burn-section", &["x", "y"]),
    ("/profile", &["line"]),
    ("/barriers", &[]),
    ("/evidence", &[]),
    ("/figures", &["cells"]),
    ("/continuity", &[]),
    ("/shortfalls", &[]),
    ("/agreement", &["cells", "resolution", "west"]),
    ("/trials", &[]),
    ("/way", &["cells"]),
    ("/mapped", &["resolution", "north"]),
    ("/compare", &["trials"]),
    ("/orders", &[]),
    ("/tables/reaches", &["sort", "down", "columns", "from", "row", "find", "near", "where.length_m"]),
    ("/tables/sinks", &["near", "as"]),
    ("/map", &[]),
    ("/cell", &["x", "y"]),
    ("/cells", &["row", "col", "rows", "cols"]),
    ("/streams", &["cells", "resolution", "west", "east"]),
    ("/range/near", &["radius"]),
    ("/contours", &["west", "east", "south", "north", "resolution", "interval"]),
    ("/catchments", &[]),
    ("/find", &["text"]),
    ("/layers", &["west", "east"]),
    ("/backdrops", &[]),
    ("/picture.png", &[]),
    ("/package.zip", &[]),
];

/// What all addresses of the map are asked with besides, so that only one thing is odd.
fn usual(of: &str) -> Option<String> {
    let [west, south, east, north] = FRAME.extent();
    let value = match of {
        "west" => west + 500.0,
        "south" => south + 500.0,
        "east" => east - 500.0,
        "north" => north - 500.0,
        "x" => west + 2000.0,
        "y" => south + 1500.0,
        "resolution" => 10.0,
        "cells" => 300.0,
        "row" | "col" => 20.0,
        "rows" | "cols" => 9.0,
        _ => return None,
    };
    Some(format!("{value}"))
}

const USUAL: [&str; 12] =
    ["west", "south", "east", "north", "x", "y", "resolution", "cells", "row", "col", "rows", "cols"];

async fn answered(site: &Site, path: &str) -> StatusCode {
    let answer = site.client.get(format!("{}{path}", site.base)).send().await;
    let answer = answer.unwrap_or_else(|e| panic!("{path}: {e}"));
    let status = answer.status();
    let text = answer.bytes().await.unwrap_or_else(|e| panic!("{path}: {e}"));
    assert!(!status.is_server_error(), "{path}: {status} {}", String::from_utf8_lossy(&text));
    if status.is_client_error() {
        let text = String::from_utf8_lossy(&text);
        assert!(!text.trim().is_empty(), "{path}: {status} without a word");
        assert!(!text.contains("panicked") && !text.contains("/tmp"), "{path}: {text}");
    }
    status
}

#[tokio::test(flavor = "multi_thread")]
async fn every_address_answers_odd_questions() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "asked").await;
    let stream = [[502_000.0, 4_759_900.0], [502_000.0, 4_757_100.0]];
    add_layer(&site, study, "mapped_streams", &[("streams.geojson", geojson(&[&stream]))]).await;
    // With usual values all of them answer.
    for (address, names) in ASKED {
        let query: Vec<String> = USUAL.iter().map(|n| format!("{n}={}", usual(n).unwrap())).collect();
        let path = format!("/studies/{study}{address}?{}", query.join("&"));
        let status = answered(&site, &path).await;
        // Nothing is burned, no package was made, and what is not asked for has no answer.
        let silent = ["/burn-section", "/package.zip"].contains(address);
        let asked = names.iter().any(|n| usual(n).is_none());
        assert!(status.is_success() || silent || asked, "{path}: {status}");
    }
    for (address, names) in ASKED {
        for name in *names {
            for odd in ODD {
                let rest = USUAL.iter().filter(|n| *n != name).map(|n| format!("{n}={}", usual(n).unwrap()));
                let query: Vec<String> = rest.chain([format!("{name}={odd}")]).collect();
                answered(&site, &format!("/studies/{study}{address}?{}", query.join("&"))).await;
            }
        }
    }
    // A view turned inside out.
    for address in ["/contours", "/streams", "/agreement", "/mapped", "/cells", "/layers"] {
        let query = "west=503000&east=501000&south=4759000&north=4758000&resolution=5&cells=300";
        answered(&site, &format!("/studies/{study}{address}?{query}")).await;
    }
    // Parts of addresses, and studies, that are not there.
    for odd in ["0", "-1", "9223372036854775807", "abc", "NaN"] {
        let raster =
            site.json(&format!("/studies/{study}/map")).await["rasters"]["dem"]["id"].as_i64().unwrap();
        for path in [
            format!("/studies/{odd}"),
            format!("/studies/{odd}/map"),
            format!("/studies/{odd}/desk/network"),
            format!("/studies/{study}/desk/{odd}"),
            format!("/studies/{study}/barriers/{odd}"),
            format!("/studies/{study}/trials/{odd}/lines?west=0&south=0&east=1&north=1&resolution=1"),
            format!("/studies/{study}/trials/{odd}/justify"),
            format!("/studies/{study}/backdrops/{odd}/laid.png"),
            format!("/studies/{study}/range/{odd}"),
            format!("/studies/{study}/tiles/{odd}/{raster}/0/0/0"),
            format!("/studies/{study}/tiles/dem/{odd}/0/0/0"),
            format!("/studies/{study}/tiles/dem/{raster}/{odd}/0/0"),
            format!("/studies/{study}/tiles/dem/{raster}/0/{odd}/0"),
            format!("/studies/{study}/tiles/dem/{raster}/0/0/{odd}"),
            format!("/studies/{study}/tiles/near/{raster}/0/0/0?radius={odd}&low={odd}&high={odd}"),
            format!(
                "/studies/{study}/tiles/dem/{raster}/0/0/0?azimuth={odd}&altitude={odd}&low={odd}&high={odd}"
            ),
            format!("/help/{odd}"),
            format!("/assets/{odd}"),
        ] {
            answered(&site, &path).await;
        }
    }
    let after = site.json(&format!("/studies/{study}/map")).await;
    assert!(after["threshold_cells"].as_u64().is_some(), "the study is as it was: {after}");
}

/// Forms, each with what a page would send in them.
const SENT: &[(&str, &[(&str, &str)])] = &[
    ("/threshold", &[("cells", "300"), ("area", ""), ("unit", "ha")]),
    ("/tolerance", &[("tolerance", "30")]),
    ("/snapping", &[("snap_m", "100"), ("snap_to", "largest")]),
    ("/pour-points", &[("x", "502000"), ("y", "4757500"), ("name", "Mill")]),
    (
        "/shortfalls",
        &[("side", "extra"), ("x", "502000"), ("y", "4757500"), ("verdict", "accepted"), ("remark", "dry")],
    ),
    (
        "/edits",
        &[("kind", "prune"), ("line", "[[502000,4757500]]"), ("hectares", "3"), ("reason", "a ditch")],
    ),
    ("/trials", &[("remark", "a first one"), ("name", "first")]),
    (
        "/conditioning",
        &[
            ("fill_voids", "on"),
            ("sinks", "fill"),
            ("max_fill_depth_m", ""),
            ("breach_length_m", "100"),
            ("breach_depth_m", "5"),
            ("burn", "graded"),
            ("burn_depth_m", "2"),
            ("burn_buffer_m", "30"),
            ("burn_buffer_depth_m", "1"),
            ("routing", "d8"),
            ("rebuild_step", ""),
            ("rebuild_tension", ""),
        ],
    ),
    ("/describe", &[("name", "asked"), ("description", "of it")]),
    ("/style", &[("style", "{}")]),
    (
        "/draw",
        &[
            ("role", "mapped_streams"),
            ("line", "[[501000,4758000],[502000,4758500]]"),
            ("name", "drawn"),
            ("elevation", ""),
        ],
    ),
    ("/prepare-plan", PREPARATION),
    ("/prepare", PREPARATION),
    ("/cancel/0", &[]),
    ("/band", &[("band", "1")]),
    ("/source-crs", &[("crs", "EPSG:32628")]),
    ("/vertical-unit", &[("unit", "m")]),
    ("/fetch", &[("collection", "none"), ("margin_m", "100")]),
    ("/dem-files/1/move", &[("to", "0")]),
    ("/dem-files/level", &[("on", "on")]),
    ("/barriers/1/decide", &[("decision", "cut"), ("line", "")]),
    ("/layers/1/features/0", &[("shape", "")]),
    ("/undo", &[]),
];

const PREPARATION: &[(&str, &str)] = &[
    ("crs", "EPSG:32628"),
    ("cell_size", "10"),
    ("resampling", "bilinear"),
    ("clip", ""),
    ("extent", ""),
    ("margin_m", ""),
    ("align", ""),
    ("spikes", ""),
    ("steps", ""),
    ("sea", ""),
    ("voids", ""),
    ("full_rectangle", ""),
];

#[tokio::test(flavor = "multi_thread")]
async fn every_form_takes_odd_values_or_says_why_not() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "told").await;
    for (address, fields) in SENT {
        // What is not there cannot be changed; all else is taken as it is usually sent.
        let (status, text) = site.send(&format!("/studies/{study}{address}"), fields).await;
        let missing =
            ["/1/", "/cancel/", "/fetch", "/band", "/dem-files/"].iter().any(|part| address.contains(part));
        assert!(status.is_success() || missing, "{address}: {status} {text}");
        if site.store().last_job(study).await.unwrap().is_some_and(|j| j.is_active()) {
            site.finish(study).await;
        }
        for (name, _) in *fields {
            for odd in ODD {
                let form: Vec<(&str, &str)> =
                    fields.iter().map(|(n, usual)| (*n, if n == name { odd } else { *usual })).collect();
                let answer = site.post(&format!("/studies/{study}{address}")).form(&form).send().await;
                let answer = answer.unwrap_or_else(|e| panic!("{address} with {name}={odd}: {e}"));
                let status = answer.status();
                let text = answer.text().await.unwrap();
                assert!(!status.is_server_error(), "{address} with {name}={odd}: {status} {text}");
                let told = !status.is_client_error() || !text.trim().is_empty();
                assert!(told && !text.contains("/tmp"), "{address} with {name}={odd}: {status} {text}");
                if site.store().last_job(study).await.unwrap().is_some_and(|j| j.is_active()) {
                    site.finish(study).await;
                }
            }
        }
    }
    // What was taken can be looked at, and the study still answers with everything it shows.
    for part in [
        "desk/terrain",
        "desk/conditioning",
        "desk/network",
        "desk/catchments",
        "desk/handover",
        "log",
        "map",
    ] {
        let answer = site.get(&format!("/studies/{study}/{part}")).await;
        assert_eq!(answer.status(), StatusCode::OK, "{part}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn choices_made_at_once_are_all_kept_and_undone_one_by_one() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "chosen").await;
    let (status, text) = site.send(&format!("/studies/{study}/prepare"), &[("full", "")]).await;
    assert!(status.is_success(), "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    for round in 0..5 {
        let (tolerance, snap, style) =
            (format!("{}", 40 + round), format!("{}", 70 + round), format!("{{\"round\":{round}}}"));
        let base = format!("/studies/{study}");
        let (one, two, three) =
            (format!("{base}/tolerance"), format!("{base}/snapping"), format!("{base}/style"));
        let (tolerance_form, style_form) = ([("tolerance", &*tolerance)], [("style", &*style)]);
        let snap_form = [("snap_m", &*snap), ("snap_to", "largest")];
        let all = tokio::join!(
            site.send(&one, &tolerance_form),
            site.send(&two, &snap_form),
            site.send(&three, &style_form),
        );
        assert!(all.0.0.is_success() && all.1.0.is_success() && all.2.0.is_success(), "{all:?}");
        let kept = site.store().study(study).await.unwrap().settings;
        assert_eq!(kept["tolerance_m"], f64::from(40 + round), "{kept}");
        assert_eq!(kept["snap_m"], f64::from(70 + round), "{kept}");
        assert_eq!(kept["style"]["round"], round, "{kept}");
    }
    // Undoing the last choice, whichever it was, leaves what else was chosen since.
    let (status, text) = site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert!(status.is_success(), "{text}");
    let kept = site.store().study(study).await.unwrap().settings;
    let now = [&kept["tolerance_m"], &kept["snap_m"]].map(|v| v.as_f64().unwrap());
    assert!([[43.0, 74.0], [44.0, 73.0]].contains(&now), "{kept}");
    assert_eq!(kept["style"]["round"], 4);
}
