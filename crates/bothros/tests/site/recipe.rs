//! `bothros run` as a person calls it: recipes, results, exit statuses.

use std::path::PathBuf;
use std::process::{Command, Output};

use crate::support::python;
use bothros_core::{Cell, Coarser, Frame, Grid, Silent};
use bothros_formats::{Crs, Field, FieldKind, Geometry, Layer, Shape, VectorFormat, write_cog, write_layers};
use tempfile::{TempDir, tempdir};

/// A valley to the south with a bank across it, behind which a pond stands; a hollow to the west.
const FRAME: Frame =
    Frame { rows: 60, cols: 50, left: 500_000.0, top: 4_760_600.0, cell_size: 10.0, unit_m: 1.0 };

fn valley() -> Grid<f32> {
    Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let (row, col) = (c.row as f32, c.col as f32);
        let z = 200.0 - row + 2.0 * (col - 25.0).abs();
        let hollow = (row - 20.0).hypot(col - 8.0);
        match (c.row, hollow) {
            (40, _) => z.max(190.0),
            (_, h) if h < 4.0 => z - 12.0 + 3.0 * h,
            _ => z,
        }
    })
}

pub struct Bench {
    dir: TempDir,
}

impl Bench {
    pub fn new() -> Self {
        let bench = Self { dir: tempdir().unwrap() };
        bench.dem("dem.tif", &valley(), &FRAME, "EPSG:32628");
        bench
    }
    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }
    pub fn dem(&self, name: &str, dem: &Grid<f32>, frame: &Frame, crs: &str) {
        let crs = Crs::parse(crs).unwrap();
        write_cog(&self.path(name), dem, frame, &crs, -9999.0, Coarser::Mean, "elevation", "m").unwrap();
    }
    pub fn layer(&self, name: &str, crs: &str, shape: Shape, features: Vec<Geometry>) {
        let named = |(at, g): (usize, Geometry)| (g, vec![format!("number {}", at + 1).into()]);
        let layer = Layer {
            name: "features".into(),
            fields: vec![Field { name: "name".into(), kind: FieldKind::Text }],
            features: features.into_iter().enumerate().map(named).collect(),
            shape,
        };
        let format = if name.ends_with("json") { VectorFormat::GeoJson } else { VectorFormat::GeoPackage };
        write_layers(&self.path(name), format, &Crs::parse(crs).unwrap(), &[layer]).unwrap();
    }
    pub fn run_with(&self, recipe: &str, out: &str, more: &[&str]) -> Output {
        std::fs::write(self.path("recipe.toml"), recipe).unwrap();
        Command::new(env!("CARGO_BIN_EXE_bothros"))
            .arg("run")
            .arg(self.path("recipe.toml"))
            .arg("--out")
            .arg(self.path(out))
            .args(more)
            .output()
            .unwrap()
    }
    pub fn run(&self, recipe: &str, out: &str) -> serde_json::Value {
        let done = self.run_with(recipe, out, &[]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let text = std::fs::read_to_string(self.path(out).join("summary.json")).unwrap();
        serde_json::from_str(&text).unwrap()
    }
    /// Runs what cannot be done; the exit status and the one line that tells why.
    fn refused(&self, recipe: &str) -> (i32, String) {
        let done = self.run_with(recipe, "refused", &[]);
        assert!(!self.path("refused").exists(), "nothing appears where a run fails");
        let left: Vec<_> = std::fs::read_dir(self.dir.path())
            .unwrap()
            .filter(|e| e.as_ref().unwrap().file_name().to_string_lossy().starts_with(".bothros"))
            .collect();
        assert!(left.is_empty(), "nothing is left behind");
        let errors: Vec<String> = String::from_utf8_lossy(&done.stderr)
            .lines()
            .filter_map(|l| l.strip_prefix("error: ").map(str::to_owned))
            .collect();
        assert_eq!(errors.len(), 1, "one line: {}", String::from_utf8_lossy(&done.stderr));
        (done.status.code().unwrap(), errors[0].clone())
    }
}

