//! Cross-sections of the ground at right angles to flowpaths.

use super::Flowpath;
use crate::routing::step;
use crate::{Frame, Grid};

/// Cells on either side of a station that the direction of a flowpath is taken from.
const AROUND: usize = 3;

/// A cross-section of a flowpath.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// the flowpath
    pub flowpath: u32,
    /// its distance from the upper end along the flowpath, metres
    pub at_m: f64,
    /// its points from left to right, as one looks downstream
    pub points: Vec<SectionPoint>,
}

/// A point of a cross-section.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SectionPoint {
    /// distance from the flowpath, metres; negative to the left
    pub offset_m: f64,
    /// where it is, map coordinates
    pub place: [f64; 2],
    /// elevation of the ground, metres
    pub elevation_m: f64,
}

/// The ground at a place, between the centres of the cells around it (bilinear); none beyond the outermost centres or beside nodata.
fn ground_at(dem: &Grid<f32>, frame: &Frame, [x, y]: [f64; 2]) -> Option<f64> {
    let (col, row) = ((x - frame.left) / frame.cell_size - 0.5, (frame.top - y) / frame.cell_size - 0.5);
    if !(col >= 0.0 && row >= 0.0 && col <= (frame.cols - 1) as f64 && row <= (frame.rows - 1) as f64) {
        return None;
    }
    let (c, r) = (col.floor() as usize, row.floor() as usize);
    let (u, v) = (col - c as f64, row - r as f64);
    let z = |r: usize, c: usize| {
        f64::from(dem.values()[r.min(frame.rows - 1) * frame.cols + c.min(frame.cols - 1)])
    };
    let top = z(r, c) * (1.0 - u) + z(r, c + 1) * u;
    let bottom = z(r + 1, c) * (1.0 - u) + z(r + 1, c + 1) * u;
    Some(top * (1.0 - v) + bottom * v).filter(|z| z.is_finite())
}

