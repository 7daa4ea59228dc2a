//! Contours: lines of equal elevation.

use std::collections::HashMap;

use crate::{Frame, Grid};

/// A contour line.
#[derive(Debug, Clone, PartialEq)]
pub struct Contour {
    /// its elevation, metres
    pub elevation_m: f64,
    /// its points, CRS units; the last is the first where it is closed
    pub points: Vec<[f64; 2]>,
}

/// A crossing of an edge between two cell centres: row and column of the first, and whether the
/// second lies to the south.
type Edge = (u32, u32, bool);

/// Contours at multiples of `interval_m` (metres), through points interpolated between cell centres.
///
/// Squares of four centres that hold nodata are left out. Higher ground lies to the left along a
/// line. The cost grows with the cells times the levels that pass through each.
///
/// # Source
/// Marching squares (textbook); the saddle is decided by the mean of the four.
///
/// ```
/// use bothros_core::{Frame, Grid, terrain::contours};
/// let frame = Frame { rows: 3, cols: 3, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };
/// let hill = Grid::from_vec(3, 3, vec![0.0, 0.0, 0.0, 0.0, 8.0, 0.0, 0.0, 0.0, 0.0]);
/// let lines = contours(&hill, &frame, 5.0);
/// assert_eq!((lines.len(), lines[0].elevation_m, lines[0].points.len()), (1, 5.0, 5));
/// ```
pub fn contours(dem: &Grid<f32>, frame: &Frame, interval_m: f64) -> Vec<Contour> {
    let cols = dem.cols();
    // By level: segments from edge to edge.
    let mut levels: std::collections::BTreeMap<i64, Vec<(Edge, Edge)>> = Default::default();
    for row in 0..dem.rows().saturating_sub(1) {
        for col in 0..cols.saturating_sub(1) {
            let at = |r: usize, c: usize| dem.values()[(row + r) * cols + col + c] as f64;
            let (nw, ne, sw, se) = (at(0, 0), at(0, 1), at(1, 0), at(1, 1));
            let low = nw.min(ne).min(sw).min(se);
            let high = nw.max(ne).max(sw).max(se);
            if [nw, ne, sw, se].iter().any(|v| v.is_nan()) {
                continue;
            }
            let (r, c) = (row as u32, col as u32);
            let (north, west, south, east): (Edge, Edge, Edge, Edge) =
                ((r, c, false), (r, c, true), (r + 1, c, false), (r, c + 1, true));
            for level in (low / interval_m).floor() as i64 + 1..=(high / interval_m).floor() as i64 {
                let z = level as f64 * interval_m;
                let above = |v: f64| v >= z;
                let case = u8::from(above(nw))
                    | u8::from(above(ne)) << 1
                    | u8::from(above(se)) << 2
                    | u8::from(above(sw)) << 3;
                let middle = above((nw + ne + sw + se) / 4.0);
                let list = levels.entry(level).or_default();
                match (case, middle) {
                    (0 | 15, _) => {}
                    (1, _) => list.push((north, west)),
                    (2, _) => list.push((east, north)),
                    (3, _) => list.push((east, west)),
                    (4, _) => list.push((south, east)),
                    (6, _) => list.push((south, north)),
                    (7, _) => list.push((south, west)),
                    (8, _) => list.push((west, south)),
                    (9, _) => list.push((north, south)),
                    (11, _) => list.push((east, south)),
                    (12, _) => list.push((west, east)),
                    (13, _) => list.push((north, east)),
                    (14, _) => list.push((west, north)),
                    (5, true) => list.extend([(north, east), (south, west)]),
                    (5, false) => list.extend([(north, west), (south, east)]),
                    (_, true) => list.extend([(west, north), (east, south)]),
                    (_, false) => list.extend([(east, north), (west, south)]),
                }
            }
        }
    }
    let mut out = Vec::new();
    for (level, segments) in levels {
        let elevation_m = level as f64 * interval_m;
        let point = |(row, col, south): Edge| {
            let index = row as usize * cols + col as usize;
            let next = if south { index + cols } else { index + 1 };
            let (a, b) = (dem.values()[index] as f64, dem.values()[next] as f64);
            let t = if a == b { 0.5 } else { ((elevation_m - a) / (b - a)).clamp(0.0, 1.0) };
            let (dx, dy) = if south { (0.0, t) } else { (t, 0.0) };
            [
                frame.left + (col as f64 + 0.5 + dx) * frame.cell_size,
                frame.top - (row as f64 + 0.5 + dy) * frame.cell_size,
            ]
        };
        // Each edge ends one segment at most and begins one at most.
        let next: HashMap<Edge, Edge> = segments.iter().copied().collect();
        let ends: std::collections::HashSet<Edge> = segments.iter().map(|s| s.1).collect();
        let mut used: std::collections::HashSet<Edge> = Default::default();
        // Open lines first, from their beginnings; what is left is closed.
        let begins =
            segments.iter().map(|s| s.0).filter(|e| !ends.contains(e)).chain(segments.iter().map(|s| s.0));
        for begin in begins.collect::<Vec<_>>() {
            if used.contains(&begin) {
                continue;
            }
            let mut points = vec![point(begin)];
            let mut at = begin;
            while let Some(&to) = next.get(&at) {
                if !used.insert(at) {
                    break;
                }
                points.push(point(to));
                at = to;
            }
            out.push(Contour { elevation_m, points });
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: Frame = Frame { rows: 60, cols: 60, left: 0.0, top: 60.0, cell_size: 1.0, unit_m: 1.0 };

    #[test]
    fn a_cone_has_circles() {
        let cone = Grid::from_fn(60, 60, |c| {
            (30.0 - ((c.row as f64 - 29.5).powi(2) + (c.col as f64 - 29.5).powi(2)).sqrt()) as f32
        });
        let lines = contours(&cone, &FRAME, 5.0);
        let inner: Vec<_> = lines.iter().filter(|l| l.elevation_m >= 5.0).collect();
        assert_eq!(inner.len(), 5, "5, 10, 15, 20, 25");
        for line in inner {
            assert_eq!(line.points.first(), line.points.last(), "closed");
            for [x, y] in &line.points {
                let r = (x - 30.0).hypot(y - 30.0);
                assert!((r - (30.0 - line.elevation_m)).abs() < 0.15, "{r} at {}", line.elevation_m);
            }
        }
    }

    #[test]
    fn a_plane_has_straight_lines_and_nodata_breaks_them() {
        let mut plane = Grid::from_fn(60, 60, |c| c.col as f32);
        assert_eq!(contours(&plane, &FRAME, 20.0).len(), 2);
        plane.values_mut()[30 * 60 + 20] = f32::NAN;
        assert_eq!(contours(&plane, &FRAME, 20.0).len(), 3, "one line is cut in two");
    }
}