pub fn recipe(rest: &str) -> String {
    format!("version = 1\n[terrain]\ndem = [\"dem.tif\"]\n{rest}")
}

#[test]
fn a_whole_recipe_leaves_all_results() {
    let bench = Bench::new();
    let line = |points: &[[f64; 2]]| Geometry::Line(points.to_vec());
    let at = |row: usize, col: usize| {
        let (x, y) = FRAME.centre(Cell { row, col });
        [x, y]
    };
    // The culvert under the bank, drawn downstream; in latitude and longitude, so that it is converted.
    bench.layer("crossings.geojson", "EPSG:32628", Shape::Line, vec![line(&[at(38, 25), at(42, 25)])]);
    bench.layer("hollows.gpkg", "EPSG:32628", Shape::Point, vec![Geometry::Point(at(20, 8))]);
    bench.layer("streams.gpkg", "EPSG:32628", Shape::Line, vec![line(&[at(10, 25), at(58, 25)])]);
    bench.dem("rain.tif", &Grid::filled(60, 50, 2.0), &FRAME, "EPSG:32628");
    let [x, y] = at(57, 24);
    let [x2, y2] = at(30, 26);
    std::fs::write(bench.path("gauges.csv"), format!("name,x,y\nmouth,{x},{y}\n\"upper, old\",{x2},{y2}\n"))
        .unwrap();
    for method in ["d8", "dinf", "mfd"] {
        let out = format!("out_{method}");
        let summary = bench.run(
            &recipe(&format!(
                "[conditioning]\nbreach_lines = \"crossings.geojson\"\nclosed_basins = \"hollows.gpkg\"\n\
                 burn = {{ streams = \"streams.gpkg\", method = \"trench\", depth_m = 2.0 }}\nsinks = \"fill\"\n\
                 [routing]\nmethod = \"{method}\"\nweights = \"rain.tif\"\nflat_slope = 0.0001\n\
                 [network]\nthreshold = {{ cells = 150 }}\n\
                 [catchments]\npour_points = \"gauges.csv\"\nsnap_m = 30.0\n"
            )),
            &out,
        );
        assert_eq!((summary["rows"].as_u64(), summary["cells"].as_u64()), (Some(60), Some(3000)));
        assert_eq!(summary["sinks"], serde_json::json!({ "before": 2, "after": 1, "kept_open": 1 }));
        assert_eq!(summary["remarks"], serde_json::json!([]));
        assert_eq!(summary["catchments"][1]["name"], "upper, old");
        assert!(summary["notes"][0].as_str().unwrap().contains("crossings.geojson was converted"));
        let told = python("recipe.py", &[bench.path(&out).to_str().unwrap(), "32628", method]);
        assert!(told.ends_with("agree\n"), "{told}");
        let told = python("measures.py", &[bench.path(&out).to_str().unwrap()]);
        assert!(told.ends_with("agree\n"), "{told}");
        for file in ["network.gpkg", "catchments.gpkg", "ground.tif", "flow_accumulation.tif"] {
            let tool = if file.ends_with("gpkg") { "ogrinfo" } else { "gdalinfo" };
            let out = Command::new(tool).arg(bench.path(&out).join(file)).output().unwrap();
            assert!(out.status.success() && out.stderr.is_empty(), "{file}");
        }
    }
}

