//! What is written is read back the same, and bad files get a clear answer.
#![allow(clippy::unwrap_used)]

use std::path::Path;

use bothros_core::{Coarser, Frame, Grid, Silent};
use bothros_formats::*;
use tempfile::tempdir;

const FRAME: Frame =
    Frame { rows: 700, cols: 900, left: 499_980.0, top: 4_762_020.0, cell_size: 20.0, unit_m: 1.0 };

fn utm() -> Crs {
    Crs::parse("EPSG:32628").unwrap()
}

fn terrain() -> Grid<f32> {
    Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        if c.row > 600 && c.col < 100 {
            f32::NAN
        } else {
            c.row as f32 * 0.37 - (c.col as f32 * 0.11).fract()
        }
    })
}

#[test]
fn a_dem_survives_to_the_bit() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("dem.tif");
    write_cog(&path, &terrain(), &FRAME, &utm(), f32::NAN, Coarser::Mean, "ground elevation, metres", "m")
        .unwrap();
    let info = inspect(&path, "dem.tif").unwrap();
    assert_eq!((info.rows, info.cols), (700, 900));
    assert_eq!(info.geo_transform, [499_980.0, 20.0, 0.0, 4_762_020.0, 0.0, -20.0]);
    assert_eq!(info.crs.as_ref().unwrap().epsg, Some(32628));
    assert_eq!(info.bands[0].description, "ground elevation, metres");
    assert_eq!(info.vertical_unit(1), Some(VerticalUnit::Metre));
    assert!(info.is_ready());
    let back = read_elevation(&path, "dem.tif", 1, VerticalUnit::Metre, &Silent).unwrap();
    for (a, b) in terrain().values().iter().zip(back.values()) {
        assert!(a.to_bits() == b.to_bits() || (a.is_nan() && b.is_nan()));
    }
}

/// Cloud-optimised as GDAL's own driver reports it, and read without a warning.
#[test]
fn gdal_tools_read_it_without_a_warning() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("accumulation.tif");
    let mut cells = Grid::filled(FRAME.rows, FRAME.cols, 1u32);
    // One cell among many: a mean would lose it, the greatest keeps it.
    cells.values_mut()[300 * 900 + 451] = 4_000_000_000;
    write_cog(&path, &cells, &FRAME, &utm(), u32::MAX, Coarser::Greatest, "flow accumulation, cells", "")
        .unwrap();
    let out = std::process::Command::new("gdalinfo").arg(&path).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success() && out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(text.contains("LAYOUT=COG") && text.contains("NoData Value=4294967295"), "{text}");
    assert!(text.contains("Overviews: 450x350"), "{text}");
    let overview = gdal::Dataset::open(&path).unwrap();
    let band = overview.rasterband(1).unwrap().overview(0).unwrap();
    let values = band.read_band_as::<u32>().unwrap();
    assert_eq!(values.data().iter().max(), Some(&4_000_000_000));
}

/// The same cells under another description, as the tools of GDAL see them: still cloud-optimised, without a warning.
#[test]
fn a_raster_is_written_again_under_another_description() {
    let dir = tempdir().unwrap();
    let path = |name: &str| dir.path().join(name);
    let told = "ground surface: with voids dealt with, elevation in metres";
    write_cog(&path("ground.tif"), &terrain(), &FRAME, &utm(), f32::NAN, Coarser::Mean, told, "m").unwrap();
    assert!(copy_cog(&path("ground.tif"), &path("again.tif"), told, "routing surface").unwrap());
    let out = std::process::Command::new("gdalinfo").arg(path("again.tif")).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success() && out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(text.contains("LAYOUT=COG") && text.contains("Description = routing surface\n"), "{text}");
    assert!(text.contains("Unit Type: m") && text.contains("Overviews: 450x350"), "{text}");
    let read = |name| read_elevation(&path(name), name, 1, VerticalUnit::Metre, &Silent).unwrap();
    let (first, again) = (read("ground.tif"), read("again.tif"));
    assert!(first.values().iter().zip(again.values()).all(|(a, b)| a.to_bits() == b.to_bits()));
    // What does not fit in its place, or is not there, is left to be written in full.
    for (was, description) in [(told, &*told.repeat(2)), ("other words", "words"), (told, "a < b")] {
        assert!(!copy_cog(&path("ground.tif"), &path("none.tif"), was, description).unwrap());
        assert!(!path("none.tif").exists());
    }
}

