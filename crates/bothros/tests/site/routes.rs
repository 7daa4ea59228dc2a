//! Every address that changes something: not without the visitor's own token, not for what belongs to another study,
//! and not where it is refused.

use bothros_core::Grid;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};

use crate::support::{FRAME, Site, add_layer, geojson, valley_file, written};

/// What a page sends to change a study, all of it valid. `{point}` and the like stand for numbers of the study's own.
const CHANGES: &[(&str, &[(&str, &str)])] = &[
    ("describe", &[("name", "another"), ("description", "")]),
    ("duplicate", &[]),
    ("undo", &[]),
    ("package/short-name", &[("short_name", "brook")]),
    ("package/directions", &[("directions", "degrees")]),
    ("package/indices", &[("indices", "yes")]),
    ("package/shares", &[("shares", "yes")]),
    ("begins", &[("by", "slope_area"), ("exponent", "1"), ("at_slope", "20")]),
    ("heads-within", &[("within", "20")]),
    (
        "realisations",
        &[("vertical_error", "0.5"), ("correlation", "0"), ("realisations", "10"), ("seed", "1")],
    ),
    ("band", &[("band", "1")]),
    ("source-crs", &[("crs", "EPSG:32628")]),
    ("vertical-unit", &[("unit", "m")]),
    ("reread", &[]),
    ("prepare", &[("cell_size", "20")]),
    ("dem-files/level", &[("on", "on")]),
    ("dem-files/0/move", &[("to", "1")]),
    ("dem-files/1/remove", &[]),
    ("dem-files/0/provenance", &[("source", "a"), ("date", ""), ("scale", ""), ("licence", "")]),
    ("candidates/1/take-up", &[]),
    ("candidates/1/delete", &[]),
    ("fetch-again", &[]),
    ("review", &[]),
    ("review/choice", &[("vertical_error", "0.2")]),
    ("route", &[]),
    ("weights/remove", &[]),
    ("barriers/{barrier}/decide", &[("decision", "breach")]),
    ("layers/{layer}/delete", &[]),
    ("layers/{layer}/features/1", &[("shape", "")]),
    ("draw", &[("role", "walls"), ("line", "[[501000,4758000],[502000,4758500]]")]),
    ("threshold", &[("cells", "300")]),
    ("threshold/keep", &[("name", "guideline"), ("reason", "asked for")]),
    ("tolerance", &[("tolerance", "30")]),
    ("shortfalls", &[("side", "extra"), ("x", "502000"), ("y", "4757500"), ("verdict", "to_mend")]),
    ("edits", &[("kind", "head"), ("line", "[[502000,4757500]]"), ("reason", "seen")]),
    ("trials", &[("remark", "kept")]),
    ("trials/{trial}/describe", &[("name", "renamed"), ("remark", "")]),
    ("trials/{trial}/choose", &[("justification", "it fits")]),
    ("trials/{trial}/delete", &[]),
    ("snapping", &[("snap_m", "70"), ("snap_to", "largest")]),
    ("pour-points", &[("x", "502000"), ("y", "4757500"), ("name", "new")]),
    ("pour-points/{point}/rename", &[("name", "renamed")]),
    ("pour-points/{point}/move", &[("x", "502005"), ("y", "4758500")]),
    ("pour-points/{point}/delete", &[]),
    ("concentration", &[("curve_number", "75")]),
    ("concentration", &[("formula", "temez"), ("reason", "made for basins of this size")]),
    ("style", &[("style", "{\"a\":1}")]),
    ("package", &[]),
    ("package/shapefiles", &[("shapefiles", "yes")]),
    ("package/netcdf", &[("netcdf", "yes")]),
    ("package/sheets", &[("sheets", "yes")]),
    ("package/report", &[("report", "yes")]),
    (
        "scheme/model",
        &[
            ("shortest", "50"),
            ("impervious", "5"),
            ("roughness", "0.05"),
            ("width", "2"),
            ("exponent", "0.4"),
            ("side_slope", "1.5"),
            ("spill_width", ""),
            ("section_spacing", ""),
            ("section_half_width", "50"),
        ],
    ),
    ("scheme/forget", &[]),
    ("tables/flowpaths/set", &[("column", "roughness"), ("value", "0.05")]),
    ("package/crs", &[("crs", "EPSG:3857")]),
    ("rasters/lookup", &[("name", "cover"), ("lookup", "11, 70")]),
    (
        "sheets",
        &[("name", "New"), ("layout", "one"), ("size", "a4"), ("across", "yes"), ("layers", "relief")],
    ),
    ("report/sections", &[("section", "log"), ("to", "out")]),
    ("report/own", &[("section", "inputs"), ("text", "as agreed")]),
    ("sheets/copy", &[("from", "1")]),
    ("sheets/{sheet}/rename", &[("name", "renamed")]),
    ("sheets/{sheet}/page", &[("size", "a3"), ("across", "no")]),
    ("sheets/{sheet}/together", &[("together", "yes")]),
    ("sheets/{sheet}/guides", &[("points", "[[20],[30]]")]),
    ("sheets/{sheet}/parts", &[("kind", "text")]),
    ("sheets/{sheet}/parts/1/choices", &[("text", "another")]),
    ("sheets/{sheet}/parts/1/place", &[("x", "12")]),
    ("sheets/{sheet}/parts/2/look", &[("right", "5")]),
    ("sheets/{sheet}/parts/1/shown", &[("shown", "no")]),
    ("sheets/{sheet}/parts/1/move", &[("to", "front")]),
    ("sheets/{sheet}/parts/2/layer", &[("layer", "relief"), ("to", "off")]),
    ("sheets/{sheet}/parts/4/entry", &[("entry", "relief"), ("words", "height")]),
    ("sheets/{sheet}/parts/3/delete", &[]),
    ("sheets/{sheet}/atlas", &[("dpi", "40")]),
    ("sheets/{sheet}/delete", &[]),
    ("delete", &[]),
];