#[test]
fn catchments_agree_with_graphs_and_geometry_of_others() {
    let bench = Bench::new();
    let (rows, cols) = (150, 150);
    let frame = Frame { rows, cols, ..FRAME };
    let rough = bothros_demo::fractal_terrain(rows, 11);
    bench.dem("dem.tif", &rough, &frame, "EPSG:32628");
    let at = |row: usize, col: usize| {
        let (x, y) = frame.centre(Cell { row, col });
        [x, y]
    };
    // Where the most water passes, told by the core; other places on the way there.
    let ground = bothros_core::conditioning::fill(&rough, &Silent).unwrap();
    let codes = bothros_core::routing::flow_directions(&ground, &Silent).unwrap();
    let areas = bothros_core::routing::flow_accumulation(&codes, &Silent).unwrap();
    let mut busiest: Vec<usize> = (0..areas.len()).collect();
    busiest.sort_by_key(|&i| std::cmp::Reverse(areas.values()[i]));
    let (mouth, middle) = (areas.cell(busiest[3]), areas.cell(busiest[60]));
    let ring = |row: usize, col: usize, half: f64| {
        let [x, y] = at(row, col);
        vec![
            [x - half, y - half],
            [x + half, y - half],
            [x + half, y + half],
            [x - half, y + half],
            [x - half, y - half],
        ]
    };
    let write = |name: &str, text: String| std::fs::write(bench.path(name), text).unwrap();
    let json = |shapes: Vec<serde_json::Value>| {
        let features: Vec<_> = shapes
            .into_iter()
            .map(|g| serde_json::json!({ "type": "Feature", "properties": { "name": "one" }, "geometry": g }))
            .collect();
        serde_json::json!({ "type": "FeatureCollection",
            "crs": { "type": "name", "properties": { "name": "urn:ogc:def:crs:EPSG::32628" } }, "features": features })
        .to_string()
    };
    let polygon = |rings: Vec<Vec<[f64; 2]>>| serde_json::json!({ "type": "Polygon", "coordinates": rings });
    let [mx, my] = at(middle.row, middle.col);
    let site = polygon(vec![ring(middle.row, middle.col, 73.0), ring(middle.row, middle.col, 18.0)]);
    write("sites.geojson", json(vec![site, polygon(vec![ring(20, 20, 146.0)])]));
    // A boundary in two pieces, one with a hole.
    let big = polygon(vec![ring(75, 75, 524.0), ring(60, 90, 55.0)]);
    write("boundary.geojson", json(vec![big, polygon(vec![ring(140, 140, 44.0)])]));
    let dam = serde_json::json!({ "type": "LineString", "coordinates": [[mx - 45.0, my - 45.0], [mx + 45.0, my + 45.0]] });
    write("dams.geojson", json(vec![dam]));
    let [x, y] = at(mouth.row, mouth.col);
    write("gauges.csv", format!("name,x,y\nmouth,{x},{y}\n"));
    for (out, subbasins, outline) in [
        ("out_1", "\"reaches\"", "cells"),
        ("out_2", "\"tributaries\"", "smoothed"),
        ("out_3", "{ target_km2 = 0.12 }", "simplified"),
        ("out_4", "\"pour_points\"", "smoothed"),
    ] {
        let summary = bench.run(
            &recipe(&format!(
                "[network]\nthreshold = {{ cells = 120 }}\n[catchments]\npour_points = \"gauges.csv\"\n\
                 lines = \"dams.geojson\"\nsites = \"sites.geojson\"\nmin_inflow_km2 = 0.002\n\
                 subbasins = {subbasins}\nbasins = true\noutline = \"{outline}\"\nboundary = \"boundary.geojson\"\n"
            )),
            out,
        );
        assert!(summary["subbasins"].as_u64().unwrap() >= 2, "{}", summary["subbasins"]);
        let (dir, sites, boundary) =
            (bench.path(out), bench.path("sites.geojson"), bench.path("boundary.geojson"));
        let arguments = [dir.to_str().unwrap(), sites.to_str().unwrap(), boundary.to_str().unwrap(), "0.002"];
        let told = python("catchments.py", &arguments);
        assert!(told.ends_with("agree\n"), "{subbasins} {outline}: {told}");
    }
}

