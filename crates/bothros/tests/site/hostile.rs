//! Files made to harm, numbers that lock everybody out: refused in words, and the server goes on.

use std::net::TcpListener;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::support::{FRAME, Site, add_layer, damage, sql, valley_file};
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};

fn sqlite(path: &Path, sql: &str) {
    let script =
        "import sqlite3, sys; c = sqlite3.connect(sys.argv[1]); c.executescript(sys.argv[2]); c.commit()";
    let out = Command::new("python3").args(["-c", script]).arg(path).arg(sql).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}

/// A GeoPackage with one line of the study, as GDAL's own tools write it.
fn package(dir: &Path) -> std::path::PathBuf {
    let (json, path) = (dir.join("s.geojson"), dir.join("s.gpkg"));
    std::fs::write(&json, crate::support::geojson(&[&[[502_000.0, 4_759_900.0], [502_000.0, 4_757_100.0]]]))
        .unwrap();
    let done = Command::new("ogr2ogr").args(["-nln", "streams"]).arg(&path).arg(&json).status().unwrap();
    assert!(done.success());
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn geopackages_that_hold_more_than_data_are_refused() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "hostile").await;
    let good = std::fs::read(package(dir.path())).unwrap();
    let (status, told) = add_layer(&site, study, "mapped_streams", &[("s.gpkg", good.clone())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");

    let secret = dir.path().join("secret.txt");
    std::fs::write(&secret, "name;x\nthe secret;1\n").unwrap();
    let view = "CREATE VIEW leak AS SELECT * FROM streams;
        INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) VALUES ('leak', 'features', 'leak', 4326);
        INSERT INTO gpkg_geometry_columns VALUES ('leak', 'geom', 'GEOMETRY', 4326, 0, 0);";
    let reads = format!(
        "PRAGMA writable_schema = ON; INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql) VALUES
         ('table', 'other', 'other', 0, 'CREATE VIRTUAL TABLE other USING VirtualText(''{}'', ''UTF-8'', 1, POINT, NONE, '';'')');",
        secret.display()
    );
    let endless = "CREATE VIEW endless AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT x AS fid, NULL AS geom FROM c;";
    for (sql, expected) in [
        (view.to_owned(), "a view"),
        (reads, "a virtual table"),
        (endless.to_owned(), "a view"),
        ("CREATE TRIGGER t AFTER INSERT ON streams BEGIN SELECT 1; END;".into(), "a trigger"),
    ] {
        let path = dir.path().join("bad.gpkg");
        std::fs::write(&path, &good).unwrap();
        sqlite(&path, &sql);
        let (status, told) =
            add_layer(&site, study, "mapped_streams", &[("bad.gpkg", std::fs::read(&path).unwrap())]).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains(expected) && told.contains("bad.gpkg") && !told.contains("secret"), "{told}");
    }
    // A database under the name of something else is known by its contents.
    let path = dir.path().join("bad.gpkg");
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("bad.geojson", std::fs::read(&path).unwrap())]).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_is_read_opens_an_address() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "hostile").await;
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let asked = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&asked);
    std::thread::spawn(move || {
        while listener.accept().is_ok() {
            count.fetch_add(1, Ordering::Relaxed);
        }
    });
    let place = |crs: &str| {
        format!(
            r#"{{"type": "FeatureCollection", "crs": {crs}, "features": [{{"type": "Feature", "properties": {{}},
            "geometry": {{"type": "LineString", "coordinates": [[502000, 4759900], [502000, 4757100]]}}}}]}}"#
        )
    };
    for crs in [
        format!(
            r#"{{"type": "link", "properties": {{"href": "http://127.0.0.1:{port}/crs", "type": "ogcwkt"}}}}"#
        ),
        format!(r#"{{"type": "name", "properties": {{"name": "http://127.0.0.1:{port}/crs"}}}}"#),
        format!(r#"{{"type": "name", "properties": {{"name": "/vsicurl/http://127.0.0.1:{port}/crs"}}}}"#),
    ] {
        let (status, told) =
            add_layer(&site, study, "mapped_streams", &[("a.geojson", place(&crs).into_bytes())]).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
        assert!(told.contains("link to an address"), "{told}");
    }
    // A grid that names another file or an address instead of holding values.
    for text in [
        format!(
            "<VRTDataset rasterXSize='2' rasterYSize='2'><VRTRasterBand dataType='Float32' band='1'><SimpleSource><SourceFilename>/vsicurl/http://127.0.0.1:{port}/a.tif</SourceFilename></SimpleSource></VRTRasterBand></VRTDataset>"
        ),
        format!("http://127.0.0.1:{port}/a.tif"),
    ] {
        let path = dir.path().join("named.tif");
        std::fs::write(&path, text).unwrap();
        let (status, told) = site.upload(&[&path], "named").await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
    }
    // A CRS by its definition, typed in a form.
    for crs in
        ["+proj=longlat +nadgrids=/etc/passwd", "+init=/etc/passwd:1", &format!("http://127.0.0.1:{port}/c")]
    {
        let (status, told) = site.send(&format!("/studies/{study}/source-crs"), &[("crs", crs)]).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
    }
    assert_eq!(asked.load(Ordering::Relaxed), 0, "an address was opened");
}

/// A GeoTIFF that says it has so many cells, and holds none.
fn sparse(dir: &Path, edge: u32) -> std::path::PathBuf {
    let path = dir.join("sparse.tif");
    let script = "import sys, rasterio; from rasterio.transform import from_origin; n = int(sys.argv[2])
with rasterio.open(sys.argv[1], 'w', driver='GTiff', width=n, height=n, count=1, dtype='float32', crs='EPSG:32628',
                   transform=from_origin(500000, 4760000, 1, 1), SPARSE_OK=True, tiled=True, blockxsize=4096, blockysize=4096, compress='deflate'): pass";
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/reference/.venv/bin/python");
    let out = Command::new(python).args(["-c", script]).arg(&path).arg(edge.to_string()).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    path
}

#[tokio::test(flavor = "multi_thread")]
async fn memory_is_reckoned_before_it_is_taken() {
    let url = crate::support::database().await;
    let dir = tempfile::tempdir().unwrap();
    let path = sparse(dir.path(), 65_500);
    assert!(std::fs::metadata(&path).unwrap().len() < 200_000);
    // A server of its own, since the limit is one of the whole process.
    let server =
        crate::processes::bothros(&["serve", "--port", "0", "--database", &url, "--memory-mb", "4000"]);
    let (_server, base) = crate::processes::address(server);
    let page = reqwest::get(&base).await.unwrap();
    let cookie = page.headers()["set-cookie"].to_str().unwrap().to_owned();
    let token = cookie.split(['=', ';']).nth(1).unwrap().to_owned();
    let part = Part::bytes(std::fs::read(&path).unwrap()).file_name("sparse.tif");
    let answer = reqwest::Client::new()
        .post(format!("{base}/studies"))
        .header("Cookie", format!("bothros_token={token}"))
        .header("X-Bothros-Token", &token)
        .multipart(Form::new().text("name", "sparse").part("dem", part))
        .send()
        .await
        .unwrap();
    let (status, told) = (answer.status(), answer.text().await.unwrap());
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{told}");
    assert!(told.contains("of memory") && told.contains("4.0 GB are allowed"), "{told}");
    assert!(reqwest::get(&base).await.unwrap().status().is_success());
}

#[tokio::test(flavor = "multi_thread")]
async fn lines_across_the_world_cost_no_more_than_the_study() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "hostile").await;
    // In the study's own CRS, with corners at (0, 0) and far beyond the earth's other side.
    let text = r#"{"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32628"}},
        "features": [{"type": "Feature", "properties": {}, "geometry": {"type": "LineString",
        "coordinates": [[502000, 4759900], [502000, 4757100], [0, 0], [502100, 4757000], [900000000, -900000000]]}}]}"#;
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("far.geojson", text.as_bytes().to_vec())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    for step in ["review", "route"] {
        let (status, told) = site.send(&format!("/studies/{study}/{step}"), &[]).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
        let job = site.finish(study).await;
        assert_eq!(job.state, "done", "{step}: {}", job.message);
    }
    let found = site.json(&format!("/studies/{study}/figures")).await;
    assert!(found.is_object() || found.is_array(), "{found}");
    let page = site.get(&format!("/studies/{study}/shortfalls")).await;
    assert_eq!(page.status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn places_that_are_no_numbers_are_refused_and_lock_nobody_out() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let grid = |size: &str, left: &str| {
        format!(
            "ncols 3\nnrows 3\nxllcorner {left}\nyllcorner 4000000\ncellsize {size}\nNODATA_value -9999\n1 2 3\n4 5 6\n7 8 9\n"
        )
    };
    let prj = dir.path().join("g.prj");
    std::fs::write(&prj, crate::support::utm().wkt).unwrap();
    for (size, left) in [
        ("nan", "500000"),
        ("1e300", "500000"),
        ("1e-300", "500000"),
        ("inf", "500000"),
        ("10", "nan"),
        ("10", "1e300"),
        ("0", "5"),
    ] {
        let path = dir.path().join("g.asc");
        std::fs::write(&path, grid(size, left)).unwrap();
        let (status, told) = site.upload(&[&path, &prj], "odd place").await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{size} {left}: {told}");
    }
    let good = site.study(&valley_file(dir.path()), "good").await;
    // A world file with such numbers beside a picture.
    let mut png = Vec::new();
    {
        let mut encoder = png::Encoder::new(&mut png, 4, 4);
        encoder.set_color(png::ColorType::Grayscale);
        encoder.write_header().unwrap().write_image_data(&[7; 16]).unwrap();
    }
    for world in [
        "nan\n0\n0\n-1\n500000\n4760000\n",
        "1e300\n0\n0\n-1e300\n500000\n4760000\n",
        "1\n0\n0\n-1\ninf\n0\n",
    ] {
        let form = Form::new()
            .part("picture", Part::bytes(png.clone()).file_name("p.png"))
            .part("picture", Part::bytes(world.as_bytes().to_vec()).file_name("p.pgw"));
        let answer = site.post(&format!("/studies/{good}/backdrops")).multipart(form).send().await.unwrap();
        assert!(!answer.status().is_server_error(), "{world}");
    }
    for path in [
        "/",
        &format!("/studies/{good}/"),
        &format!("/studies/{good}/desk/terrain"),
        &format!("/studies/{good}/backdrops"),
    ] {
        let answer = site.get(path).await;
        assert_eq!(answer.status(), StatusCode::OK, "{path}: {}", answer.text().await.unwrap());
    }
    let _ = FRAME;
}

