//! Any bytes as a GeoPackage: they are read or refused, no other file is opened, and every coordinate is a number. What is
//! not a database yet becomes pages of one, so that more than its first check is reached.
#![no_main]

use bothros_formats::{Crs, Geometry, Wanted, read_features};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((&pick, bytes)) = data.split_first() else { return };
    let wanted = [Wanted::Points, Wanted::Lines, Wanted::PointsOrPolygons][pick as usize % 3];
    let dir = tempfile::tempdir_in("/dev/shm").expect("a folder in memory");
    let path = dir.path().join("f.gpkg");
    let mut file = b"SQLite format 3\0".to_vec();
    file.extend(if bytes.starts_with(&file) { &bytes[16..] } else { bytes });
    std::fs::write(&path, file).expect("a file in memory");
    let to = Crs::parse("EPSG:4326").expect("WGS 84 is known");
    let Ok(read) = read_features(&path, "f.gpkg", None, wanted, &to) else { return };
    let finite = |p: &[f64; 2]| assert!(p[0].is_finite() && p[1].is_finite());
    for feature in read.features {
        match feature.shape {
            Geometry::Point(p) => finite(&p),
            Geometry::Line(line) => line.iter().for_each(finite),
            Geometry::Polygons(polygons) => polygons.iter().flatten().flatten().for_each(finite),
        }
    }
});
