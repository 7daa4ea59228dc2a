//! The core held against general-purpose reference libraries: scikit-image and networkx.

mod support;

use std::path::Path;

use bothros_core::{Frame, Grid, Silent, conditioning, routing};
use bothros_demo::{Noise, fractal_terrain};
use bothros_formats::{Crs, Placed, Resampling, VerticalUnit, inspect, read_elevation, warp};
use support::{python, srtm_file};

fn bytes<T: Copy, const N: usize>(values: &[T], to: impl Fn(T) -> [u8; N]) -> Vec<u8> {
    values.iter().flat_map(|&v| to(v)).collect()
}

fn agrees(dem: &Grid<f32>) {
    let filled = conditioning::fill(dem, &Silent).unwrap();
    let directions = routing::flow_directions(&filled, &Silent).unwrap();
    let accumulation = routing::flow_accumulation(&directions, &Silent).unwrap();
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, data: &[u8]| std::fs::write(dir.path().join(name), data).unwrap();
    write("shape.txt", format!("{} {}", dem.rows(), dem.cols()).as_bytes());
    write("dem.f32", &bytes(dem.values(), f32::to_le_bytes));
    write("filled.f32", &bytes(filled.values(), f32::to_le_bytes));
    write("directions.u8", directions.values());
    write("accumulation.u32", &bytes(accumulation.values(), u32::to_le_bytes));
    let told = python("check.py", &[dir.path().to_str().unwrap()]);
    assert!(told.contains("agree"), "{told}");
}

/// The tile in UTM, 80 m cells, with the ragged rim that warping leaves.
fn srtm(dir: &Path) -> (Grid<f32>, Frame) {
    let path = srtm_file(dir);
    let info = inspect(&path, "jacksboro.tif").unwrap();
    let values = read_elevation(&path, "jacksboro.tif", 1, VerticalUnit::Metre, &Silent).unwrap();
    let placed =
        Placed { values: &values, geo_transform: info.geo_transform, crs: info.crs.as_ref().unwrap() };
    warp(&placed, &Crs::parse("EPSG:32616").unwrap(), 80.0, Resampling::Cubic, &Silent).unwrap()
}

#[test]
fn a_real_srtm_tile() {
    let dir = tempfile::tempdir().unwrap();
    let (dem, frame) = srtm(dir.path());
    assert!(dem.values().iter().any(|z| z.is_nan()), "the warp leaves a rim");
    assert!(frame.cells() > 100_000);
    agrees(&dem);
}

#[test]
fn rough_terrain() {
    agrees(&fractal_terrain(150, 3));
}

#[test]
fn terraces_with_voids() {
    let noise = Noise(17);
    let rough = fractal_terrain(140, 5);
    agrees(&Grid::from_fn(140, 140, |c| {
        let z = rough.values()[c.row * 140 + c.col];
        if noise.at(c.row as i64 / 4, c.col as i64 / 4) < 0.03 { f32::NAN } else { (z / 25.0).round() }
    }));
}
