//! Bad input over the wire: each gets one clear message, and nothing is lost.

use std::path::{Path, PathBuf};

use crate::support::{FRAME, Site, UPLOAD_LIMIT, utm, valley, valley_file};
use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::{Crs, write_cog};
use reqwest::StatusCode;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

fn written(dir: &Path, name: &str, values: &Grid<f32>) -> PathBuf {
    let path = dir.join(name);
    let frame = Frame { rows: values.rows(), cols: values.cols(), ..FRAME };
    write_cog(&path, values, &frame, &utm(), -9999.0, Coarser::Mean, "", "m").unwrap();
    path
}

/// A GeoTIFF made by GDAL's own tool from an ASCII grid.
pub(super) fn translated(dir: &Path, name: &str, arguments: &[&str]) -> PathBuf {
    let ascii = dir.join("source.asc");
    let rows: String =
        (0..20).map(|r| (0..20).map(|c| format!("{} ", r * 3 + c)).collect::<String>() + "\n").collect();
    std::fs::write(
        &ascii,
        format!("ncols 20\nnrows 20\nxllcorner 500000\nyllcorner 4700000\ncellsize 10\n{rows}"),
    )
    .unwrap();
    let path = dir.join(name);
    let run = std::process::Command::new("gdal_translate")
        .arg("-q")
        .args(arguments)
        .args([&ascii, &path])
        .status()
        .unwrap();
    assert!(run.success());
    path
}

async fn refused(site: &Site, path: &Path, expected: &str) {
    let before = site.store().studies().await.unwrap().len();
    let (status, text) = site.upload(&[path], "bad").await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{text}");
    assert!(text.contains(expected), "{text}");
    assert!(!text.contains("/tmp"), "no path of the server: {text}");
    assert_eq!(site.store().studies().await.unwrap().len(), before, "no study is made");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_no_dem() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let text = dir.path().join("text.tif");
    std::fs::write(&text, "not a raster at all").unwrap();
    refused(&site, &text, "neither a GeoTIFF nor an ASCII grid").await;

    std::fs::write(&text, "").unwrap();
    refused(&site, &text, "is empty").await;

    let whole = valley_file(dir.path());
    let bytes = std::fs::read(&whole).unwrap();
    let cut = dir.path().join("cut.tif");
    std::fs::write(&cut, &bytes[..40]).unwrap();
    refused(&site, &cut, "damaged or cut short").await;

    let picture = translated(
        dir.path(),
        "picture.tif",
        &["-ot", "Byte", "-b", "1", "-b", "1", "-b", "1", "-colorinterp", "red,green,blue"],
    );
    refused(&site, &picture, "is a picture").await;

    refused(&site, &written(dir.path(), "one.tif", &Grid::filled(1, 1, 5.0)), "at least 2 x 2").await;
}

