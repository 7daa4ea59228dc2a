//! Points, lines and polygons are read from every format that is named, and what cannot be read is told.
#![allow(clippy::unwrap_used)]

use std::path::{Path, PathBuf};
use std::process::Command;

use bothros_core::Coarser;
use bothros_formats::*;
use tempfile::{TempDir, tempdir};

fn utm() -> Crs {
    Crs::parse("EPSG:32628").unwrap()
}

const LINE: [[f64; 2]; 3] = [[500_000.0, 4_760_000.0], [500_120.5, 4_760_040.25], [500_300.0, 4_759_900.0]];

fn polygon() -> Vec<Vec<Vec<[f64; 2]>>> {
    let ring = |r: f64| {
        let (x, y) = (500_500.0, 4_760_500.0);
        vec![[x - r, y - r], [x + r, y - r], [x + r, y + r], [x - r, y + r], [x - r, y - r]]
    };
    let mut hole = ring(20.0);
    hole.reverse();
    vec![vec![ring(100.0), hole]]
}

/// A GeoPackage with a layer of each sort.
fn package(dir: &Path) -> PathBuf {
    let path = dir.join("all.gpkg");
    let layer = |name: &'static str, shape, features: Vec<Geometry>| Layer {
        name: name.into(),
        fields: vec![Field { name: "Name".into(), kind: FieldKind::Text }],
        features: features.into_iter().map(|g| (g, vec!["Alder".into()])).collect(),
        shape,
    };
    let layers = [
        layer("places", Shape::Point, vec![Geometry::Point([500_010.0, 4_760_020.0])]),
        layer("streams", Shape::Line, vec![Geometry::Line(LINE.to_vec())]),
        layer("walls", Shape::Line, vec![Geometry::Line(LINE.to_vec()), Geometry::Line(LINE[1..].to_vec())]),
        layer("areas", Shape::Polygons, vec![Geometry::Polygons(polygon())]),
    ];
    write_layers(&path, VectorFormat::GeoPackage, &utm(), &layers).unwrap();
    path
}

fn ogr2ogr(arguments: &[&str], from: &Path, to: &Path) {
    let out = Command::new("ogr2ogr").args(arguments).arg(to).arg(from).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}

fn read(path: &Path, layer: Option<&str>, wanted: Wanted) -> Result<ReadLayer> {
    read_features(path, &path.file_name().unwrap().to_string_lossy(), layer, wanted, &utm())
}

fn error(path: &Path, layer: Option<&str>, wanted: Wanted) -> String {
    read(path, layer, wanted).unwrap_err().to_string()
}

fn near(a: &Geometry, b: &Geometry, tolerance: f64) {
    let points = |g: &Geometry| -> Vec<[f64; 2]> {
        match g {
            Geometry::Point(p) => vec![*p],
            Geometry::Line(line) => line.clone(),
            Geometry::Polygons(polygons) => polygons.iter().flatten().flatten().copied().collect(),
        }
    };
    let (a, b) = (points(a), points(b));
    assert_eq!(a.len(), b.len());
    for (p, q) in a.iter().zip(&b) {
        assert!((p[0] - q[0]).abs() <= tolerance && (p[1] - q[1]).abs() <= tolerance, "{p:?} {q:?}");
    }
}

#[test]
fn a_geopackage_is_read_to_the_bit() {
    let dir = tempdir().unwrap();
    let path = package(dir.path());
    for (layer, wanted, expected) in [
        ("places", Wanted::Points, Geometry::Point([500_010.0, 4_760_020.0])),
        ("streams", Wanted::Lines, Geometry::Line(LINE.to_vec())),
        ("areas", Wanted::Polygons, Geometry::Polygons(polygon())),
        ("areas", Wanted::PointsOrPolygons, Geometry::Polygons(polygon())),
    ] {
        let found = read(&path, Some(layer), wanted).unwrap();
        assert_eq!(found.features, [ReadFeature { name: Some("Alder".into()), ..ReadFeature::of(expected) }]);
        assert_eq!((found.left_out, found.converted_from), (0, None));
    }
    // The only layer with polygons need not be named; of two with lines one must be.
    assert_eq!(read(&path, None, Wanted::Polygons).unwrap().features.len(), 1);
    let told = error(&path, None, Wanted::Lines);
    assert!(told.contains("streams") && told.contains("walls"), "{told}");
    assert!(error(&path, Some("roads"), Wanted::Lines).contains("there is no roads"));
    assert!(error(&path, Some("streams"), Wanted::Points).contains("no points"));
}

