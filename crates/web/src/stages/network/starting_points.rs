//! Thresholds to begin with where nothing else is known. (Common practice, no source.)

use bothros_core::{Area, Frame, Threshold};

use crate::ui::quantity;

/// A threshold that people begin with, and why.
pub(crate) struct Start {
    pub name: &'static str,
    pub why: &'static str,
    pub cells: u32,
    /// the same as area and as cells of this DEM
    pub is: String,
}

/// Those that fit the cell size and leave streams: each named as people name it, and converted.
pub(crate) fn starting_points(frame: &Frame, largest_cells: u32) -> Vec<Start> {
    let cell_m = frame.cell_m();
    let of = |area: Area| Threshold::from_area(area, frame).as_cells();
    let all = [
        (true, "1 % of the largest", "a first look", (largest_cells / 100).max(1)),
        (true, "1\u{202F}000 cells", "a common guess", 1000),
        (cell_m >= 20.0, "4.5 km²", "a regional network", of(Area::km2(4.5))),
        (cell_m <= 2.0, "150 cells", "every swale of a lidar DEM", 150),
        (cell_m <= 1.0, "100 m²", "where hillslopes turn to channels in gullies", of(Area::m2(100.0))),
    ];
    let fits = all.into_iter().filter(|&(fits, .., cells)| fits && cells <= largest_cells);
    fits.map(|(_, name, why, cells)| {
        let area = quantity::area(Threshold::cells(cells).as_area(frame).as_m2());
        Start { name, why, cells, is: format!("{area}, {} cells", quantity::whole(cells)) }
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(cell_size: f64, unit_m: f64, largest: u32) -> Vec<(&'static str, u32, String)> {
        let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 0.0, cell_size, unit_m };
        starting_points(&frame, largest).into_iter().map(|s| (s.name, s.cells, s.is)).collect()
    }

    #[test]
    fn each_is_converted_for_the_cell_size() {
        // 4.5 km² are 5,000 cells of 30 m, and 1,000 cells 90 ha.
        let region = told(30.0, 1.0, 200_000);
        assert_eq!(region[0], ("1 % of the largest", 2000, "1.80 km², 2\u{202F}000 cells".into()));
        assert_eq!((region[1].1, region[1].2.as_str()), (1000, "90.0 ha, 1\u{202F}000 cells"));
        assert_eq!(region[2], ("4.5 km²", 5000, "4.50 km², 5\u{202F}000 cells".into()));
        assert_eq!(region.len(), 3);
        let gully = told(1.0, 1.0, 50_000);
        let names: Vec<&str> = gully.iter().map(|s| s.0).collect();
        assert_eq!(names, ["1 % of the largest", "1\u{202F}000 cells", "150 cells", "100 m²"]);
        assert_eq!((gully[3].1, gully[3].2.as_str()), (100, "100 m², 100 cells"));
        // A CRS in feet: cells of 3.28 ft are 1 m wide.
        assert_eq!(told(1.0 / 0.3048, 0.3048, 50_000)[3].1, 100);
        // Neither a region nor lidar.
        assert_eq!(told(4.0, 1.0, 50_000).len(), 2);
    }

    #[test]
    fn what_leaves_no_stream_is_not_offered() {
        assert_eq!(told(30.0, 1.0, 700).len(), 1);
        assert_eq!(told(30.0, 1.0, 1)[0].1, 1);
    }
}