/// What shows only when the values are read ends the job, with the study as it was.
#[tokio::test(flavor = "multi_thread")]
async fn files_that_fail_on_reading() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let bytes = std::fs::read(valley_file(dir.path())).unwrap();
    let cut = dir.path().join("cut.tif");
    std::fs::write(&cut, &bytes[..bytes.len() * 2 / 3]).unwrap();
    let empty = written(dir.path(), "empty.tif", &Grid::filled(30, 30, -9999.0));
    for (path, expected) in [(&cut, "damaged or cut short"), (&empty, "no cell with an elevation")] {
        let (status, text) = site.upload(&[path], expected).await;
        assert_eq!(status, StatusCode::OK, "{text}");
        let id = site.store().studies().await.unwrap().iter().find(|s| s.name == expected).unwrap().id;
        let job = site.finish(id).await;
        assert_eq!(job.state, "failed");
        assert!(job.message.contains(expected), "{}", job.message);
        let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
        assert!(desk.contains(expected), "the desk tells it: {desk}");
        assert!(site.store().study(id).await.unwrap().terrain.is_none());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn values_that_are_no_elevations_are_nodata() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let mut odd = valley();
    odd.values_mut()[50_123] = f32::INFINITY;
    odd.values_mut()[60_123] = f32::NAN;
    let id = site.routed(&written(dir.path(), "odd.tif", &odd), "odd").await;
    let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("Voids") && desk.contains("2 cells"), "{desk}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_without_crs_waits_for_one() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let id = site.study(&translated(dir.path(), "bare.tif", &["-a_nodata", "-1"]), "bare").await;
    let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("No CRS"), "{desk}");
    let (status, text) = site.send(&format!("/studies/{id}/route"), &[]).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{text}");
    let (status, text) = site.send(&format!("/studies/{id}/source-crs"), &[("crs", "EPSG:99")]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("EPSG:99"), "{text}");
    site.send(&format!("/studies/{id}/source-crs"), &[("crs", "EPSG:32628")]).await;
    assert_eq!(site.finish(id).await.state, "done");
    assert!(site.store().study(id).await.unwrap().terrain.is_some());
    let found =
        site.get(&format!("/studies/{id}/crs?q=utm+zone+28n&target=source")).await.text().await.unwrap();
    assert!(found.contains("EPSG:32628"), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_turned_grid_and_oblong_cells_are_offered_a_warp() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let oblong = translated(
        dir.path(),
        "oblong.tif",
        &["-a_srs", "EPSG:32628", "-a_ullr", "500000", "4700400", "500200", "4700000"],
    );
    let id = site.study(&oblong, "oblong").await;
    let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("not square"), "{desk}");
    let turned = dir.path().join("turned.tif");
    let gcps = [
        "-a_srs",
        "EPSG:32628",
        "-gcp",
        "0",
        "0",
        "500000",
        "4700000",
        "-gcp",
        "20",
        "0",
        "500160",
        "4700120",
        "-gcp",
        "0",
        "20",
        "500120",
        "4699840",
    ];
    let affine = translated(dir.path(), "gcps.tif", &gcps);
    let script = "import sys,rasterio\nfrom rasterio.transform import Affine\ns=rasterio.open(sys.argv[1])\np=s.profile\np.update(driver='GTiff',transform=Affine(8,6,500000,6,-8,4700000),crs='EPSG:32628')\nrasterio.open(sys.argv[2],'w',**p).write(s.read())";
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/reference/.venv/bin/python");
    let made = std::process::Command::new(python)
        .args(["-W", "ignore", "-c", script])
        .args([&affine, &turned])
        .status()
        .unwrap();
    assert!(made.success());
    let id = site.study(&turned, "turned").await;
    let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("Turned grid"), "{desk}");
    for (size, expected) in [("0", "greater than 0"), ("ten", "must be a number")] {
        let (status, text) = site
            .send(
                &format!("/studies/{id}/prepare"),
                &[("crs", "EPSG:32628"), ("cell_size", size), ("resampling", "cubic")],
            )
            .await;
        assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains(expected), "{text}");
    }
    site.send(
        &format!("/studies/{id}/prepare"),
        &[("crs", "EPSG:32628"), ("cell_size", "10"), ("resampling", "cubic")],
    )
    .await;
    let job = site.finish(id).await;
    assert_eq!(job.state, "done", "{}", job.message);
    site.send(&format!("/studies/{id}/prepare"), &[("full_rectangle", "on")]).await;
    assert_eq!(site.finish(id).await.state, "done");
    let terrain = site.store().study(id).await.unwrap().terrain.unwrap();
    assert_eq!(terrain["summary"]["nodata_cells"], 0, "the ragged rim is cropped");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_bands_ask_which() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let two =
        translated(dir.path(), "two.tif", &["-ot", "Float32", "-b", "1", "-b", "1", "-a_srs", "EPSG:32628"]);
    let (status, _) = site.upload(&[&two], "two").await;
    assert_eq!(status, StatusCode::OK);
    let id = site.store().studies().await.unwrap()[0].id;
    let desk = site.get(&format!("/studies/{id}/desk/terrain")).await.text().await.unwrap();
    assert!(desk.contains("Several bands"), "{desk}");
    let (status, text) = site.send(&format!("/studies/{id}/band"), &[("band", "7")]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("no band 7"), "{text}");
    site.send(&format!("/studies/{id}/band"), &[("band", "2")]).await;
    assert_eq!(site.finish(id).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn uploads_too_large_cut_or_at_once() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let large = dir.path().join("large.tif");
    std::fs::File::create(&large).unwrap().set_len(UPLOAD_LIMIT + 4096).unwrap();
    let (status, text) = site.upload(&[&large], "large").await;
    assert_eq!(status, StatusCode::PAYLOAD_TOO_LARGE);
    assert!(text.contains("larger than"), "{text}");

    // A connection that is cut in the middle of the file.
    let mut connection = tokio::net::TcpStream::connect(site.running.address).await.unwrap();
    let head = format!(
        "POST /studies HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: bothros_token={0}\r\nX-Bothros-Token: {0}\r\n\
         Content-Type: multipart/form-data; boundary=b\r\nContent-Length: 900000\r\n\r\n--b\r\n\
         Content-Disposition: form-data; name=\"dem\"; filename=\"half.tif\"\r\n\r\nII*",
        site.token
    );
    connection.write_all(head.as_bytes()).await.unwrap();
    connection.shutdown().await.unwrap();
    let mut answer = Vec::new();
    connection.read_to_end(&mut answer).await.unwrap();
    assert!(!String::from_utf8_lossy(&answer).starts_with("HTTP/1.1 200"));
    assert!(site.store().studies().await.unwrap().is_empty(), "nothing was kept");

    // Two at once are two studies.
    let file = valley_file(dir.path());
    let files = [file.as_path()];
    let (a, b) = tokio::join!(site.upload(&files, "first"), site.upload(&files, "second"));
    assert_eq!((a.0, b.0), (StatusCode::OK, StatusCode::OK));
    for study in site.store().studies().await.unwrap() {
        assert_eq!(site.finish(study.id).await.state, "done");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn points_and_thresholds_out_of_range() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let id = site.routed(&valley_file(dir.path()), "valley").await;
    let post =
        async |path: &str, fields: &[(&str, &str)]| site.send(&format!("/studies/{id}/{path}"), fields).await;
    for (fields, expected) in [
        (&[("x", "1"), ("y", "2")][..], "outside the DEM"),
        (&[("place", "nonsense here")][..], "is no place"),
        (&[("place", "12")][..], "is no place"),
        (&[("place", "95 N 16 W")][..], "is no place"),
        (&[][..], "coordinates"),
    ] {
        let (status, text) = post("pour-points", fields).await;
        assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains(expected), "{text}");
    }
    assert!(site.store().pour_points(id).await.unwrap().is_empty());
    let before = site.store().study(id).await.unwrap().network;
    for (fields, expected) in [
        (&[("cells", "999999999")][..], "leaves no stream"),
        (&[("cells", "0")][..], "at least one cell"),
        (&[("area", "-3"), ("unit", "km2")][..], "greater than 0"),
        (&[("area", "wide"), ("unit", "ha")][..], "must be a number"),
    ] {
        let (status, text) = post("threshold", fields).await;
        assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains(expected), "{text}");
    }
    assert_eq!(site.store().study(id).await.unwrap().network, before, "the network stays as it was");
}