#[test]
fn feet_become_metres() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("feet.tif");
    let feet = Grid::from_fn(4, 4, |c| 100.0 * c.col as f32);
    let frame = Frame { rows: 4, cols: 4, ..FRAME };
    write_cog(&path, &feet, &frame, &utm(), f32::NAN, Coarser::Mean, "", "US survey foot").unwrap();
    let unit = inspect(&path, "feet.tif").unwrap().vertical_unit(1).unwrap();
    assert_eq!(unit, VerticalUnit::UsSurveyFoot);
    let metres = read_elevation(&path, "feet.tif", 1, unit, &Silent).unwrap();
    assert_eq!(metres.values()[3], (300.0 * 1200.0 / 3937.0) as f32);
}

fn ascii(dir: &Path, prj: bool) -> std::path::PathBuf {
    let path = dir.join("dem.asc");
    let grid = "ncols 3\nnrows 2\nxllcorner 500000\nyllcorner 4700000\ncellsize 10\nNODATA_value -9999\n1.5 2 3\n4 -9999 6\n";
    std::fs::write(&path, grid).unwrap();
    if prj {
        // As desktop programs write it: WKT 1 in the ESRI dialect.
        let reference = gdal::spatial_ref::SpatialRef::from_epsg(32628).unwrap();
        reference.morph_to_esri().unwrap();
        std::fs::write(dir.join("dem.prj"), reference.to_wkt().unwrap()).unwrap();
    }
    path
}

#[test]
fn ascii_grid_with_and_without_crs() {
    let dir = tempdir().unwrap();
    let path = ascii(dir.path(), false);
    let info = inspect(&path, "dem.asc").unwrap();
    assert_eq!((info.format.as_str(), info.crs.is_none()), ("ASCII grid", true));
    let values = read_elevation(&path, "dem.asc", 1, VerticalUnit::Metre, &Silent).unwrap();
    assert_eq!(values.values()[0], 1.5);
    assert!(values.values()[4].is_nan());
    let dir = tempdir().unwrap();
    let path = ascii(dir.path(), true);
    assert!(inspect(&path, "dem.asc").unwrap().crs.is_some());
}

/// A tiled or striped file of any value type and compression, made by GDAL's own tool.
#[test]
fn types_and_compressions() {
    let dir = tempdir().unwrap();
    let source = ascii(dir.path(), true);
    for kind in ["Int16", "UInt16", "Int32", "Float32", "Float64"] {
        for compression in ["NONE", "LZW", "DEFLATE", "ZSTD"] {
            for tiled in ["YES", "NO"] {
                let path = dir.path().join("made.tif");
                let run = std::process::Command::new("gdal_translate")
                    .args(["-q", "-ot", kind, "-co", &format!("COMPRESS={compression}")])
                    .args(["-co", &format!("TILED={tiled}")])
                    .args(if kind == "UInt16" { ["-a_nodata", "0"] } else { ["-a_nodata", "-9999"] })
                    .args([&source, &path])
                    .status()
                    .unwrap();
                assert!(run.success());
                assert!(inspect(&path, "made.tif").unwrap().is_ready(), "{kind} {compression}");
                let values = read_elevation(&path, "made.tif", 1, VerticalUnit::Metre, &Silent).unwrap();
                assert_eq!(
                    (values.values()[1], values.values()[5]),
                    (2.0, 6.0),
                    "{kind} {compression} {tiled}"
                );
            }
        }
    }
}

