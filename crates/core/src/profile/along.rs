//! The ground along a line, before and after it is lowered.

use serde::Serialize;

use crate::conditioning::{Line, lower_along};
use crate::{Cell, Connection, Frame, Grid, cells_along};

/// The ground along a line.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Profile {
    /// distance from the line's first point, metres
    pub distance_m: Vec<f64>,
    /// elevation before, metres; nothing where there is none
    pub before_m: Vec<Option<f32>>,
    /// elevation once the ground is lowered along the line, metres
    pub after_m: Vec<Option<f32>>,
}

/// The ground along a line before and after it is lowered, with so many metres more at both ends.
pub fn profile_along(dem: &Grid<f32>, frame: &Frame, line: &Line, more_m: f64) -> Profile {
    let (cut, _) = lower_along(dem, frame, std::slice::from_ref(line));
    let mut longer = line.clone();
    if let [a, b, ..] = line[..] {
        longer.insert(0, beyond(b, a, more_m / frame.unit_m));
    }
    if let [.., a, b] = line[..] {
        longer.push(beyond(a, b, more_m / frame.unit_m));
    }
    let cells = cells_along(&longer, frame, Connection::Eight);
    let known = |grid: &Grid<f32>| -> Vec<Option<f32>> {
        cells.iter().map(|&cell| grid.get(cell).copied().filter(|z| !z.is_nan())).collect()
    };
    Profile { distance_m: distances_along(&cells, frame), before_m: known(dem), after_m: known(&cut) }
}

/// The distance of each cell of a path from its first, metres: from centre to centre.
pub fn distances_along(cells: &[Cell], frame: &Frame) -> Vec<f64> {
    let step = |pair: &[Cell]| {
        let diagonal = pair[0].row != pair[1].row && pair[0].col != pair[1].col;
        frame.cell_m() * if diagonal { std::f64::consts::SQRT_2 } else { 1.0 }
    };
    let mut along = 0.0;
    let after = cells.windows(2).map(|pair| {
        along += step(pair);
        along
    });
    cells.first().map(|_| 0.0).into_iter().chain(after).collect()
}

/// A place along a line.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Station {
    /// distance from the line's first point along it, metres
    pub distance_m: f64,
    /// the cell that it lies in; nothing outside the grid
    pub cell: Option<Cell>,
}

/// Places along a line from its first point to its last, every cell edge apart and at each of its corners; farther apart on a
/// line so long that there would be more than `most`. The last distance is the length of the line.
///
/// ```
/// use bothros_core::{Frame, profile::stations_along};
/// let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };
/// let all = stations_along(&[[5.0, 85.0], [30.0, 85.0]], &frame, 1000);
/// let distances: Vec<f64> = all.iter().map(|s| s.distance_m).collect();
/// assert_eq!(distances, [0.0, 10.0, 20.0, 25.0]);
/// ```
pub fn stations_along(line: &[[f64; 2]], frame: &Frame, most: usize) -> Vec<Station> {
    let lengths = line.windows(2).map(|w| (w[1][0] - w[0][0]).hypot(w[1][1] - w[0][1]));
    let total: f64 = lengths.clone().sum();
    let step = frame.cell_size.max(total / most.max(1) as f64);
    let place = |distance: f64, x: f64, y: f64| Station {
        distance_m: distance * frame.unit_m,
        cell: frame.cell_at(x, y),
    };
    let mut out: Vec<Station> = line.first().map(|p| place(0.0, p[0], p[1])).into_iter().collect();
    let mut before = 0.0;
    for (corners, length) in line.windows(2).zip(lengths) {
        let [[x0, y0], [x1, y1]] = [corners[0], corners[1]];
        // From the corner on, so that it is always one of them.
        for n in 1..(length / step).ceil() as usize {
            let share = n as f64 * step / length;
            out.push(place(before + n as f64 * step, x0 + (x1 - x0) * share, y0 + (y1 - y0) * share));
        }
        before += length;
        if length > 0.0 {
            out.push(place(before, x1, y1));
        }
    }
    out
}

/// The point that lies so far beyond `b` as seen from `a`.
fn beyond(a: [f64; 2], b: [f64; 2], far: f64) -> [f64; 2] {
    let length = (b[0] - a[0]).hypot(b[1] - a[1]).max(1e-9);
    [b[0] + (b[0] - a[0]) / length * far, b[1] + (b[1] - a[1]) / length * far]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_profile_shows_the_cut_and_what_lies_beside_it() {
        let dem = Grid::from_fn(3, 9, |c| if c.col == 4 { 9.0 } else { 5.0 - 0.1 * c.col as f32 });
        let frame = Frame { rows: 3, cols: 9, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };
        let profile = profile_along(&dem, &frame, &vec![[35.0, 15.0], [55.0, 15.0]], 20.0);
        assert_eq!(profile.distance_m, [0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0]);
        assert_eq!(profile.before_m[3], Some(9.0));
        assert!(profile.after_m[3].unwrap() < 4.7 && profile.after_m[0] == profile.before_m[0]);
    }

    #[test]
    fn stations_reach_from_end_to_end_and_leave_out_no_corner() {
        let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 2.0 };
        let line = [[-5.0, 85.0], [18.0, 85.0], [18.0, 85.0], [18.0, 61.0]];
        let all = stations_along(&line, &frame, 1000);
        assert_eq!(all[0], Station { distance_m: 0.0, cell: None });
        // The length in metres, of units of two: 23 and 24.
        assert_eq!(all.last().unwrap(), &Station { distance_m: 94.0, cell: Some(Cell { row: 2, col: 1 }) });
        assert!(all.iter().any(|s| s.distance_m == 46.0), "the corner");
        assert!(
            all.windows(2)
                .all(|w| w[0].distance_m < w[1].distance_m && w[1].distance_m - w[0].distance_m <= 20.0)
        );
        // A long one has no more than asked for, but for its corners.
        assert!(stations_along(&[[0.0, 0.0], [1e9, 0.0]], &frame, 500).len() <= 502);
        assert!(stations_along(&[], &frame, 500).is_empty());
    }

    #[test]
    fn a_diagonal_step_is_longer() {
        let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };
        let path = [(0, 0), (0, 1), (1, 2), (2, 2)].map(|(row, col)| Cell { row, col });
        let root = 200f64.sqrt();
        assert_eq!(distances_along(&path, &frame), [0.0, 10.0, 10.0 + root, 20.0 + root]);
        assert_eq!(distances_along(&path[..1], &frame), [0.0]);
        assert!(distances_along(&[], &frame).is_empty());
    }
}