#[test]
fn results_are_the_same_for_any_number_of_threads() {
    let bench = Bench::new();
    let rough = bothros_demo::fractal_terrain(700, 5);
    let frame = Frame { rows: 700, cols: 700, ..FRAME };
    bench.dem("dem.tif", &rough, &frame, "EPSG:32628");
    std::fs::write(
        bench.path("recipe.toml"),
        recipe("[conditioning]\nsinks = \"breach_then_fill\"\nmax_breach_length_m = 80.0\n[routing]\nmethod = \"mfd\"\n"),
    )
    .unwrap();
    let run = |threads: &str, out: &str| {
        let done = Command::new(env!("CARGO_BIN_EXE_bothros"))
            .env("RAYON_NUM_THREADS", threads)
            .arg("run")
            .arg(bench.path("recipe.toml"))
            .arg("--out")
            .arg(bench.path(out))
            .output()
            .unwrap();
        assert!(done.status.success());
    };
    run("1", "one");
    run("5", "five");
    let read = |out: &str, file: &str| {
        let dataset = gdal::Dataset::open(bench.path(out).join(file)).unwrap();
        let band = dataset.rasterband(1).unwrap();
        let values = band.read_as::<f64>((0, 0), band.size(), band.size(), None).unwrap();
        values.data().iter().map(|v| v.to_bits()).collect::<Vec<_>>()
    };
    for file in ["conditioned.tif", "flow_direction.tif", "flow_accumulation.tif"] {
        assert!(read("one", file) == read("five", file), "{file}");
    }
}