#[tokio::test(flavor = "multi_thread")]
async fn texts_have_limits_and_no_nul() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "texts").await;
    let long = "a".repeat(10_001);
    for (path, fields) in [
        ("describe", vec![("name", "a\0b"), ("description", "")]),
        ("describe", vec![("name", "fine"), ("description", "a\0b")]),
        ("describe", vec![("name", "fine"), ("description", long.as_str())]),
        ("describe", vec![("name", &long[..201]), ("description", "")]),
        ("draw", vec![("role", "walls"), ("line", "[[502000,4758000],[502100,4758000]]"), ("name", "\0")]),
        ("pour-points", vec![("x", "502000"), ("y", "4757500"), ("name", "\0")]),
        ("style", vec![("style", "{\"a\": \"\\u0000\"}")]),
    ] {
        let (status, told) = site.send(&format!("/studies/{study}/{path}"), &fields).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path} {fields:?}: {told}");
        assert!(!told.contains("invalid byte") && told.len() < 300, "{told}");
    }
    // A part of a form with files that never ends is not kept in memory.
    let form = Form::new().text("name", "b").text("description", "x".repeat(3_000_000)).part(
        "dem",
        Part::bytes(std::fs::read(dir.path().join("valley.tif")).unwrap()).file_name("valley.tif"),
    );
    let answer = site.post("/studies").multipart(form).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(site.store().studies().await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_that_cannot_be_read_takes_no_other_along() {
    let url = crate::support::database().await;
    let site = Site::on(&url).await;
    let dir = tempfile::tempdir().unwrap();
    let good = site.study(&valley_file(dir.path()), "good").await;
    let bad = site.study(&valley_file(dir.path()), "bad").await;
    damage(&url, bad);
    let start = site.get("/").await;
    assert_eq!(start.status(), StatusCode::OK);
    let page = start.text().await.unwrap();
    assert!(
        page.contains("cannot be opened") && page.contains(&format!("/studies/{bad}/raw.json")),
        "{page}"
    );
    assert_eq!(site.get(&format!("/studies/{good}/desk/terrain")).await.status(), StatusCode::OK);
    let raw = site.json(&format!("/studies/{bad}/raw.json")).await;
    assert_eq!(raw["study"]["name"], "bad");
    // A later version's data are told as such.
    let later = format!(
        "UPDATE dem SET terrain = jsonb_set(terrain, '{{v}}', '99') WHERE study_id = {bad}; UPDATE study SET updated_at = now() WHERE id = {bad}"
    );
    sql(&url, &later);
    assert!(site.get("/").await.text().await.unwrap().contains("later version"));
    for step in ["delete", "purge"] {
        let (status, told) = site.send(&format!("/studies/{bad}/{step}"), &[]).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    }
    assert_eq!(site.store().studies().await.unwrap().len(), 1);
}