struct Made {
    id: i64,
    point: i64,
    trial: i64,
    layer: i64,
    barrier: i64,
    sheet: i64,
}

/// A study with one of everything.
async fn made(site: &Site, name: &str) -> Made {
    let dir = tempfile::tempdir().unwrap();
    let id = site.study(&valley_file(dir.path()), name).await;
    for job in ["review", "route"] {
        site.send(&format!("/studies/{id}/{job}"), &[]).await;
        assert_eq!(site.finish(id).await.state, "done");
    }
    site.send(&format!("/studies/{id}/threshold"), &[("cells", "60")]).await;
    let line: &[[f64; 2]] = &[[501_000.0, 4_758_000.0], [502_000.0, 4_758_500.0]];
    add_layer(site, id, "walls", &[("walls.geojson", geojson(&[line]))]).await;
    let point = [("x", "502005"), ("y", "4757500"), ("name", "Mill")];
    site.send(&format!("/studies/{id}/pour-points"), &point).await;
    site.send(&format!("/studies/{id}/trials"), &[("remark", "first")]).await;
    let classes = Grid::from_fn(FRAME.rows, FRAME.cols, |c| if c.row % 2 == 0 { 11.0f32 } else { 42.0 });
    let cover = written(dir.path(), "cover.tif", &classes, &FRAME);
    let part = Part::bytes(std::fs::read(&cover).unwrap()).file_name("cover.tif");
    let form = Form::new().text("name", "cover").text("holds", "classes").text("unit", "").part("dem", part);
    let answer = site.post(&format!("/studies/{id}/rasters")).multipart(form).send().await.unwrap();
    assert!(answer.status().is_success(), "{}", answer.text().await.unwrap());
    let new = [
        ("name", "Sheet"),
        ("layout", "one"),
        ("size", "a4"),
        ("across", "yes"),
        ("layers", "relief,streams"),
    ];
    site.send(&format!("/studies/{id}/sheets"), &new).await;
    let store = site.store();
    let layers = store.layers(id).await.unwrap();
    Made {
        id,
        point: store.pour_points(id).await.unwrap()[0].id,
        trial: store.trials(id).await.unwrap()[0].id,
        sheet: store.sheets(id).await.unwrap()[0].id,
        layer: layers.iter().find(|l| l.name == "walls").unwrap().id,
        // The valley may have none.
        barrier: store.barriers(id).await.unwrap().first().map_or(0, |b| b.id),
    }
}

fn path(change: &str, study: i64, of: &Made) -> String {
    let of = change
        .replace("{point}", &of.point.to_string())
        .replace("{trial}", &of.trial.to_string())
        .replace("{sheet}", &of.sheet.to_string())
        .replace("{layer}", &of.layer.to_string())
        .replace("{barrier}", &of.barrier.to_string());
    format!("/studies/{study}/{of}")
}