/// Memory that lies on disk is memory: the same to the bit, whatever is done with it.
#[test]
fn a_run_within_little_memory_gives_the_same() {
    let bench = Bench::new();
    let mut rough = bothros_demo::fractal_terrain(1450, 5);
    // A lake of nodata, and flats.
    for (index, z) in rough.values_mut().iter_mut().enumerate() {
        let (row, col) = ((index / 1450) as f64, (index % 1450) as f64);
        match (row - 700.0).hypot(col - 900.0) {
            far if far < 90.0 => *z = f32::NAN,
            far if far < 400.0 => *z = (*z / 10.0).round() * 10.0,
            _ => {}
        }
    }
    let frame = Frame { rows: 1450, cols: 1450, ..FRAME };
    bench.dem("dem.tif", &rough, &frame, "EPSG:32628");
    let conditioned = "[conditioning]\nsinks = \"breach_then_fill\"\nmax_breach_length_m = 80.0\n";
    let network = "[network]\nthreshold = { cells = 3000 }\n";
    let routings = ["method = \"d8\"\nflat_slope = 0.00001", "method = \"mfd\""];
    for (at, routing) in routings.into_iter().enumerate() {
        let recipe = recipe(&format!("{conditioned}[routing]\n{routing}\n{network}"));
        let (whole, little) = (format!("whole{at}"), format!("little{at}"));
        bench.run(&recipe, &whole);
        let done = bench.run_with(&recipe, &little, &["--max-memory", "210 MB"]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        for file in std::fs::read_dir(bench.path(&whole)).unwrap() {
            let name = file.unwrap().file_name().into_string().unwrap();
            let read = |out: &str| std::fs::read(bench.path(out).join(&name)).unwrap();
            // Of a GeoPackage the time is told when it was written.
            if !name.ends_with(".json") && !name.ends_with(".gpkg") {
                assert!(read(&whole) == read(&little), "{routing}: {name}");
            }
        }
    }
    // What it takes at least is told before anything is read.
    for (size, expected) in [("202MB", "allow 300MB at least"), ("much", "is no size")] {
        let done = bench.run_with(&recipe(""), "refused", &["--max-memory", size]);
        let told = String::from_utf8_lossy(&done.stderr).into_owned();
        assert!(done.status.code() == Some(2) && told.contains(expected), "{size}: {told}");
        assert!(!bench.path("refused").exists());
    }
    let (status, told) = bench.refused(&format!("max_memory = \"-4GB\"\n{}", recipe("")));
    assert!(status == 2 && told.contains("line 1") && told.contains("is no size"), "{told}");
}

#[test]
fn a_pattern_or_a_folder_stands_for_all_tiles() {
    let bench = Bench::new();
    let whole = valley();
    std::fs::create_dir(bench.path("tiles")).unwrap();
    for (at, rows) in [0..25, 25..60].into_iter().enumerate() {
        let top = FRAME.top - FRAME.cell_size * rows.start as f64;
        let values = whole.values()[rows.start * FRAME.cols..rows.end * FRAME.cols].to_vec();
        let part = Grid::from_vec(rows.len(), FRAME.cols, values);
        bench.dem(&format!("tiles/{at}.tif"), &part, &Frame { rows: rows.len(), top, ..FRAME }, "EPSG:32628");
    }
    let tiles = |pattern: &str| recipe("").replace("dem.tif", pattern);
    bench.run(&recipe(""), "whole");
    bench.run(&tiles("tiles/*.tif"), "together");
    let read = |out: &str| std::fs::read(bench.path(out).join("flow_accumulation.tif")).unwrap();
    assert!(read("whole") == read("together"));
    // What lies beside tiles in their folder is none.
    std::fs::write(bench.path("tiles/readme.txt"), "Surveyed in spring.").unwrap();
    bench.run(&tiles("tiles"), "of the folder");
    assert!(read("whole") == read("of the folder"));
    std::fs::create_dir(bench.path("empty")).unwrap();
    for (given, expected) in
        [("tiles/*.asc", "no file matches"), ("empty", "holds no file that ends with .tif")]
    {
        let (status, told) = bench.refused(&tiles(given));
        assert!(status == 2 && told.contains("terrain.dem: ") && told.contains(expected), "{told}");
    }
}

#[test]
fn stages_left_out_are_left_out() {
    let bench = Bench::new();
    let summary = bench.run(&recipe(""), "out");
    let mut files: Vec<String> = std::fs::read_dir(bench.path("out"))
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    files.sort();
    assert_eq!(files, ["flow_accumulation.tif", "flow_direction.tif", "ground.tif", "summary.json"]);
    assert_eq!(summary["sinks"]["after"], 2, "sinks were not treated, and that is told");
}

#[test]
fn tiles_are_mosaicked_and_other_places_warped() {
    let bench = Bench::new();
    let dem = valley();
    let north = dem.window(0, 0, 35, 50);
    let south = dem.window(30, 0, 30, 50);
    bench.dem("north.tif", &north, &Frame { rows: 35, ..FRAME }, "EPSG:32628");
    bench.dem("south.tif", &south, &Frame { rows: 30, top: FRAME.top - 300.0, ..FRAME }, "EPSG:32628");
    let text = "version = 1\n[terrain]\ndem = [\"north.tif\", \"south.tif\"]\n";
    bench.run(text, "mosaic");
    bench.run(&recipe(""), "whole");
    let read = |out: &str| {
        let dataset = gdal::Dataset::open(bench.path(out).join("ground.tif")).unwrap();
        assert_eq!(dataset.geo_transform().unwrap(), [500_000.0, 10.0, 0.0, 4_760_600.0, 0.0, -10.0]);
        let band = dataset.rasterband(1).unwrap();
        band.read_as::<f32>((0, 0), band.size(), band.size(), None).unwrap().data().to_vec()
    };
    assert_eq!(read("mosaic"), read("whole"));

    let warped = bench.run(&format!("{}crs = \"EPSG:32627\"\ncell_size = 12.0\n", recipe("")), "zone27");
    assert_eq!(warped["cell_size_m"], 12.0);
    assert!(warped["notes"][0].as_str().unwrap().contains("reprojected from EPSG:32628"));
    assert!(warped["crs"].as_str().unwrap().starts_with("EPSG:32627"));

    // A clip keeps the cells whose centres it holds.
    let ring = vec![
        [500_100.0, 4_760_100.0],
        [500_300.0, 4_760_100.0],
        [500_300.0, 4_760_500.0],
        [500_100.0, 4_760_500.0],
        [500_100.0, 4_760_100.0],
    ];
    bench.layer("area.geojson", "EPSG:32628", Shape::Polygons, vec![Geometry::Polygons(vec![vec![ring]])]);
    let clipped = bench.run(&format!("{}clip = \"area.geojson\"\n", recipe("")), "clipped");
    assert_eq!((clipped["rows"].as_u64(), clipped["cols"].as_u64()), (Some(40), Some(20)));
}

#[test]
fn a_folder_that_exists_is_kept_unless_told() {
    let bench = Bench::new();
    std::fs::create_dir(bench.path("out")).unwrap();
    std::fs::write(bench.path("out").join("mine.txt"), "mine").unwrap();
    let refused = bench.run_with(&recipe(""), "out", &[]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(bench.path("out").join("mine.txt").exists());
    let broken = bench.run_with(&recipe("[network]\nthreshold = {}\n"), "out", &["--overwrite"]);
    assert_eq!(broken.status.code(), Some(2));
    assert!(bench.path("out").join("mine.txt").exists(), "a run that fails replaces nothing");
    assert!(bench.run_with(&recipe(""), "out", &["--overwrite"]).status.success());
    assert!(!bench.path("out").join("mine.txt").exists() && bench.path("out").join("ground.tif").exists());
}

#[test]
fn wrong_recipes_and_calls_exit_with_2() {
    let bench = Bench::new();
    for (text, names) in [
        ("nonsense", "line 1"),
        ("version = 1\n[terrain]\ndem = [\"nowhere.tif\"]\n", "nowhere.tif"),
        ("version = 1\n[terrain]\ndem = [\"dem.tif\"]\ncolour = 1\n", "colour"),
        ("version = 1\n[terrain]\ndem = [\"dem.tif\"]\ncrs = \"EPSG:4326\"\n", "terrain.crs"),
        ("version = 1\n[terrain]\ndem = [\"dem.tif\"]\ncrs = \"EPSG:1\"\n", "terrain.crs"),
        ("version = 1\n[terrain]\ndem = [\"dem.tif\"]\ncell_size = 100000.0\n", "terrain.cell_size"),
        ("version = 1\n[terrain]\ndem = [\"dem.tif\"]\nband = 2\n", "terrain.band"),
        (
            "version = 1\n[terrain]\ndem = [\"dem.tif\"]\n[routing]\nweights = \"none.tif\"\n",
            "routing.weights",
        ),
        (
            "version = 1\n[terrain]\ndem = [\"dem.tif\"]\n[conditioning]\nsinks = \"fill\"\nmax_fill_depth_m = nan\n",
            "max_fill_depth_m",
        ),
    ] {
        let (status, told) = bench.refused(text);
        assert!(status == 2 && told.contains(names), "{text:?}: {status} {told}");
    }
    let call = Command::new(env!("CARGO_BIN_EXE_bothros")).args(["run", "a.toml"]).output().unwrap();
    assert_eq!(call.status.code(), Some(2));
    let nowhere = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["run", "/nowhere/a.toml", "--out"])
        .arg(bench.path("x"))
        .output()
        .unwrap();
    assert_eq!(nowhere.status.code(), Some(2));
}

#[test]
fn data_that_cannot_be_used_exits_with_3() {
    let bench = Bench::new();
    bench.dem("nothing.tif", &Grid::filled(60, 50, -9999.0), &FRAME, "EPSG:32628");
    let degrees = Frame { left: -17.0, top: 43.0, cell_size: 0.001, ..FRAME };
    bench.dem("degrees.tif", &valley(), &degrees, "EPSG:4326");
    std::fs::write(bench.path("text.tif"), "no raster at all").unwrap();
    let whole = std::fs::read(bench.path("dem.tif")).unwrap();
    std::fs::write(bench.path("short.tif"), &whole[..whole.len() / 3]).unwrap();
    let ascii = "ncols 3\nnrows 2\nxllcorner 500000\nyllcorner 4760000\ncellsize 10\n1 2 3\n4 5 6\n";
    std::fs::write(bench.path("nowhere.asc"), ascii).unwrap();
    for (file, names) in [
        ("nothing.tif", "nodata"),
        ("degrees.tif", "EPSG:32628"),
        ("text.tif", "text.tif is neither"),
        ("short.tif", "short.tif"),
        ("nowhere.asc", "no CRS"),
    ] {
        let (status, told) = bench.refused(&format!("version = 1\n[terrain]\ndem = [\"{file}\"]\n"));
        assert!(status == 3 && told.contains(names), "{file}: {status} {told}");
    }

    let point = |x: f64, y: f64| Geometry::Point([x, y]);
    bench.layer("points.gpkg", "EPSG:32628", Shape::Point, vec![point(500_255.0, 4_760_025.0)]);
    std::fs::write(bench.path("far.csv"), "name,x,y\nAlder,1,2\n").unwrap();
    std::fs::write(bench.path("bad.csv"), "name,x,y\nAlder,1,north\n").unwrap();
    std::fs::write(bench.path("headless.csv"), "a,b\n1,2\n").unwrap();
    std::fs::write(bench.path("twice.csv"), "name,x,y\nAlder,500255,4760025\nHeron,500256,4760026\n")
        .unwrap();
    std::fs::write(bench.path("empty.geojson"), "{\"type\":\"FeatureCollection\",\"features\":[]}").unwrap();
    std::fs::write(bench.path("broken.gpkg"), "no package").unwrap();
    for (rest, names) in [
        ("clip = \"points.gpkg\"\n", "holds no polygons"),
        ("[conditioning]\nwalls = \"points.gpkg\"\n", "holds no lines"),
        ("[conditioning]\nwalls = \"points.gpkg#roads\"\n", "roads"),
        ("[conditioning]\nbreach_lines = \"empty.geojson\"\n", "empty.geojson"),
        ("[conditioning]\nbreach_lines = \"broken.gpkg\"\n", "broken.gpkg"),
        ("[catchments]\npour_points = \"far.csv\"\n", "Alder"),
        ("[catchments]\npour_points = \"bad.csv\"\n", "line 2"),
        ("[catchments]\npour_points = \"headless.csv\"\n", "lon and lat"),
        ("[catchments]\npour_points = \"twice.csv\"\n", "Heron"),
        ("[catchments]\npour_points = \"twice.csv\"\nsnap_to = \"known_area\"\n", "no area_km2"),
        (
            "[network]\nthreshold = { cells = 9 }\nbegins = { by = \"surveyed\" }\nheads = \"bad.csv\"\n",
            "line 2",
        ),
    ] {
        let (status, told) = bench.refused(&recipe(rest));
        assert!(status == 3 && told.contains(names), "{rest:?}: {status} {told}");
    }
}

#[test]
fn streams_begin_as_told_and_points_find_their_known_area() {
    let bench = Bench::new();
    let run = |network: &str, out: &str| {
        let rest = format!("[network]\nthreshold = {{ cells = 40 }}\n{network}");
        bench.run(&recipe(&rest), out)["network"]["headwaters"].as_u64().unwrap()
    };
    // A head on the floor of the valley: one stream, from there down.
    std::fs::write(bench.path("heads.csv"), "x,y\n500255,4760305\n").unwrap();
    let surveyed =
        run("begins = { by = \"surveyed\" }\nheads = \"heads.csv\"\nheads_within_m = 15\n", "heads");
    assert_eq!(surveyed, 1);
    let by_area = run("", "area");
    let by_slope = run("begins = { by = \"slope_area\", exponent = 1.0, at_slope = 0.05 }\n", "slope");
    assert!(by_slope > by_area, "slopes of a fifth need a quarter of the area: {by_slope}, {by_area}");
    let converging = run("begins = { by = \"converging\", curvature = 0.001, over_m = 0.0 }\n", "hollows");
    assert!(converging > 0 && converging < by_slope, "{converging}");
    // The point lies beside the valley; what is known to drain to it leads it there.
    std::fs::write(bench.path("gauge.csv"), "name,x,y,area_km2\nmouth,500205,4760055,0.15\n").unwrap();
    let rest = "[catchments]\npour_points = \"gauge.csv\"\nsnap_m = 80\nsnap_to = \"known_area\"\n";
    let found = bench.run(&recipe(rest), "gauge");
    let area = found["catchments"][0]["area_km2"].as_f64().unwrap();
    assert!((area / 0.15).ln().abs() < 0.5, "{found}");
}

#[test]
fn odd_terrain_gets_through() {
    let bench = Bench::new();
    let stages = "[conditioning]\nsinks = \"fill\"\n[routing]\nmethod = \"dinf\"\n[network]\nthreshold = { cells = 20 }\n";
    let of = |name: &str, dem: Grid<f32>| {
        let frame = Frame { rows: dem.rows(), cols: dem.cols(), ..FRAME };
        bench.dem("dem.tif", &dem, &frame, "EPSG:32628");
        bench.run(&recipe(stages), name)
    };
    let flat = of("flat", Grid::filled(40, 30, 7.0));
    assert_eq!((flat["sinks"]["before"].as_u64(), flat["cells"].as_u64()), (Some(0), Some(1200)));
    let extremes = [f32::MAX, 0.0, f32::MIN, 1e-38, -1e-45, 3e38];
    let extreme = of("extreme", Grid::from_fn(30, 30, |c| extremes[(c.row * 7 + c.col * 5) % 6]));
    assert_eq!(extreme["sinks"]["after"], 0);
    let below = of("below", Grid::from_fn(30, 30, |c| -400.0 - (c.row as f32 - 15.0).powi(2)));
    assert_eq!(below["sinks"]["after"], 0);
    // A grid of one row is a line, not a surface: told, not computed.
    for (rows, cols) in [(1, 40), (40, 1)] {
        let frame = Frame { rows, cols, ..FRAME };
        bench.dem("dem.tif", &Grid::from_fn(rows, cols, |c| (c.row + c.col) as f32), &frame, "EPSG:32628");
        let (status, told) = bench.refused(&recipe(stages));
        assert!(status == 3 && told.contains("at least 2 x 2"), "{told}");
    }
}

#[test]
fn lines_outside_and_uphill_are_told_not_obeyed() {
    let bench = Bench::new();
    let at = |row: usize, col: usize| {
        let (x, y) = FRAME.centre(Cell { row, col });
        [x, y]
    };
    let lines =
        vec![Geometry::Line(vec![at(42, 25), at(38, 25)]), Geometry::Line(vec![[1.0, 1.0], [2.0, 2.0]])];
    bench.layer("crossings.gpkg", "EPSG:32628", Shape::Line, lines);
    let summary = bench.run(&recipe("[conditioning]\nbreach_lines = \"crossings.gpkg\"\n"), "out");
    let remarks = summary["remarks"].as_array().unwrap();
    assert_eq!(remarks.len(), 2);
    assert_eq!(
        remarks[0]["outcome"],
        serde_json::json!({ "what": "uphill", "upstream_m": 158.0, "downstream_m": 162.0 })
    );
    assert_eq!(remarks[1]["outcome"]["what"], "outside");
}

#[test]
fn help_tells_how_it_is_called() {
    let help = Command::new(env!("CARGO_BIN_EXE_bothros")).args(["run", "--help"]).output().unwrap();
    let text = String::from_utf8_lossy(&help.stdout);
    assert!(text.contains("--out") && text.contains("--overwrite"));
}

#[test]
fn a_run_that_is_asked_to_end_leaves_nothing() {
    let bench = Bench::new();
    let rough = bothros_demo::fractal_terrain(3000, 7);
    bench.dem("dem.tif", &rough, &Frame { rows: 3000, cols: 3000, ..FRAME }, "EPSG:32628");
    std::fs::write(bench.path("recipe.toml"), recipe("[conditioning]\nsinks = \"fill\"\n[routing]\n"))
        .unwrap();
    let mut run = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .arg("run")
        .arg(bench.path("recipe.toml"))
        .arg("--out")
        .arg(bench.path("out"))
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    // As soon as it is under way.
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(run.stderr.take().unwrap()));
    lines.next().expect("it tells what it does").unwrap();
    let pid = nix::unistd::Pid::from_raw(run.id() as i32);
    nix::sys::signal::kill(pid, nix::sys::signal::SIGTERM).unwrap();
    let told: Vec<String> = lines.map_while(Result::ok).collect();
    assert!(!run.wait().unwrap().success(), "{told:?}");
    let left: Vec<_> = std::fs::read_dir(bench.dir.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    let unfinished =
        |name: &std::ffi::OsString| name == "out" || name.to_string_lossy().starts_with(".bothros");
    assert!(!left.iter().any(unfinished), "{left:?}");
}
