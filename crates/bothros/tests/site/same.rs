//! The application and `bothros run` hand out the same things: the demo through both with the same choices.

use std::io::Read;
use std::path::Path;
use std::process::Command;

use bothros_core::{Coarser, Frame, Grid};
use bothros_demo::write_files;
use bothros_formats::{Crs, write_cog};
use bothros_products::TABLES;
use gdal::{Dataset, Metadata};
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
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
    // Land cover in longitude and latitude, and curve numbers on a coarser grid of the study's CRS.
    let corner = Frame { rows: 150, cols: 150, left: -17.1, top: 43.1, cell_size: 0.002, unit_m: 1.0 };
    let cover = Grid::from_fn(150, 150, |c| ((c.row / 7 + c.col / 11) % 5) as f32);
    let numbers = Grid::from_fn(120, 120, |c| 40.0 + ((c.row + 2 * c.col) % 50) as f32);
    let (left, top) = (SCENARIO.gauges[0].x - 9_000.0, SCENARIO.gauges[0].y + 9_000.0);
    let at = Frame { rows: 120, cols: 120, left, top, cell_size: 150.0, unit_m: 1.0 };
    for (name, grid, frame, crs, holds, unit) in [
        ("cover.tif", &cover, &corner, "EPSG:4326", "classes", ""),
        ("cn.tif", &numbers, &at, "EPSG:32628", "values", "1"),
    ] {
        let crs = Crs::parse(crs).unwrap();
        let path = dir.path().join(name);
        write_cog(&path, grid, frame, &crs, -9999.0, Coarser::Mean, "values", unit).unwrap();
        let part = Part::bytes(std::fs::read(&path).unwrap()).file_name(name);
        let form = Form::new().text("name", name).text("holds", holds).text("unit", unit).part("dem", part);
        let answer = site.post(&format!("/studies/{study}/rasters")).multipart(form).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::NO_CONTENT, "{}", answer.text().await.unwrap());
    }
    send("concentration", &[("curve_number_raster", "cn.tif")]).await;
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
        [network]\nthreshold = { cells = 5000 }\n[catchments]\npour_points = \"gauges.csv\"\nsnap_m = 40.0\nsnap_to = \"largest\"\n\
        curve_number = \"cn.tif\"\n[[catchments.rasters]]\npath = \"cover.tif\"\nname = \"cover.tif\"\nholds = \"classes\"\n\
        [[catchments.rasters]]\npath = \"cn.tif\"\nname = \"cn.tif\"\nunit = \"1\"\n\
        [handover]\nformats = [\"shapefile\", \"geojson\", \"netcdf\"]\n";
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
        ("catchments.gpkg", "subbasins"),
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
    for name in ["measures.csv", "raster_figures.csv", "class_shares.csv"] {
        let (ours, theirs) = (table(&of(name)), table(&out.join(name)));
        assert_eq!(ours, theirs, "{name}");
        assert!(ours.lines().count() > 10, "{name}");
    }
    // The package of the recipe: the same model, which proves itself, in the same words.
    let handed = dir.path().join("handed");
    let file = std::fs::File::open(out.join("handover.zip")).unwrap();
    zip::ZipArchive::new(file).unwrap().extract(&handed).unwrap();
    for name in [
        "subbasin_parameters",
        "flowpaths",
        "nexuses",
        "connectivity",
        "hypsometry",
        "area_distance",
        "measures",
        "catchments",
        "subbasins",
        "pour_points",
    ] {
        let (ours, theirs) = (table(&of(&format!("{name}.csv"))), table(&handed.join(format!("{name}.csv"))));
        assert_eq!(ours, theirs, "{name}");
        assert!(ours.lines().count() > 3, "{name}");
    }
    let svg = |path: &Path| std::fs::read_to_string(path).unwrap();
    assert_eq!(svg(&of("schematic.svg")), svg(&handed.join("schematic.svg")));
    for file in [
        "falling.tif",
        "ground.tif",
        "reaches.shp",
        "nexuses.geojson",
        "streams.nc",
        "README.txt",
        "datapackage.json",
    ] {
        assert!(handed.join(file).exists(), "{file}");
    }
    let proved =
        Command::new(env!("CARGO_BIN_EXE_bothros")).arg("prove").arg(out.join("handover.zip")).output();
    let proved = proved.unwrap();
    assert!(proved.status.success(), "{}", String::from_utf8_lossy(&proved.stderr));
    assert!(String::from_utf8_lossy(&proved.stdout).contains("off by 0.0000 %"));
    // The recipe that the package brings along needs nothing but the package.
    let again = dir.path().join("again");
    let run = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .arg("run")
        .arg(of("recipe.toml"))
        .arg("--out")
        .arg(&again)
        .output()
        .unwrap();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    for name in ["measures.csv", "raster_figures.csv", "class_shares.csv"] {
        assert_eq!(table(&of(name)), table(&again.join(name)), "{name}");
    }
    // Each has curve numbers of its own.
    assert!(!table(&of("measures.csv")).lines().nth(1).unwrap().ends_with(','));
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