#[test]
fn shapefile_flatgeobuf_and_geojson() {
    let dir = tempdir().unwrap();
    let from = package(dir.path());
    for (name, driver, tolerance) in
        [("s.shp", "ESRI Shapefile", 1e-9), ("s.fgb", "FlatGeobuf", 1e-9), ("s.geojson", "GeoJSON", 0.02)]
    {
        let path = dir.path().join(name);
        let to_degrees: &[&str] = if driver == "GeoJSON" { &["-t_srs", "EPSG:4326"] } else { &[] };
        ogr2ogr(
            &[&["-f", driver, "-where", "1=1", "-sql", "SELECT * FROM streams"], to_degrees].concat(),
            &from,
            &path,
        );
        let found = read(&path, None, Wanted::Lines).unwrap();
        near(&found.features[0].shape, &Geometry::Line(LINE.to_vec()), tolerance);
        assert_eq!(found.features[0].name.as_deref(), Some("Alder"));
        assert_eq!(found.converted_from.is_some(), driver == "GeoJSON", "{name}");
    }
}

#[test]
fn other_crs_are_converted_and_told() {
    let dir = tempdir().unwrap();
    let from = package(dir.path());
    let path = dir.path().join("zone27.gpkg");
    ogr2ogr(&["-t_srs", "EPSG:32627", "-f", "GPKG"], &from, &path);
    let found = read(&path, Some("areas"), Wanted::Polygons).unwrap();
    near(&found.features[0].shape, &Geometry::Polygons(polygon()), 1e-3);
    assert_eq!(found.converted_from.unwrap().epsg, Some(32627));
}

#[test]
fn parts_are_taken_apart_and_empty_ones_left_out() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("mixed.geojson");
    let text = r#"{"type":"FeatureCollection","features":[
        {"type":"Feature","properties":{"NAME":"two"},"geometry":{"type":"MultiLineString","coordinates":[[[-15,43],[-15,43.1]],[[-14.9,43],[-14.9,43.2]]]}},
        {"type":"Feature","properties":{},"geometry":null},
        {"type":"Feature","properties":{},"geometry":{"type":"LineString","coordinates":[]}},
        {"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[-15,43,7]}},
        {"type":"Feature","properties":{},"geometry":{"type":"GeometryCollection","geometries":[{"type":"LineString","coordinates":[[-15,43],[-15,43.1]]},{"type":"Point","coordinates":[-15,43]}]}}]}"#;
    std::fs::write(&path, text).unwrap();
    let lines = read(&path, None, Wanted::Lines).unwrap();
    assert_eq!((lines.features.len(), lines.left_out), (3, 3));
    assert_eq!(lines.features[0].name.as_deref(), Some("two"));
    let points = read(&path, None, Wanted::Points).unwrap();
    assert_eq!((points.features.len(), points.left_out), (2, 3));
    // 15° W is the central meridian of zone 28.
    let Geometry::Point([x, _]) = points.features[0].shape else { panic!("a point") };
    assert!((x - 500_000.0).abs() < 1e-6);
}

struct Table {
    dir: TempDir,
}

impl Table {
    fn read(&self, text: &str, wanted: Wanted) -> Result<ReadLayer> {
        let path = self.dir.path().join("points.csv");
        std::fs::write(&path, text).unwrap();
        read(&path, None, wanted)
    }
}