#[test]
fn bad_files_get_a_clear_answer() {
    let dir = tempdir().unwrap();
    let text = dir.path().join("text.tif");
    std::fs::write(&text, "this is no raster\n").unwrap();
    assert!(matches!(inspect(&text, "text.tif"), Err(Error::NotARaster { .. })));

    let whole = dir.path().join("whole.tif");
    write_cog(&whole, &terrain(), &FRAME, &utm(), f32::NAN, Coarser::Mean, "", "m").unwrap();
    let bytes = std::fs::read(&whole).unwrap();
    let cut = dir.path().join("cut.tif");
    std::fs::write(&cut, &bytes[..bytes.len() / 2]).unwrap();
    let read = inspect(&cut, "cut.tif")
        .and_then(|_| read_elevation(&cut, "cut.tif", 1, VerticalUnit::Metre, &Silent));
    assert!(matches!(read, Err(Error::Damaged { .. })), "{read:?}");
    std::fs::write(&cut, &bytes[..6]).unwrap();
    assert!(matches!(inspect(&cut, "cut.tif"), Err(Error::Damaged { .. })));

    let picture = dir.path().join("picture.tif");
    let driver = gdal::DriverManager::get_driver_by_name("GTiff").unwrap();
    let options = gdal::raster::RasterCreationOptions::from_iter(["PHOTOMETRIC=RGB"]);
    driver.create_with_band_type_with_options::<u8, _>(&picture, 8, 8, 3, &options).unwrap().close().unwrap();
    assert!(matches!(inspect(&picture, "p"), Err(Error::Picture { bands: 3, .. })));

    let one = dir.path().join("one.tif");
    driver.create_with_band_type::<f32, _>(&one, 1, 1, 1).unwrap().close().unwrap();
    assert!(matches!(inspect(&one, "one.tif"), Err(Error::TooSmall { .. })));

    let complex = dir.path().join("two.tif");
    driver.create_with_band_type::<f32, _>(&complex, 8, 8, 2).unwrap().close().unwrap();
    assert_eq!(inspect(&complex, "two.tif").unwrap().bands.len(), 2);
    assert!(matches!(
        read_elevation(&complex, "two.tif", 3, VerticalUnit::Metre, &Silent),
        Err(Error::NoBand { band: 3, bands: 2 })
    ));
}

#[test]
fn a_virtual_file_that_points_elsewhere_is_refused() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("dem.tif");
    std::fs::write(&path, r#"<VRTDataset rasterXSize="9" rasterYSize="9"><VRTRasterBand dataType="Byte" band="1"><SimpleSource><SourceFilename>/etc/hostname</SourceFilename></SimpleSource></VRTRasterBand></VRTDataset>"#).unwrap();
    assert!(matches!(inspect(&path, "dem.tif"), Err(Error::NotARaster { .. })));
}

#[test]
fn not_a_number_and_infinity_are_nodata() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("odd.tif");
    let odd = Grid::from_vec(2, 3, vec![1.0, f32::INFINITY, f32::NEG_INFINITY, f32::NAN, -0.0, 5.0]);
    let frame = Frame { rows: 2, cols: 3, ..FRAME };
    write_cog(&path, &odd, &frame, &utm(), -9999.0, Coarser::Mean, "", "m").unwrap();
    let read = read_elevation(&path, "odd.tif", 1, VerticalUnit::Metre, &Silent).unwrap();
    assert_eq!(read.values().iter().filter(|v| v.is_nan()).count(), 3);
    assert_eq!(read.values()[4].to_bits(), 0, "minus zero is zero");
}

