//! Any bytes as a raster file: they are read or refused, and what is read is as large as was told.
#![no_main]

use bothros_core::Silent;
use bothros_formats::{VerticalUnit, inspect, read_elevation};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    // The first byte picks the format; headers that promise more than a small raster are passed over,
    // since they only cost memory.
    let Some((&pick, bytes)) = data.split_first() else { return };
    let name = if pick % 2 == 0 { "dem.tif" } else { "dem.asc" };
    let dir = tempfile::tempdir_in("/dev/shm").expect("a folder in memory");
    let path = dir.path().join(name);
    std::fs::write(&path, bytes).expect("a file in memory");
    let Ok(info) = inspect(&path, name) else { return };
    if info.rows.saturating_mul(info.cols) > 1 << 20 {
        return;
    }
    for band in 1..=info.bands.len().min(2) {
        if let Ok(values) = read_elevation(&path, name, band, VerticalUnit::Foot, &Silent) {
            assert_eq!((values.rows(), values.cols()), (info.rows, info.cols));
            assert!(values.values().iter().all(|z| z.is_finite() || z.is_nan()));
        }
    }
});
