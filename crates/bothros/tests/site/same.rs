//! The application and `bothros run` hand out the same things: the demo through both with the same choices.

use std::io::Read;
use std::path::Path;
use std::process::Command;

use bothros_demo::write_files;
use bothros_products::TABLES;
use gdal::{Dataset, Metadata};
use reqwest::StatusCode;
use serde_json::Value;

use crate::support::Site;
use crate::walk::SCENARIO;

/// A layer of a GeoPackage: its fields with their kinds, and its features.
fn layer(file: &Path, name: &str) -> (String, Vec<Value>) {
    let schema = Command::new("ogrinfo").args(["-so", "-al"]).arg(file).arg(name).output().unwrap();
    let schema = String::from_utf8_lossy(&schema.stdout).into_owned();
    let fields: Vec<&str> = schema.lines().filter(|l| l.contains(": ") && l.ends_with(')')).collect();
    let json = Command::new("ogr2ogr")
        .args(["-f", "GeoJSON", "-lco", "RFC7946=NO", "/vsistdout/"])
        .arg(file)
        .arg(name)
        .output()
        .unwrap();
    assert!(json.status.success(), "{name}: {}", String::from_utf8_lossy(&json.stderr));
    let json: Value = serde_json::from_slice(&json.stdout).unwrap();
    (fields.join("\n"), json["features"].as_array().unwrap().clone())
}

fn raster(file: &Path) -> (Option<f64>, String, Vec<f64>) {
    let dataset = Dataset::open(file).unwrap();
    let band = dataset.rasterband(1).unwrap();
    let values = band.read_band_as::<f64>().unwrap().data().to_vec();
    (band.no_data_value(), band.description().unwrap(), values)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_package_and_a_recipe_agree_in_every_layer_column_and_value() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    write_files(&SCENARIO, dir.path()).unwrap();
    let dem = dir.path().join("sorrel_dem_4m.tif");

    // Through the application.
    let study = site.routed(&dem, "Sorrel Water").await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    send("threshold", &[("cells", "5000")]).await;
    send("snapping", &[("snap_m", "40"), ("snap_to", "largest")]).await;
    let mut gauges = "name,x,y\n".to_owned();
    for gauge in &SCENARIO.gauges {
        let (x, y) = (gauge.x.to_string(), gauge.y.to_string());
        send("pour-points", &[("x", &x), ("y", &y), ("name", gauge.name)]).await;
        gauges += &format!("{},{x},{y}\n", gauge.name);
    }
    send("package", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let package = dir.path().join("package");
    std::fs::create_dir(&package).unwrap();
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    archive.extract(&package).unwrap();
    let of = |name: &str| package.join(format!("sorrel_{name}"));

    // From files to files.
    std::fs::write(dir.path().join("gauges.csv"), gauges).unwrap();
    let recipe = "version = 1\n[terrain]\ndem = [\"sorrel_dem_4m.tif\"]\n[conditioning]\nsinks = \"fill\"\n\
        [network]\nthreshold = { cells = 5000 }\n[catchments]\npour_points = \"gauges.csv\"\nsnap_m = 40.0\nsnap_to = \"largest\"\n";
    std::fs::write(dir.path().join("recipe.toml"), recipe).unwrap();
    let out = dir.path().join("out");
    let run = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .arg("run")
        .arg(dir.path().join("recipe.toml"))
        .arg("--out")
        .arg(&out)
        .output()
        .unwrap();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));

    let pairs = [
        ("network.gpkg", "reaches"),
        ("network.gpkg", "junctions"),
        ("network.gpkg", "main_stems"),
        ("catchments.gpkg", "catchments"),
        ("catchments.gpkg", "pour_points"),
    ];
    for (file, name) in pairs {
        let (fields, features) = layer(&of("network.gpkg"), name);
        let (fields_run, features_run) = layer(&out.join(file), name);
        assert_eq!(fields, fields_run, "{name}");
        assert!(!features.is_empty(), "{name}");
        assert_eq!(features.len(), features_run.len(), "{name}");
        for (a, b) in features.iter().zip(&features_run) {
            assert_eq!((&a["properties"], &a["geometry"]), (&b["properties"], &b["geometry"]), "{name}");
        }
        // Both are what the table promises.
        let table = TABLES.iter().find(|t| t.name == name).unwrap();
        let found: Vec<&String> = features[0]["properties"].as_object().unwrap().keys().collect();
        let mut columns: Vec<&str> = table.columns.iter().map(|c| c.name).collect();
        columns.sort_unstable();
        let mut found: Vec<&str> = found.into_iter().map(String::as_str).collect();
        found.sort_unstable();
        assert_eq!(found, columns, "{name}");
    }
    let table = |path: &Path| std::fs::read_to_string(path).unwrap();
    assert_eq!(table(&of("measures.csv")), table(&out.join("measures.csv")));
    for name in ["ground", "flow_direction", "flow_accumulation", "streams", "catchments"] {
        let (nodata, text, values) = raster(&of(&format!("{name}.tif")));
        let (nodata_run, text_run, values_run) = raster(&out.join(format!("{name}.tif")));
        assert_eq!(text, text_run, "{name}");
        assert!(nodata == nodata_run || nodata.is_some_and(f64::is_nan), "{name}");
        let same = values.iter().zip(&values_run).all(|(a, b)| a.to_bits() == b.to_bits());
        assert!(same && values.len() == values_run.len(), "{name}");
    }
    let mut readme = String::new();
    std::fs::File::open(package.join("README.txt")).unwrap().read_to_string(&mut readme).unwrap();
    assert!(readme.contains("cells of 4 m.") && !readme.contains("4 metre"), "{readme}");
    for gauge in &SCENARIO.gauges {
        let line = format!("Pour point {} snapped within 40 m to the largest contributing area.", gauge.name);
        assert!(readme.contains(&line), "{readme}");
    }
}