#[test]
fn a_rotated_raster_is_told() {
    let dir = tempdir().unwrap();
    let path = dir.path().join("turned.tif");
    let driver = gdal::DriverManager::get_driver_by_name("GTiff").unwrap();
    let mut made = driver.create_with_band_type::<f32, _>(&path, 8, 8, 1).unwrap();
    made.set_geo_transform(&[500_000.0, 8.0, 6.0, 4_700_000.0, 6.0, -8.0]).unwrap();
    made.set_spatial_ref(&gdal::spatial_ref::SpatialRef::from_epsg(32628).unwrap()).unwrap();
    made.close().unwrap();
    let info = inspect(&path, "turned.tif").unwrap();
    assert!(!info.is_north_up() && !info.is_ready());
}

/// A plane in UTM, expressed in degrees and warped back, is the plane again.
#[test]
fn warping_keeps_a_plane() {
    let wgs = Crs::parse("EPSG:4326").unwrap();
    let to_utm = Transform::new(&wgs, &utm()).unwrap();
    let plane = |x: f64, y: f64| (x - 650_000.0) * 0.02 + (y - 4_760_000.0) * 0.01;
    let step = 0.0003;
    let degrees = Grid::from_fn(200, 300, |c| {
        let (lon, lat) = (-13.1 + (c.col as f64 + 0.5) * step, 43.0 - (c.row as f64 + 0.5) * step);
        let (x, y) = to_utm.point(lon, lat).unwrap();
        plane(x, y) as f32
    });
    let source = Placed { values: &degrees, geo_transform: [-13.1, step, 0.0, 43.0, 0.0, -step], crs: &wgs };
    let plan = plan_warp(200, 300, source.geo_transform, &wgs, &utm()).unwrap();
    assert!((25.0..35.0).contains(&plan.native_cell_size), "{plan:?}");
    for resampling in [Resampling::Bilinear, Resampling::Cubic] {
        let (warped, frame) = warp(&source, &utm(), 30.0, resampling, &Silent).unwrap();
        let mut seen = 0;
        for (index, &z) in warped.values().iter().enumerate() {
            let (x, y) = frame.centre(warped.cell(index));
            // At the rim half of a cell is extrapolated.
            let inner = !z.is_nan() && !warped.is_edge(index);
            if inner {
                assert!((z as f64 - plane(x, y)).abs() < 0.35, "{z} against {}", plane(x, y));
                seen += 1;
            }
        }
        assert!(seen > 40_000);
        assert_eq!(frame.left % 30.0, 0.0);
    }
    assert!(matches!(warp(&source, &utm(), 0.0, Resampling::Cubic, &Silent), Err(Error::CellSize { .. })));
    assert!(matches!(warp(&source, &utm(), 1e7, Resampling::Cubic, &Silent), Err(Error::CellSize { .. })));
    assert!(matches!(warp(&source, &utm(), 0.01, Resampling::Cubic, &Silent), Err(Error::CellSize { .. })));
}

