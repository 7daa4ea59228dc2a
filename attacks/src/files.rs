//! Files made to harm.

use std::net::TcpListener;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

use crate::site::{Report, Site, ended};
use std::time::Duration;

/// A GeoTIFF that says it has so many cells, in tiles that are not there.
fn sparse(edge: u32) -> Vec<u8> {
    const TILE: u32 = 4096;
    let across = edge.div_ceil(TILE);
    let tiles = across * across;
    let mut out = vec![b'I', b'I', 42, 0, 8, 0, 0, 0];
    let entries: Vec<(u16, u16, u32, u32)> = vec![
        (256, 4, 1, edge),
        (257, 4, 1, edge),
        (258, 3, 1, 32),
        (259, 3, 1, 8),
        (262, 3, 1, 1),
        (277, 3, 1, 1),
        (322, 4, 1, TILE),
        (323, 4, 1, TILE),
        (324, 4, tiles, 0),
        (325, 4, tiles, 0),
        (339, 3, 1, 3),
        (33550, 12, 3, 0),
        (33922, 12, 6, 0),
    ];
    let data = 8 + 2 + 12 * entries.len() as u32 + 4;
    let (offsets, counts) = (data, data + 4 * tiles);
    let (scale, tie) = (counts + 4 * tiles, counts + 4 * tiles + 24);
    out.extend((entries.len() as u16).to_le_bytes());
    for (tag, kind, count, value) in entries {
        let value = match tag {
            324 => offsets,
            325 => counts,
            33550 => scale,
            33922 => tie,
            _ => value,
        };
        out.extend(tag.to_le_bytes());
        out.extend(kind.to_le_bytes());
        out.extend(count.to_le_bytes());
        out.extend(value.to_le_bytes());
    }
    out.extend([0; 4]);
    out.extend(vec![0; 8 * tiles as usize]);
    for number in [1.0f64, 1.0, 0.0, 0.0, 0.0, 0.0, 500_000.0, 4_760_000.0, 0.0] {
        out.extend(number.to_le_bytes());
    }
    out
}

/// A GeoPackage with something in it that none has.
fn package(dir: &Path, more: &str) -> anyhow::Result<Vec<u8>> {
    let path = dir.join("hostile.gpkg");
    if path.exists() {
        std::fs::remove_file(&path)?;
    }
    let database = rusqlite::Connection::open(&path)?;
    database.execute_batch(
        "PRAGMA application_id = 1196444487; PRAGMA user_version = 10200;
         CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT, srs_id INTEGER PRIMARY KEY, organization TEXT, organization_coordsys_id INTEGER, definition TEXT, description TEXT);
         INSERT INTO gpkg_spatial_ref_sys VALUES ('WGS 84', 4326, 'EPSG', 4326, 'GEOGCS[\"WGS 84\"]', '');
         CREATE TABLE gpkg_contents (table_name TEXT PRIMARY KEY, data_type TEXT, identifier TEXT, description TEXT, last_change TEXT, min_x REAL, min_y REAL, max_x REAL, max_y REAL, srs_id INTEGER);
         CREATE TABLE gpkg_geometry_columns (table_name TEXT, column_name TEXT, geometry_type_name TEXT, srs_id INTEGER, z INTEGER, m INTEGER);
         INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) VALUES ('leak', 'features', 'leak', 4326);
         INSERT INTO gpkg_geometry_columns VALUES ('leak', 'geom', 'GEOMETRY', 4326, 0, 0);",
    )?;
    database.execute_batch(more)?;
    drop(database);
    Ok(std::fs::read(path)?)
}

