//! Terrains whose answers are known, and their files.

use std::path::{Path, PathBuf};

use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::{Crs, write_cog};

pub const FRAME: Frame =
    Frame { rows: 300, cols: 400, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };

/// A valley that falls to the south with side valleys, two pits in it.
pub fn valley() -> Grid<f32> {
    Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let side = (c.col as f32 - 200.0).abs();
        let ribs = 6.0 * ((c.row % 60) as f32 / 30.0 - 1.0).abs() * (side / 200.0);
        let pit = if (c.row, c.col) == (150, 201) || (c.row / 4, c.col / 4) == (60, 70) { -5.0 } else { 0.0 };
        600.0 - c.row as f32 * 0.5 + side * 0.4 + ribs + pit
    })
}

pub fn utm() -> Crs {
    Crs::parse("EPSG:32628").unwrap()
}

/// Writes the valley as a GeoTIFF.
pub fn valley_file(dir: &Path) -> PathBuf {
    written(dir, "valley.tif", &valley(), &FRAME)
}

/// Writes elevations as a GeoTIFF.
pub fn written(dir: &Path, name: &str, values: &Grid<f32>, frame: &Frame) -> PathBuf {
    let path = dir.join(name);
    write_cog(&path, values, frame, &utm(), f32::NAN, Coarser::Mean, "elevation", "m").unwrap();
    path
}

/// A valley that falls to the south, with a railway across it in rows 150 to 152.
pub fn dammed() -> Grid<f32> {
    Grid::from_fn(FRAME.rows, FRAME.cols, |c| {
        let side = (c.col as f32 - 200.0).abs();
        let ground = 600.0 - c.row as f32 * 0.5 + side * 0.4;
        if (150..=152).contains(&c.row) { ground.max(529.0) } else { ground }
    })
}

/// The stream of the dammed valley, from north to south.
pub const STREAM: [[f64; 2]; 2] = [[502_005.0, 4_759_900.0], [502_005.0, 4_757_100.0]];