#[test]
fn layers_are_read_back_by_the_open_tools() {
    let dir = tempdir().unwrap();
    let square = vec![[0.0, 0.0], [10.0, 0.0], [10.0, 10.0], [0.0, 10.0], [0.0, 0.0]]
        .into_iter()
        .map(|[x, y]: [f64; 2]| [x + 500_000.0, y + 4_700_000.0])
        .collect::<Vec<_>>();
    let layers = [
        Layer {
            name: "catchments".into(),
            fields: vec![
                Field { name: "catchment_id".into(), kind: FieldKind::Integer },
                Field { name: "name".into(), kind: FieldKind::Text },
                Field { name: "area_km2".into(), kind: FieldKind::Real },
                Field { name: "touches_edge".into(), kind: FieldKind::Boolean },
            ],
            features: vec![(
                Geometry::Polygons(vec![vec![square]]),
                vec![1u32.into(), "Tarnfield — weir".into(), 0.0001.into(), true.into()],
            )],
            shape: Shape::Polygons,
        },
        Layer { name: "empty".into(), fields: vec![], features: vec![], shape: Shape::Line },
    ];
    let package = dir.path().join("out.gpkg");
    write_layers(&package, VectorFormat::GeoPackage, &utm(), &layers).unwrap();
    let text = dir.path().join("out.geojson");
    write_layers(&text, VectorFormat::GeoJson, &utm(), &layers[..1]).unwrap();
    for (path, expected) in [(&package, "Tarnfield — weir"), (&text, "\"WGS 84\"")] {
        let out = std::process::Command::new("ogrinfo").args(["-ro", "-al"]).arg(path).output().unwrap();
        let told = String::from_utf8_lossy(&out.stdout);
        assert!(out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
        assert!(told.contains(expected) && told.contains("touches_edge"), "{told}");
    }
    let json: serde_json::Value = serde_json::from_str(&std::fs::read_to_string(text).unwrap()).unwrap();
    let first = &json["features"][0]["geometry"]["coordinates"][0][0][0];
    assert!((first[0].as_f64().unwrap() + 15.0).abs() < 0.01, "longitude first: {first}");
    assert_eq!(json["features"][0]["properties"]["touches_edge"], true);
}

/// A TIFF of 17 rows whose header promises 63,000 bands: found by fuzzing, it took six gigabytes.
#[test]
fn headers_that_promise_too_much_are_refused() {
    let dir = tempdir().unwrap();
    let entry = |tag: u16, kind: u16, value: u32| {
        let mut bytes = Vec::new();
        bytes.extend(tag.to_le_bytes());
        bytes.extend(kind.to_le_bytes());
        bytes.extend(1u32.to_le_bytes());
        bytes.extend(value.to_le_bytes());
        bytes
    };
    let tiff = |cols: u32, rows: u32, bands: u32| {
        let entries = [
            entry(256, 4, cols),
            entry(257, 4, rows),
            entry(258, 3, 16),
            entry(259, 3, 1),
            entry(262, 3, 1),
            entry(273, 4, 8),
            entry(277, 3, bands),
            entry(278, 4, rows),
            entry(279, 4, 8),
        ];
        let mut bytes = b"II*\0\x08\0\0\0".to_vec();
        bytes.extend((entries.len() as u16).to_le_bytes());
        bytes.extend(entries.concat());
        bytes.extend([0; 4]);
        bytes
    };
    for (cols, rows, bands, told) in
        [(11_796, 17, 63_000, "63000 bands"), (4_000_000, 4_000_000, 1, "4000000 x 4000000 cells")]
    {
        let path = dir.path().join("dem.tif");
        std::fs::write(&path, tiff(cols, rows, bands)).unwrap();
        let error = inspect(&path, "dem.tif").unwrap_err().to_string();
        assert!(error.contains(told), "{cols} {rows} {bands}: {error}");
        assert!(read_elevation(&path, "dem.tif", 1, VerticalUnit::Metre, &Silent).is_err());
    }
}

/// HDF5 locks the files it has open, and a process that is begun meanwhile takes the open file along with its lock.
#[test]
fn netcdf_is_written_while_other_processes_begin() {
    use std::process::{Child, Command};
    let dir = tempfile::tempdir().unwrap();
    let values = terrain();
    let mut children: Vec<Child> = Vec::new();
    std::thread::scope(|scope| {
        let writing = scope.spawn(|| {
            for i in 0..20 {
                let path = dir.path().join(format!("{i}.nc"));
                bothros_formats::write_netcdf(
                    &path,
                    &values,
                    &FRAME,
                    &utm(),
                    f32::NAN,
                    "ground",
                    "Ground",
                    "m",
                )
                .unwrap_or_else(|e| panic!("file {i}: {e}"));
                assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), i + 1, "nothing else is left");
            }
        });
        while !writing.is_finished() {
            children.push(Command::new("sleep").arg("60").spawn().unwrap());
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
    });
    for mut child in children {
        child.kill().unwrap();
        child.wait().unwrap();
    }
}