#[tokio::test(flavor = "multi_thread")]
async fn other_sites_are_kept_out() {
    let site = Site::new().await;
    let foreign = site.client.post(format!("{}/studies/1/delete", site.base)).send().await.unwrap();
    assert_eq!(foreign.status(), StatusCode::FORBIDDEN);
    let wrong = site.post("/studies/1/delete").header("X-Bothros-Token", "0").send().await.unwrap();
    assert!(wrong.status().is_client_error());
    let rebound = site.client.get(&site.base).header("Host", "evil.example").send().await.unwrap();
    assert_eq!(rebound.status(), StatusCode::MISDIRECTED_REQUEST);
    let page = site.get("/").await;
    let policy = page.headers()["content-security-policy"].to_str().unwrap();
    assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"));
    for path in ["/studies/77/", "/nowhere", "/studies/77/desk/terrain", "/assets/../Cargo.toml"] {
        assert_eq!(site.get(path).await.status(), StatusCode::NOT_FOUND, "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_with_markup_is_shown_as_text() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let (status, _) = site.upload(&[&valley_file(dir.path())], "<script>alert(1)</script>").await;
    assert_eq!(status, StatusCode::OK);
    let page = site.get("/").await.text().await.unwrap();
    assert!(page.contains("&#60;script&#62;") && !page.contains("<script>alert"), "{page}");
    assert!(Crs::parse("EPSG:32628").is_ok());
}
