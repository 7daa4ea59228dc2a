//! The core held against general-purpose reference libraries: NumPy, SciPy, scikit-image, NetworkX, GDAL.

use std::path::Path;

use crate::support::{python, srtm_file};
use bothros_core::{
    Cell, Frame, Grid, Silent, Threshold, catchments, conditioning, network, routing, terrain,
};
use bothros_demo::{Noise, fractal_terrain};
use bothros_formats::{Crs, Placed, Resampling, VerticalUnit, inspect, read_elevation, warp};

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
fn where_streams_begin_is_found_by_numpy_too() {
    use network::{Begins, Converging, Flow, SlopeArea};
    const SIZE: usize = 120;
    let frame = Frame { rows: SIZE, cols: SIZE, left: 0.0, top: 0.0, cell_size: 10.0, unit_m: 1.0 };
    let ground = conditioning::fill(&fractal_terrain(SIZE, 8), &Silent).unwrap();
    let directions = routing::flow_directions(&ground, &Silent).unwrap();
    let accumulation = routing::flow_accumulation(&directions, &Silent).unwrap();
    let flow = Flow { directions: &directions, accumulation: &accumulation, ground: &ground, frame: &frame };
    let (exponent, at_slope, curvature) = (1.5, 0.2, 0.003);
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, data: &[u8]| std::fs::write(dir.path().join(name), data).unwrap();
    write("filled.f32", &bytes(ground.values(), f32::to_le_bytes));
    write("directions.u8", directions.values());
    write("accumulation.u32", &bytes(accumulation.values(), u32::to_le_bytes));
    for (name, begins) in [
        ("slope_area.u32", Begins::SlopeArea(SlopeArea { exponent, at_slope })),
        ("converging.u32", Begins::Converging(Converging { curvature, over_m: 0.0 })),
    ] {
        let begun = flow.begun(begins, &[], &Silent).unwrap().unwrap();
        write(name, &bytes(begun.values(), u32::to_le_bytes));
    }
    let given = serde_json::json!({
        "rows": SIZE, "cols": SIZE, "cell": 10.0, "exponent": exponent, "at_slope": at_slope, "curvature": curvature,
    });
    write("given.json", given.to_string().as_bytes());
    let told = python("beginnings.py", &[dir.path().to_str().unwrap()]);
    assert!(told.contains("beginnings agree"), "{told}");
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

/// Everything else that the engine computes, on one terrain.
fn engine_agrees(dem: &Grid<f32>, cell_m: f64, threshold: u32) {
    let (rows, cols) = (dem.rows(), dem.cols());
    let frame = Frame { rows, cols, left: 500_000.0, top: 4_700_000.0, cell_size: cell_m, unit_m: 1.0 };
    let filled = conditioning::fill(dem, &Silent).unwrap();
    let d8 = routing::flow_directions(&filled, &Silent).unwrap();
    let accumulation = routing::flow_accumulation(&d8, &Silent).unwrap();
    let angles = routing::dinf_directions(&filled, &d8, &Silent).unwrap();
    let dinf = routing::dinf_accumulation(&d8, &angles, None, &Silent).unwrap();
    let mfd = routing::mfd_accumulation(&filled, &d8, routing::MFD_EXPONENT, None, &Silent).unwrap();
    let streams =
        network::extract(&d8, &accumulation, &filled, &frame, Threshold::cells(threshold), &Silent).unwrap();
    let mut orders = Grid::filled(rows, cols, 0u8);
    for reach in &streams.reaches {
        for &cell in &reach.cells {
            orders.values_mut()[cell as usize] = reach.strahler;
        }
    }
    // Pour points where reaches end, so that they nest.
    let outlets: Vec<Cell> = streams
        .reaches
        .iter()
        .step_by(3)
        .map(|reach| dem.cell(reach.cells[reach.cells.len() - 1] as usize))
        .collect();
    let found = catchments::label(&d8, &outlets, &Silent).unwrap();
    let sinks = conditioning::sink_hierarchy(dem, &frame, &[], &Silent).unwrap();
    let listed = conditioning::list_sinks(dem, &filled, &frame, usize::MAX, &Silent).unwrap();
    let position =
        terrain::topographic_position(&filled, &frame, terrain::Radius::Cells(5.0), &Silent).unwrap();
    // The hillshade has no rim.
    let inner = terrain::hillshade(&filled, cell_m, cell_m, terrain::Light::default());
    let shade = Grid::from_fn(rows, cols, |c| {
        let within = c.row > 0 && c.col > 0 && c.row + 1 < rows && c.col + 1 < cols;
        if within { inner.values()[(c.row - 1) * (cols - 2) + c.col - 1] } else { f32::NAN }
    });

    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, data: &[u8]| std::fs::write(dir.path().join(name), data).unwrap();
    let floats = |name: &str, grid: &Grid<f32>| write(name, &bytes(grid.values(), f32::to_le_bytes));
    write("shape.txt", format!("{rows} {cols} {cell_m} {threshold}").as_bytes());
    floats("dem.f32", dem);
    floats("filled.f32", &filled);
    write("d8.u8", d8.values());
    floats("angles.f32", &angles);
    write("dinf.f64", &bytes(dinf.values(), f64::to_le_bytes));
    write("mfd.f64", &bytes(mfd.values(), f64::to_le_bytes));
    write("streams.u8", orders.values());
    write("catchments.u32", &bytes(found.ids.values(), u32::to_le_bytes));
    floats("to_outlet.f32", &routing::distance_to_outlet(&d8, &frame, &Silent).unwrap());
    floats("position.f32", &position);
    floats("slope.f32", &terrain::slope(&filled, cell_m, &Silent).unwrap());
    floats("aspect.f32", &terrain::aspect(&filled, cell_m, &Silent).unwrap());
    floats("shade.f32", &shade);
    let lines = |items: Vec<String>| items.join("\n");
    write("outlets.txt", lines(outlets.iter().map(|o| format!("{} {}", o.row, o.col)).collect()).as_bytes());
    let upper = |r: &network::Reach| dem.cell(r.cells[0] as usize);
    let reaches = streams
        .reaches
        .iter()
        .map(|r| format!("{} {} {} {}", upper(r).row, upper(r).col, r.strahler, r.shreve));
    write("reaches.txt", lines(reaches.collect()).as_bytes());
    // The list of what was filled, and the roots of the hierarchy, hold the same.
    let roots: Vec<_> = sinks.iter().filter(|s| s.parent.is_none()).collect();
    let cells = |of: &mut dyn Iterator<Item = u64>| of.sum::<u64>();
    assert_eq!(cells(&mut roots.iter().map(|s| s.cells)), cells(&mut listed.largest.iter().map(|s| s.cells)));
    let listed = listed.largest.iter().map(|s| format!("{} {}", s.volume_m3, s.depth_m));
    write("sinks.txt", lines(listed.collect()).as_bytes());
    let polygons: Vec<_> = catchments::outlines(&found.ids, &frame)
        .into_iter()
        .map(|(id, outline)| serde_json::json!({ "id": id, "polygons": outline.polygons }))
        .collect();
    write("polygons.json", serde_json::to_string(&polygons).unwrap().as_bytes());
    let told = python("engine.py", &[dir.path().to_str().unwrap()]);
    assert!(told.ends_with("agree\n"), "{told}");
}

#[test]
fn the_engine_on_rough_terrain() {
    engine_agrees(&fractal_terrain(120, 11), 10.0, 60);
}

#[test]
fn the_engine_on_a_real_tile_and_a_real_volcano() {
    let dir = tempfile::tempdir().unwrap();
    let (dem, _) = srtm(dir.path());
    engine_agrees(&dem.window(60, 40, 180, 190), 80.0, 200);
    let volcano: serde_json::Value =
        serde_json::from_str(include_str!("../../../../tests/reference/volcano.json")).unwrap();
    let size = |key: &str| volcano[key].as_u64().unwrap() as usize;
    let values = volcano["values"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap() as f32).collect();
    engine_agrees(&Grid::from_vec(size("height"), size("width"), values), 10.0, 40);
}

#[test]
fn the_engine_on_terraces_with_voids() {
    let noise = Noise(23);
    let rough = fractal_terrain(110, 9);
    engine_agrees(
        &Grid::from_fn(110, 110, |c| {
            let z = rough.values()[c.row * 110 + c.col];
            if noise.at(c.row as i64 / 5, c.col as i64 / 5) < 0.03 { f32::NAN } else { (z / 20.0).round() }
        }),
        5.0,
        30,
    );
}

/// Realisations, held against a run with other random numbers and other code for every step.
#[test]
fn probabilities_of_streams_and_of_a_catchment() {
    use bothros_core::uncertainty::{DemError, Place, Realisations, Tally};
    const ROWS: usize = 40;
    const COLS: usize = 52;
    const CELL: f64 = 10.0;
    /// realisations of the core, and of the run beside it
    const CORE: usize = 600;
    const THEIRS: usize = 300;
    let frame =
        Frame { rows: ROWS, cols: COLS, left: 0.0, top: ROWS as f64 * CELL, cell_size: CELL, unit_m: 1.0 };
    // Two valleys and a low ridge between them, falling to the south.
    let dem = Grid::from_fn(ROWS, COLS, |c| {
        let (x, y) = (c.col as f32, c.row as f32);
        300.0 - 0.9 * y + 0.35 * (x - 14.0).abs().min((x - 38.0).abs())
    });
    let how = conditioning::Conditioning::default();
    let place = Place { at: (145.0, 25.0), snap_m: 55.0, snap_to: catchments::SnapTo::Largest };
    let error = DemError { sd_m: 0.6, correlation_m: 30.0 };
    let threshold = 60;
    let of = Realisations {
        dem: &dem,
        frame: &frame,
        error,
        seed: 5,
        how: &how,
        method: routing::Method::D8,
        beginning: &network::Beginning::default(),
        threshold: Threshold::cells(threshold),
        places: &[place],
        map: None,
    };
    let mut tally = Tally::new(&of);
    tally.go_on(&of, CORE, 2, &Silent).unwrap();
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, data: &[u8]| std::fs::write(dir.path().join(name), data).unwrap();
    write("dem.f32", &bytes(dem.values(), f32::to_le_bytes));
    for (name, counts) in [("streams.f32", &tally.streams), ("catchment.f32", &tally.catchments[0])] {
        write(name, &bytes(tally.shares(counts, &dem).values(), f32::to_le_bytes));
    }
    let given = serde_json::json!({
        "rows": ROWS, "cols": COLS, "cell": CELL, "sd": error.sd_m, "correlation": error.correlation_m, "threshold": threshold,
        "realisations": THEIRS, "core": CORE, "at": place.at, "reach": place.snap_m,
    });
    write("given.json", given.to_string().as_bytes());
    let told = python("uncertainty.py", &[dir.path().to_str().unwrap()]);
    println!("{told}");
    assert!(told.contains("streams agree") && told.contains("catchment agree"), "{told}");
}