/// Cross-sections of a flowpath: the first half a spacing from its upper end, then one each `spacing_m` metres, at least one; each reaches
/// `half_width_m` metres to either side, with a point for each cell size. Where the ground is not known, points are left out; a section
/// with fewer than three is left out. `dem` holds elevations, metres, at `frame`; `directions` those of the flowpath. All three have one
/// shape. Without a spacing or a width above 0 there is none.
///
/// # Source
/// Common practice: lines at right angles to the direction of the flowpath around a station, with bilinear elevations.
///
/// ```
/// use bothros_core::scheme::{Flowpath, sections};
/// use bothros_core::{Frame, Grid};
/// // Water runs eastwards along the middle row of a valley whose sides rise by 1 m a cell.
/// let frame = Frame { rows: 5, cols: 9, left: 0.0, top: 50.0, cell_size: 10.0, unit_m: 1.0 };
/// let dem = Grid::from_fn(5, 9, |c| (c.row as f32 - 2.0).abs());
/// let directions = Grid::from_fn(5, 9, |_| 1u8);
/// let flowpath = Flowpath {
///     id: 7, from: 1, to: 2, subbasin: 1, cells: (18..27).collect(), length_m: 80.0, drop_m: 0.0,
/// };
/// let found = sections(&flowpath, &dem, &directions, &frame, 40.0, 20.0);
/// assert_eq!(found.iter().map(|s| s.at_m).collect::<Vec<_>>(), [20.0, 60.0]);
/// let heights: Vec<f64> = found[0].points.iter().map(|p| p.elevation_m).collect();
/// assert_eq!(heights, [2.0, 1.0, 0.0, 1.0, 2.0]);
/// // Left of one who looks east is north.
/// assert_eq!((found[0].points[0].offset_m, found[0].points[0].place), (-20.0, [25.0, 45.0]));
/// ```
pub fn sections(
    flowpath: &Flowpath,
    dem: &Grid<f32>,
    directions: &Grid<u8>,
    frame: &Frame,
    spacing_m: f64,
    half_width_m: f64,
) -> Vec<Section> {
    let cells = &flowpath.cells;
    if cells.len() < 2 || !(spacing_m > 0.0 && half_width_m > 0.0) {
        return Vec::new();
    }
    let mut along = vec![0.0; cells.len()];
    for at in 1..cells.len() {
        along[at] = along[at - 1] + step(directions, cells[at - 1] as usize) * frame.cell_m();
    }
    let length = along[cells.len() - 1];
    let count = ((length / spacing_m).round() as usize).max(1);
    let apart = if length < spacing_m { length } else { spacing_m };
    let steps = (half_width_m / frame.cell_m()).floor().max(1.0) as i64;
    let centre = |at: usize| <[f64; 2]>::from(frame.centre(dem.cell(cells[at] as usize)));
    let section = |number: usize| {
        let wanted = apart * (number as f64 + 0.5);
        let at = along.partition_point(|&d| d < wanted - 1e-9).min(cells.len() - 1);
        let (above, below) = (centre(at.saturating_sub(AROUND)), centre((at + AROUND).min(cells.len() - 1)));
        let (dx, dy) = (below[0] - above[0], below[1] - above[1]);
        let long = dx.hypot(dy);
        // A flowpath that comes back to where it was has no direction there.
        if long == 0.0 {
            return None;
        }
        let left = [-dy / long, dx / long];
        let middle = centre(at);
        let points: Vec<SectionPoint> = (-steps..=steps)
            .filter_map(|n| {
                let offset = n as f64 * frame.cell_size;
                let place = [middle[0] - left[0] * offset, middle[1] - left[1] * offset];
                let elevation_m = ground_at(dem, frame, place)?;
                Some(SectionPoint { offset_m: offset * frame.unit_m, place, elevation_m })
            })
            .collect();
        (points.len() >= 3).then(|| Section { flowpath: flowpath.id, at_m: along[at], points })
    };
    (0..count).filter_map(section).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(rows: usize, cols: usize) -> Frame {
        Frame { rows, cols, left: 100.0, top: 900.0, cell_size: 5.0, unit_m: 1.0 }
    }

    fn path(cells: Vec<u32>) -> Flowpath {
        Flowpath { id: 1, from: 1, to: 2, subbasin: 1, cells, length_m: 0.0, drop_m: 0.0 }
    }

    /// On an inclined plane bilinear values are exact, whichever way the section lies.
    #[test]
    fn a_plane_is_met_exactly() {
        let frame = frame(21, 21);
        let dem = Grid::from_fn(21, 21, |c| 3.0 * c.col as f32 + 2.0 * c.row as f32);
        // South-east, by the diagonal.
        let directions = Grid::from_fn(21, 21, |_| 2u8);
        let flowpath = path((0..21).map(|n| n * 22).collect());
        let found = sections(&flowpath, &dem, &directions, &frame, 30.0, 25.0);
        // The fifth, in the corner, would lie beyond the grid.
        assert_eq!(found.len(), 4);
        for point in found.iter().flat_map(|s| &s.points) {
            let col = (point.place[0] - 100.0) / 5.0 - 0.5;
            let row = (900.0 - point.place[1]) / 5.0 - 0.5;
            assert!((point.elevation_m - (3.0 * col + 2.0 * row)).abs() < 1e-4, "{point:?}");
        }
        // Left of one who looks south-east is north-east.
        let (left, right) = (found[2].points[0], found[2].points[found[2].points.len() - 1]);
        assert!(left.place[0] > right.place[0] && left.place[1] > right.place[1]);
        assert!(left.offset_m < 0.0 && (left.offset_m + right.offset_m).abs() < 1e-9);
    }

    #[test]
    fn what_is_not_known_is_left_out() {
        let frame = frame(5, 9);
        let dem = Grid::from_fn(5, 9, |c| if c.row == 0 { f32::NAN } else { 1.0 });
        let directions = Grid::from_fn(5, 9, |_| 1u8);
        let found = sections(&path((18..27).collect()), &dem, &directions, &frame, 20.0, 500.0);
        assert!(!found.is_empty());
        // Row 1 is above the flowpath's; nothing is known north of it, nor beyond the grid.
        assert!(found.iter().all(|s| s.points.iter().map(|p| p.offset_m).eq([-5.0, 0.0, 5.0, 10.0])));
        let nothing = Grid::from_fn(5, 9, |_| f32::NAN);
        assert!(sections(&path((18..27).collect()), &nothing, &directions, &frame, 20.0, 50.0).is_empty());
        assert!(sections(&path(vec![18]), &dem, &directions, &frame, 20.0, 50.0).is_empty());
    }

    /// A short flowpath has one in its middle.
    #[test]
    fn a_short_flowpath_has_one() {
        let frame = frame(5, 9);
        let dem = Grid::filled(5, 9, 1.0);
        let directions = Grid::from_fn(5, 9, |_| 1u8);
        let found = sections(&path((18..23).collect()), &dem, &directions, &frame, 1000.0, 10.0);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].at_m, 10.0);
    }
}
