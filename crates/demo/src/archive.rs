//! The files of the simulated elevation archive: the demo region in both resolutions, in sheets.

use std::path::{Path, PathBuf};

use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::{Crs, Transform, write_cog, write_geographic_cog};

use serde::{Deserialize, Serialize};

use crate::files::regional;
use crate::scenario::{FRAME, Scenario};

/// A sheet of elevations on disk.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sheet {
    /// which of the sets it belongs to
    pub set: String,
    /// its name
    pub name: String,
    /// the file
    pub path: PathBuf,
    /// west, south, east, north in degrees
    pub extent: [f64; 4],
    /// rows and columns
    pub shape: [usize; 2],
    /// left, width of a cell, rotation, top, rotation, height of a cell (negative)
    pub geo_transform: [f64; 6],
    /// EPSG code of its CRS
    pub epsg: u32,
}

/// The set of the fine survey.
pub const FINE: &str = "bare_earth_4m";
/// The set of the whole region.
pub const COARSE: &str = "region_1_arc_second";

/// The list of sheets; its name changes when they do.
const LIST: &str = "sheets_1.json";
/// Sheets of the fine survey along each side.
const FINE_SHEETS: (usize, usize) = (2, 2);
const COARSE_SHEETS: (usize, usize) = (1, 2);

/// First and one past the last of `count` cells in part `at` of `parts`.
fn part(count: usize, parts: usize, at: usize) -> (usize, usize) {
    (count * at / parts, count * (at + 1) / parts)
}

/// Writes the sheets into `dir`.
///
/// # Errors
/// Where a file cannot be written.
pub fn write_sheets(scenario: &Scenario, dir: &Path) -> anyhow::Result<Vec<Sheet>> {
    let utm = Crs::parse("EPSG:32628")?;
    let wgs84 = Crs::parse("EPSG:4326")?;
    let to_wgs84 = Transform::new(&utm, &wgs84)?;
    let mut sheets = Vec::new();
    std::fs::create_dir_all(dir)?;
    let (down, along) = FINE_SHEETS;
    for i in 0..down {
        for j in 0..along {
            let ((r0, r1), (c0, c1)) = (part(FRAME.rows, down, i), part(FRAME.cols, along, j));
            let frame: Frame = FRAME.window(r0, c0, r1 - r0, c1 - c0);
            let values: Grid<f32> = scenario.dem.window(r0, c0, r1 - r0, c1 - c0);
            let name = format!("sheet_{}{}", ["north", "south"][i], ["west", "east"][j]);
            let path = dir.join(format!("{name}.tif"));
            let content = "ground elevation, metres";
            write_cog(&path, &values, &frame, &utm, f32::NAN, Coarser::Mean, content, "m")?;
            let [west, south, east, north] = frame.extent();
            let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
            for (x, y) in [(west, south), (west, north), (east, south), (east, north)] {
                let (lon, lat) = to_wgs84.point(x, y)?;
                extent = [extent[0].min(lon), extent[1].min(lat), extent[2].max(lon), extent[3].max(lat)];
            }
            let geo_transform = [frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size];
            let shape = [frame.rows, frame.cols];
            sheets.push(Sheet { set: FINE.into(), name, path, extent, shape, geo_transform, epsg: 32628 });
        }
    }
    let (values, [left, width, _, top, _, height]) = regional(scenario)?;
    let (down, along) = COARSE_SHEETS;
    for i in 0..down {
        for j in 0..along {
            let ((r0, r1), (c0, c1)) = (part(values.rows(), down, i), part(values.cols(), along, j));
            let window = values.window(r0, c0, r1 - r0, c1 - c0);
            let at = [left + c0 as f64 * width, width, 0.0, top + r0 as f64 * height, 0.0, height];
            let name = format!("region_{}", ["west", "east"][j]);
            let path = dir.join(format!("{name}.tif"));
            write_geographic_cog(&path, &window, at, &wgs84)?;
            let (right, bottom) = (left + c1 as f64 * width, top + r1 as f64 * height);
            sheets.push(Sheet {
                set: COARSE.into(),
                name,
                path,
                extent: [at[0], bottom, right, at[3]],
                shape: [r1 - r0, c1 - c0],
                geo_transform: at,
                epsg: 4326,
            });
        }
    }
    // Last, so that it is there only where all the rest is.
    std::fs::write(dir.join(LIST), serde_json::to_vec(&sheets)?)?;
    Ok(sheets)
}

/// The sheets as they were written before; `None` where they are not all there.
pub fn read_sheets(dir: &Path) -> Option<Vec<Sheet>> {
    let sheets: Vec<Sheet> = serde_json::from_slice(&std::fs::read(dir.join(LIST)).ok()?).ok()?;
    sheets.iter().all(|s| s.path.exists()).then_some(sheets)
}

/// Cell spacing of a collection on the ground, metres.
pub fn resolution_m(set: &str) -> f64 {
    if set == FINE { FRAME.cell_size } else { 30.0 }
}
