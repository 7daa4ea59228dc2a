//! Any bytes as the world file of a picture: its place is finite and lies on the earth, or it is refused.
#![no_main]

use bothros_formats::{Crs, laid_extent, read_picture};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let dir = tempfile::tempdir_in("/dev/shm").expect("a folder in memory");
    let path = dir.path().join("picture.png");
    std::fs::write(&path, PICTURE).expect("a file in memory");
    std::fs::write(path.with_extension("pgw"), data).expect("a file in memory");
    let Ok(picture) = read_picture(&path, "picture.png") else { return };
    let Some(place) = picture.geo_transform else { return };
    assert!(place.iter().all(|v| v.is_finite() && v.abs() <= 1e10), "{place:?}");
    let utm = Crs::parse("EPSG:32628").expect("UTM is known");
    let (extent, step, width, height) =
        laid_extent((4, 4), place, &utm, &utm).expect("it lies in its own CRS");
    assert!(
        extent.iter().all(|v| v.is_finite()) && step > 0.0 && width * height <= 1 << 26,
        "{extent:?} {step}"
    );
});

/// A grey PNG of 4 x 4 pixels.
const PICTURE: &[u8] = include_bytes!("picture.png");
