//! Thresholds to begin with: a share of the largest contributing area, and those that the analyst keeps for all studies.

use bothros_core::{Area, Frame, Threshold};
use bothros_store::KeptThreshold;

use crate::ui::quantity;

/// A threshold to begin with, and why.
pub(crate) struct Start {
    pub name: String,
    pub why: String,
    pub cells: u32,
    /// the same as area and as cells of this DEM
    pub is: String,
    /// its number, where it was kept and can be forgotten
    pub kept: Option<i64>,
    /// whether it leaves a stream
    pub fits: bool,
}

/// A share of the largest contributing area for a first look, then those that were kept.
pub(crate) fn starting_points(frame: &Frame, largest_cells: u32, kept: Vec<KeptThreshold>) -> Vec<Start> {
    let start = |name: String, why: String, cells: u32, kept| {
        let area = quantity::area(Threshold::cells(cells).as_area(frame).as_m2());
        let is = format!("{area}, {} cells", quantity::whole(cells));
        Start { name, why, cells, is, kept, fits: cells <= largest_cells }
    };
    let share = ("1 % of the largest".to_owned(), "a first look".to_owned());
    let first = start(share.0, share.1, (largest_cells / 100).max(1), None);
    let own = kept.into_iter().map(|k| {
        let cells = Threshold::from_area(Area::m2(k.area_m2), frame).as_cells();
        start(k.name, k.reason, cells, Some(k.id))
    });
    std::iter::once(first).chain(own).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept(id: i64, name: &str, area_m2: f64) -> KeptThreshold {
        let reason = "the water board’s guideline".to_owned();
        KeptThreshold { id, name: name.into(), reason, area_m2, created_at: Default::default() }
    }

    #[test]
    fn each_is_converted_for_the_cell_size() {
        let frame = |cell_size, unit_m| Frame { rows: 9, cols: 9, left: 0.0, top: 0.0, cell_size, unit_m };
        let told = starting_points(&frame(30.0, 1.0), 200_000, vec![kept(7, "region", 4.5e6)]);
        assert_eq!((told[0].cells, told[0].is.as_str()), (2000, "1.80 km², 2\u{202F}000 cells"));
        // 4.5 km² are 5,000 cells of 30 m.
        assert_eq!((told[1].cells, told[1].is.as_str()), (5000, "4.50 km², 5\u{202F}000 cells"));
        assert_eq!((told[1].kept, told[1].fits), (Some(7), true));
        // A CRS in feet: cells of 3.28 ft are 1 m wide.
        let gullies = || vec![kept(8, "gullies", 100.0)];
        assert_eq!(starting_points(&frame(1.0 / 0.3048, 0.3048), 50_000, gullies())[1].cells, 100);
        // What leaves no stream is shown, and cannot be set.
        assert!(!starting_points(&frame(1.0, 1.0), 99, gullies())[1].fits);
        assert_eq!(starting_points(&frame(1.0, 1.0), 1, Vec::new())[0].cells, 1);
    }
}