/// Sends hostile files to every place that takes some; none may be taken, read another file, or open an address.
pub async fn attack(program: &Path, report: &mut Report) -> anyhow::Result<()> {
    let dir = tempfile::tempdir()?;
    let mut site = Site::start(program, dir.path(), &["--memory-mb", "4000"]).await?;
    let study = site.study(300, "attacked").await?;
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    let opened = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&opened);
    std::thread::spawn(move || {
        while listener.accept().is_ok() {
            count.fetch_add(1, Ordering::Relaxed);
        }
    });
    let reads = "PRAGMA writable_schema = ON; INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql) VALUES
        ('table', 'leak', 'leak', 0, 'CREATE VIRTUAL TABLE leak USING VirtualText(''/etc/passwd'', ''UTF-8'', 0, POINT, NONE, '':'')')";
    let endless = "CREATE VIEW leak AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT x AS fid, x AS geom FROM c";
    let plain = "CREATE TABLE leak (fid INTEGER PRIMARY KEY, geom BLOB); WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c WHERE x < 2000) INSERT INTO leak SELECT x, randomblob(500) FROM c";
    let link = format!(
        r#"{{"type":"FeatureCollection","crs":{{"type":"link","properties":{{"href":"http://127.0.0.1:{port}/"}}}},"features":[]}}"#
    );
    let deep = "[".repeat(2_000_000);
    let many = format!(r#"{{"type":"LineString","coordinates":[{}[1,2]]}}"#, "[1,2],".repeat(3_000_000));
    let layers: Vec<(&str, &str, Vec<u8>)> = vec![
        ("a GeoPackage that reads another file", "a.gpkg", package(dir.path(), reads)?),
        ("a GeoPackage with an endless view", "a.gpkg", package(dir.path(), endless)?),
        ("a GeoPackage of random shapes", "a.gpkg", package(dir.path(), plain)?),
        ("a GeoPackage cut short", "a.gpkg", package(dir.path(), plain)?[..3000].to_vec()),
        ("a GeoJSON whose CRS is a link", "a.geojson", link.into_bytes()),
        ("a GeoJSON nested two million deep", "a.geojson", deep.into_bytes()),
        ("a line of three million corners without a place", "a.geojson", many.into_bytes()),
        ("a shapefile without its parts", "a.shp", vec![0; 100]),
        (
            "a table of one field of 50 MB",
            "a.csv",
            [b"x,y,name\n1,2,".to_vec(), vec![b'a'; 50_000_000]].concat(),
        ),
    ];
    for (what, name, bytes) in layers {
        let begun = Instant::now();
        let sent = [("role", "mapped_streams"), ("source", "x"), ("layer", "leak")];
        let sent = if name == "a.gpkg" { &sent[..] } else { &sent[..2] };
        let (status, told) =
            site.upload(&format!("/studies/{study}/layers"), "file", &[(name, bytes)], sent).await?;
        let mut refused = status.is_client_error();
        let mut told = told;
        if status.is_success() {
            // A large file is read in a job.
            let job = ended(&site.store().await?, study, Duration::from_secs(120)).await?;
            (refused, told) = (job.state == "failed", job.message);
        }
        let words = told.len() < 600 && !told.contains("root:") && !told.contains("/tmp/");
        let told: String = told.chars().take(110).collect();
        report.check(
            what,
            refused && words && site.runs(),
            format!("{:.1} s, “{told}”", begun.elapsed().as_secs_f64()),
        );
    }
    let ascii = |size: &str, left: &str| {
        format!("ncols 2\nnrows 2\nxllcorner {left}\nyllcorner 0\ncellsize {size}\n1 2\n3 4\n").into_bytes()
    };
    let rasters: Vec<(&str, &str, Vec<u8>)> = vec![
        ("a sparse TIFF of 65,500 x 65,500 cells", "a.tif", sparse(65_500)),
        ("a sparse TIFF of 4 billion x 1 block", "a.tif", sparse(4_000_000)),
        ("cells of nan", "a.asc", ascii("nan", "0")),
        ("cells of 1e300", "a.asc", ascii("1e300", "0")),
        ("cells of 1e-300", "a.asc", ascii("1e-300", "0")),
        ("a corner at 1e300", "a.asc", ascii("1", "1e300")),
        (
            "a raster that names another file",
            "a.tif",
            b"<VRTDataset rasterXSize=\"2\" rasterYSize=\"2\"></VRTDataset>".to_vec(),
        ),
    ];
    for (what, name, bytes) in rasters {
        let begun = Instant::now();
        let (status, told) = site.upload("/studies", "dem", &[(name, bytes)], &[("name", "x")]).await?;
        let told: String = told.chars().take(110).collect();
        report.check(
            what,
            status.is_client_error() && site.runs(),
            format!("{:.1} s, “{told}”", begun.elapsed().as_secs_f64()),
        );
    }
    report.check(
        "no address was opened",
        opened.load(Ordering::Relaxed) == 0,
        format!("{} times", opened.load(Ordering::Relaxed)),
    );
    let begun = Instant::now();
    let answers = site.client.get(&site.base).send().await?.status().is_success();
    report.check("pages answer after all that", answers, format!("{:.2} s", begun.elapsed().as_secs_f64()));
    let took = site.stop()?;
    report.check("SIGTERM ends it", took < Duration::from_secs(10), format!("{:.1} s", took.as_secs_f64()));
    Ok(())
}