/// All rows of a study, as one text.
async fn all(site: &Site, study: i64) -> String {
    site.store().raw_study(study).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_changed_without_the_visitors_own_token() {
    let site = Site::new().await;
    let own = made(&site, "own").await;
    let before = all(&site, own.id).await;
    for (change, form) in CHANGES {
        let address = format!("{}{}", site.base, path(change, own.id, &own));
        // None, that of nobody, and one without its cookie.
        let none = site.client.post(&address).form(form);
        let wrong = site.client.post(&address).form(form).header("X-Bothros-Token", "0");
        let alone = site.client.post(&address).form(form).header("X-Bothros-Token", &site.token);
        for request in [none, wrong, alone] {
            let answer = request.send().await.unwrap();
            assert_eq!(answer.status(), StatusCode::FORBIDDEN, "{change}");
        }
    }
    assert_eq!(all(&site, own.id).await, before);
    assert_eq!(site.store().studies().await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_of_another_study_is_changed_or_told() {
    let site = Site::new().await;
    let (own, other) = (made(&site, "own").await, made(&site, "other").await);
    let before = (all(&site, own.id).await, all(&site, other.id).await);
    for (change, form) in CHANGES.iter().filter(|(change, _)| change.contains('{')) {
        // The study is one's own, what is named in it belongs to another.
        let (status, text) = site.send(&path(change, own.id, &other), form).await;
        assert!(
            matches!(status, StatusCode::NOT_FOUND | StatusCode::UNPROCESSABLE_ENTITY),
            "{change}: {status} {text}"
        );
    }
    let measures = format!("/studies/{}/pour-points/{}/measures", own.id, other.point);
    assert_eq!(site.get(&measures).await.status(), StatusCode::NOT_FOUND);
    for part in ["barriers", "trials"] {
        let id = if part == "trials" { other.trial } else { other.barrier };
        let view = "west=0&south=0&east=1&north=1&resolution=1";
        let of = if part == "trials" { format!("{id}/lines?{view}") } else { id.to_string() };
        let answer = site.get(&format!("/studies/{}/{part}/{of}", own.id)).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{part}");
    }
    assert_eq!((all(&site, own.id).await, all(&site, other.id).await), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_refused_leaves_the_study_as_it_was() {
    let site = Site::new().await;
    let own = made(&site, "own").await;
    let before = all(&site, own.id).await;
    for (change, form) in CHANGES.iter().filter(|(_, form)| !form.is_empty()) {
        for at in 0..form.len() {
            // One field after the other is what no form allows.
            let mut odd: Vec<(&str, &str)> = form.to_vec();
            odd[at].1 = "\u{0}";
            let (status, text) = site.send(&path(change, own.id, &own), &odd).await;
            assert!(status.is_client_error(), "{change} {}: {status} {text}", odd[at].0);
        }
    }
    // A choice without a reason, and curve numbers that no land has.
    for form in
        [[("formula", "temez")], [("formula", "rainbow")], [("curve_number", "7")], [("curve_number", "101")]]
    {
        let (status, text) = site.send(&path("concentration", own.id, &own), &form).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{form:?}: {text}");
    }
    for change in ["candidates/1/take-up", "candidates/1/delete", "dem-files/0/move", "fetch-again"] {
        let form = CHANGES.iter().find(|(c, _)| *c == change).unwrap().1;
        let (status, text) = site.send(&path(change, own.id, &own), form).await;
        assert!(status.is_client_error(), "{change}: {status} {text}");
    }
    assert_eq!(all(&site, own.id).await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_change_is_in_the_log_and_can_be_undone_or_says_what_it_does() {
    let site = Site::new().await;
    let own = made(&site, "own").await;
    // These are not undone: they start a job, make another study, concern the look alone or all studies, or tell who did what.
    let without = [
        "duplicate",
        "undo",
        "band",
        "source-crs",
        "vertical-unit",
        "reread",
        "review",
        "route",
        "package",
        "delete",
        "style",
        "dem-files/0/provenance",
        "fetch-again",
        "threshold/keep",
    ];
    let skipped = [
        "dem-files/0/move",
        "dem-files/1/remove",
        "candidates/1/take-up",
        "candidates/1/delete",
        "prepare",
        "dem-files/level",
    ];
    for (change, form) in CHANGES {
        if without.contains(change)
            || skipped.contains(change)
            || (change.contains("barrier") && own.barrier == 0)
        {
            continue;
        }
        let entry = site.store().last_change(own.id).await.unwrap().map(|c| c.id);
        let logged = site.store().log_entries(own.id).await.unwrap().len();
        let (status, text) = site.send(&path(change, own.id, &own), form).await;
        if status.is_success() && site.store().active_job(own.id).await.unwrap().is_some() {
            site.finish(own.id).await;
            continue;
        }
        assert!(status.is_success(), "{change}: {status} {text}");
        let now = site.store().last_change(own.id).await.unwrap().map(|c| c.id);
        assert!(now > entry, "{change} can be undone");
        // Where parts of a sheet stand is no step of the work.
        let of_sheet = change.strip_prefix("sheets/{sheet}/").is_some_and(|c| c != "rename" && c != "delete");
        let lines = site.store().log_entries(own.id).await.unwrap().len();
        assert!(lines > logged || of_sheet, "{change} is in the log");
        let (status, text) = site.send(&format!("/studies/{}/undo", own.id), &[]).await;
        assert!(status.is_success(), "{change}: {text}");
    }
}