#[test]
fn tables_of_points() {
    let table = Table { dir: tempdir().unwrap() };
    let found = table
        .read("\u{feff}Name, X ,Y\r\n\"Alder, foot\", 500010.5 ,4760020\r\n,1,2\r\n", Wanted::Points)
        .unwrap();
    assert_eq!(found.features[0].name.as_deref(), Some("Alder, foot"));
    assert_eq!(found.features[0].shape, Geometry::Point([500_010.5, 4_760_020.0]));
    assert_eq!((found.features[1].name.clone(), found.converted_from), (None, None));
    let degrees = table.read("lat,lon\n43.0,-15.0\n", Wanted::PointsOrPolygons).unwrap();
    let Geometry::Point([x, y]) = degrees.features[0].shape else { panic!("a point") };
    assert!((x - 500_000.0).abs() < 1e-6 && (y - 4_760_814.8).abs() < 1.0, "{x} {y}");
    assert_eq!(degrees.converted_from.unwrap().epsg, Some(4326));
    for (text, told) in [
        ("", "neither x and y nor lon and lat"),
        ("name\nAlder\n", "neither x and y nor lon and lat"),
        ("x,y\n", "holds no points"),
        ("x,y\n1\n", "line 2"),
        ("x,y\n1,2\n3,west\n", "line 3: “west” is no coordinate"),
        ("x,y\n1,nan\n", "line 2: “nan” is no coordinate"),
        ("lon,lat\n0,95\n", "cannot be converted"),
    ] {
        let error = table.read(text, Wanted::Points).unwrap_err().to_string();
        assert!(error.contains(told), "{text:?}: {error}");
    }
    assert!(table.read("x,y\n1,2\n", Wanted::Lines).unwrap_err().to_string().contains("no lines"));
}

#[test]
fn what_is_no_vector_file_is_told() {
    let dir = tempdir().unwrap();
    for (name, data) in [
        ("text.gpkg", "nothing of the sort"),
        ("empty.geojson", ""),
        ("broken.geojson", "{\"type\":\"FeatureCollection\",\"features\":[{"),
        ("broken.fgb", "fgb\u{3}fgb"),
        ("broken.shp", "\u{0}\u{0}\u{27}\u{a}"),
        ("page.html", "<html></html>"),
    ] {
        let path = dir.path().join(name);
        std::fs::write(&path, data).unwrap();
        let told = error(&path, None, Wanted::Lines);
        assert!(told.contains(name), "{name}: {told}");
    }
    assert!(error(&dir.path().join("nowhere.gpkg"), None, Wanted::Lines).contains("nowhere.gpkg"));
    // A raster is no vector file, nor does it become one by its name.
    let grid = bothros_core::Grid::filled(3, 3, 1.0f32);
    let frame = bothros_core::Frame { rows: 3, cols: 3, left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 };
    let path = dir.path().join("dem.gpkg");
    write_cog(&path, &grid, &frame, &utm(), f32::NAN, Coarser::Mean, "elevation", "m").unwrap();
    assert!(error(&path, None, Wanted::Lines).contains("dem.gpkg"));
}

#[test]
fn a_shapefile_without_its_projection_has_no_crs() {
    let dir = tempdir().unwrap();
    let from = package(dir.path());
    let path = dir.path().join("s.shp");
    ogr2ogr(&["-f", "ESRI Shapefile", "-sql", "SELECT * FROM streams"], &from, &path);
    std::fs::remove_file(dir.path().join("s.prj")).unwrap();
    assert!(error(&path, None, Wanted::Lines).contains("does not tell its CRS"));
}

#[test]
fn crs_are_compared_by_what_they_mean() {
    let utm = utm();
    let by_text = Crs::parse("+proj=utm +zone=28 +datum=WGS84 +units=m +no_defs").unwrap();
    assert!(utm.same_as(&utm).unwrap());
    assert!(by_text.same_as(&utm).unwrap(), "{by_text:?}");
    assert!(!utm.same_as(&Crs::parse("EPSG:32627").unwrap()).unwrap());
    assert!(!utm.same_as(&Crs::parse("EPSG:4326").unwrap()).unwrap());
}
