//! Rebuilding the ground inside an area from elevation points, contour lines and breach lines.

use serde::{Deserialize, Serialize};

use super::{Line, Polygons};
use crate::monitor::check;
use crate::{Cell, Connection, Frame, Grid, Monitor, Result, cells_along, cells_within};

/// How much of the original ground inside the area is retained.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "keep")]
pub enum OwnGround {
    /// none: only the given elevations count
    #[default]
    Nothing,
    /// every nth cell of every nth row
    Cells {
        /// n, at least 1
        every: usize,
    },
    /// cells where its own contours at this interval pass
    Contours {
        /// metres
        interval_m: f64,
    },
}

/// An area to be rebuilt, and from what.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Rebuild {
    /// the area, CRS units
    pub area: Polygons,
    /// elevation points: x, y (CRS units), elevation (metres)
    pub points: Vec<[f64; 3]>,
    /// contour lines with their elevations, metres
    pub contours: Vec<(f64, Line)>,
    /// lines along which the new ground falls evenly, from upstream to downstream
    pub breach_lines: Vec<Line>,
    /// how much of the original ground is retained
    pub own: OwnGround,
    /// from 0 (a bent plate: smooth, may swing beyond the data) to 1 (a skin: never beyond the data, sharp
    /// at points)
    pub tension: f64,
    /// width of a zone inside the area's edge in which the new ground takes the place of the old little by
    /// little, metres
    pub blend_m: f64,
}

/// The lines that belong to an area: of which a point lies in the box around it.
pub fn lines_near(area: &Polygons, lines: &[Line]) -> Vec<Line> {
    let corners = || area.iter().flatten().flatten();
    let bound =
        |axis: usize, sign: f64| corners().map(|p| p[axis] * sign).fold(f64::NEG_INFINITY, f64::max) * sign;
    let (west, east, south, north) = (bound(0, -1.0), bound(0, 1.0), bound(1, -1.0), bound(1, 1.0));
    let near =
        |line: &&Line| line.iter().any(|p| (west..=east).contains(&p[0]) && (south..=north).contains(&p[1]));
    lines.iter().filter(near).cloned().collect()
}

/// What rebuilding did.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Rebuilt {
    /// cells of the area that have an elevation now
    pub cells: u64,
    /// cells whose elevation was given
    pub data_cells: u64,
    /// breach lines, by number from 0, that run uphill between the elevations of their ends, and were not
    /// followed
    pub uphill: Vec<usize>,
    /// the largest change in the last step of the solver, metres
    pub rest_m: f64,
}

/// Rebuilds the ground inside an area: a surface of least curvature under tension that goes through all
/// data and meets the ground around the area without a step or a kink. `dem` is elevation in metres at
/// `frame`.
///
/// Data are the mean of all points and contours in a cell. Along a breach line the ground falls evenly
/// between the elevations of its ends: data where there are some, else those of the DEM. Cells outside the
/// area are not changed, voids inside it are filled. An area in which nothing is given is stretched between
/// its edges.
///
/// # Errors
/// [`Error::Cancelled`](crate::Error::Cancelled).
///
/// # Source
/// Continuous curvature splines in tension: Smith and Wessel 1990, Geophysics 55, 293-305; on cells, with
/// the DEM around as the boundary, solved by conjugate gradients (textbook). Falling along lines: after the
/// idea of Hutchinson 1989, Journal of Hydrology 106, 211-232; the rule here is ours.
///
/// ```
/// use bothros_core::{Frame, Grid, Silent, conditioning::{rebuild, Rebuild}};
/// let frame = Frame { rows: 30, cols: 30, left: 0.0, top: 30.0, cell_size: 1.0, unit_m: 1.0 };
/// // A slope with a bank across it.
/// let slope = |c: bothros_core::Cell| 50.0 - 0.5 * c.col as f32;
/// let dem = Grid::from_fn(30, 30, |c| if (12..15).contains(&c.col) { 60.0 } else { slope(c) });
/// let area = vec![vec![vec![[11.0, 5.0], [16.0, 5.0], [16.0, 25.0], [11.0, 25.0], [11.0, 5.0]]]];
/// let (ground, told) = rebuild(&dem, &frame, &Rebuild { area, ..Default::default() }, &Silent)?;
/// assert_eq!(told.cells, 5 * 20);
/// assert!((ground.values()[15 * 30 + 13] - slope(dem.cell(15 * 30 + 13))).abs() < 0.6);
/// # Ok::<(), bothros_core::Error>(())
/// ```
pub fn rebuild(
    dem: &Grid<f32>,
    frame: &Frame,
    what: &Rebuild,
    monitor: &dyn Monitor,
) -> Result<(Grid<f32>, Rebuilt)> {
    let area = cells_within(&what.area, frame);
    let mut told = Rebuilt { cells: area.len() as u64, ..Default::default() };
    let Some(mut sheet) = Sheet::around(dem, &area) else { return Ok((dem.clone(), told)) };
    let data = gather(dem, frame, what, &mut told);
    for (&cell, &z) in &data {
        if let Some(at) = sheet.place(cell).filter(|&at| sheet.state[at] == State::Free) {
            sheet.state[at] = State::Data;
            sheet.z[at] = z;
            told.data_cells += 1;
        }
    }
    told.rest_m = sheet.solve(what.tension.clamp(0.0, 1.0), monitor)?;
    let mut ground = dem.clone();
    let blend = what.blend_m / frame.cell_m();
    let far = if blend > 1.0 { sheet.steps_from_edge() } else { Vec::new() };
    for &cell in &area {
        let Some(at) = sheet.place(cell) else { continue };
        let index = dem.index(cell);
        let (old, new) = (dem.values()[index] as f64, sheet.z[at]);
        let share = match far.get(at) {
            Some(&steps) if !old.is_nan() && sheet.state[at] == State::Free => {
                (steps as f64 / blend).min(1.0)
            }
            _ => 1.0,
        };
        let z = if old.is_nan() || share == 1.0 { new } else { share * new + (1.0 - share) * old };
        if !z.is_nan() {
            ground.values_mut()[index] = z as f32;
        }
    }
    Ok((ground, told))
}

/// Elevations that are given, by cell.
fn gather(
    dem: &Grid<f32>,
    frame: &Frame,
    what: &Rebuild,
    told: &mut Rebuilt,
) -> std::collections::BTreeMap<Cell, f64> {
    let mut sums = std::collections::BTreeMap::<Cell, (f64, f64)>::new();
    let mut add = |cell: Cell, z: f64| {
        let sum = sums.entry(cell).or_default();
        *sum = (sum.0 + z, sum.1 + 1.0);
    };
    for &[x, y, z] in &what.points {
        if let Some(cell) = frame.cell_at(x, y) {
            add(cell, z);
        }
    }
    for (z, line) in &what.contours {
        for cell in cells_along(line, frame, Connection::Eight) {
            add(cell, *z);
        }
    }
    let inside = cells_within(&what.area, frame);
    match what.own {
        OwnGround::Nothing => {}
        OwnGround::Cells { every } => {
            let every = every.max(1);
            for &cell in inside.iter().filter(|c| c.row % every == 0 && c.col % every == 0) {
                let z = dem.values()[dem.index(cell)];
                if !z.is_nan() {
                    add(cell, z as f64);
                }
            }
        }
        OwnGround::Contours { interval_m } => {
            // A contour passes where the ground crosses its level on the way to the next cell east or south.
            let level = |z: f32| (z as f64 / interval_m).floor();
            for &cell in &inside {
                let z = dem.values()[dem.index(cell)];
                for next in [Cell { col: cell.col + 1, ..cell }, Cell { row: cell.row + 1, ..cell }] {
                    let other = dem.get(next).copied().unwrap_or(f32::NAN);
                    if !z.is_nan() && !other.is_nan() && level(z) != level(other) {
                        add(cell, z as f64);
                        break;
                    }
                }
            }
        }
    }
    let mut data: std::collections::BTreeMap<Cell, f64> =
        sums.into_iter().map(|(cell, (sum, count))| (cell, sum / count)).collect();
    for (number, line) in what.breach_lines.iter().enumerate() {
        let path = cells_along(line, frame, Connection::Eight);
        let end = |cell: Option<&Cell>| -> Option<f64> {
            let cell = *cell?;
            data.get(&cell).copied().or(Some(dem.values()[dem.index(cell)] as f64).filter(|z| !z.is_nan()))
        };
        let (Some(from), Some(to)) = (end(path.first()), end(path.last())) else { continue };
        if to > from {
            told.uphill.push(number);
            continue;
        }
        let step = |pair: &[Cell]| {
            (pair[0].row as f64 - pair[1].row as f64).hypot(pair[0].col as f64 - pair[1].col as f64)
        };
        let whole: f64 = path.windows(2).map(step).sum::<f64>().max(1e-9);
        let mut along = 0.0;
        for (i, &cell) in path.iter().enumerate() {
            if i > 0 {
                along += step(&path[i - 1..=i]);
            }
            data.insert(cell, from + (to - from) * along / whole);
        }
    }
    data
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// has no elevation and gets none
    Nothing,
    /// keeps the elevation that it has
    Fixed,
    /// its elevation is given
    Data,
    /// its elevation is sought
    Free,
}

/// The area and some cells around it.
struct Sheet {
    top: usize,
    left: usize,
    rows: usize,
    cols: usize,
    z: Vec<f64>,
    state: Vec<State>,
}

/// Cells around the area that the surface must fit.
const RIM: usize = 3;

impl Sheet {
    fn around(dem: &Grid<f32>, area: &[Cell]) -> Option<Self> {
        let (first, last) = (area.first()?, area.last()?);
        let (west, east) = (area.iter().map(|c| c.col).min()?, area.iter().map(|c| c.col).max()?);
        let (top, left) = (first.row.saturating_sub(RIM), west.saturating_sub(RIM));
        let rows = (last.row + RIM + 1).min(dem.rows()) - top;
        let cols = (east + RIM + 1).min(dem.cols()) - left;
        let window = dem.window(top, left, rows, cols);
        let z: Vec<f64> = window.values().iter().map(|&z| z as f64).collect();
        let state = z.iter().map(|z| if z.is_nan() { State::Nothing } else { State::Fixed }).collect();
        let mut sheet = Self { top, left, rows, cols, z, state };
        for &cell in area {
            if let Some(at) = sheet.place(cell) {
                sheet.state[at] = State::Free;
            }
        }
        Some(sheet)
    }

    fn place(&self, cell: Cell) -> Option<usize> {
        let (row, col) = (cell.row.checked_sub(self.top)?, cell.col.checked_sub(self.left)?);
        (row < self.rows && col < self.cols).then_some(row * self.cols + col)
    }

    /// The four neighbours of a cell that have, or get, an elevation.
    fn beside(&self, at: usize) -> impl Iterator<Item = usize> + '_ {
        let (row, col) = (at / self.cols, at % self.cols);
        let places = [
            (row > 0).then(|| at - self.cols),
            (row + 1 < self.rows).then_some(at + self.cols),
            (col > 0).then(|| at - 1),
            (col + 1 < self.cols).then_some(at + 1),
        ];
        places.into_iter().flatten().filter(|&n| self.state[n] != State::Nothing)
    }

    /// Curvature under tension of `z`, at every cell: (1 - t) times the Laplacian's Laplacian plus t times
    /// the Laplacian.
    fn bend(&self, z: &[f64], tension: f64, laplacian: &mut [f64], out: &mut [f64]) {
        for at in 0..z.len() {
            laplacian[at] = match self.state[at] {
                State::Nothing => 0.0,
                _ => self.beside(at).map(|n| z[at] - z[n]).sum(),
            };
        }
        for at in 0..z.len() {
            out[at] = match self.state[at] {
                State::Free => {
                    let twice: f64 = self.beside(at).map(|n| laplacian[at] - laplacian[n]).sum();
                    (1.0 - tension) * twice + tension * laplacian[at]
                }
                _ => 0.0,
            };
        }
    }

    /// Finds the free elevations; answers with the largest change of the last step, metres.
    fn solve(&mut self, tension: f64, monitor: &dyn Monitor) -> Result<f64> {
        let known: Vec<f64> = (0..self.z.len())
            .filter(|&i| matches!(self.state[i], State::Fixed | State::Data))
            .map(|i| self.z[i])
            .collect();
        if known.is_empty() {
            return Ok(0.0);
        }
        let mean = known.iter().sum::<f64>() / known.len() as f64;
        for at in 0..self.z.len() {
            match self.state[at] {
                State::Free if self.z[at].is_nan() => self.z[at] = mean,
                State::Nothing => self.z[at] = 0.0,
                _ => {}
            }
        }
        let size = self.z.len();
        let (mut laplacian, mut product) = (vec![0.0; size], vec![0.0; size]);
        // A little of the skin keeps ground that hangs by one edge from tilting without end.
        let tension = tension.max(1e-6);
        self.bend(&self.z, tension, &mut laplacian, &mut product);
        let mut rest: Vec<f64> = product.iter().map(|v| -v).collect();
        let mut direction = rest.clone();
        let dot = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
        let mut power = dot(&rest, &rest);
        let most = 500 + 60 * self.rows.max(self.cols);
        let mut last = 0.0;
        for turn in 0..most {
            if turn % 16 == 0 {
                check(monitor)?;
                monitor.progress(turn as f64 / most as f64);
            }
            if power < 1e-18 * size as f64 {
                break;
            }
            self.bend(&direction, tension, &mut laplacian, &mut product);
            let step = power / dot(&direction, &product);
            if !step.is_finite() {
                break;
            }
            last = 0.0;
            for at in 0..size {
                let change = step * direction[at];
                self.z[at] += change;
                rest[at] -= step * product[at];
                last = f64::max(last, change.abs());
            }
            let next = dot(&rest, &rest);
            let turned = next / power;
            power = next;
            for at in 0..size {
                direction[at] = rest[at] + turned * direction[at];
            }
        }
        for at in 0..size {
            if self.state[at] == State::Nothing {
                self.z[at] = f64::NAN;
            }
        }
        monitor.progress(1.0);
        Ok(last)
    }

    /// Steps over edges from the ground outside to each cell of the area.
    fn steps_from_edge(&self) -> Vec<u32> {
        let inside = |at: usize| matches!(self.state[at], State::Free | State::Data);
        let mut steps = vec![u32::MAX; self.z.len()];
        let mut open: std::collections::VecDeque<usize> =
            (0..self.z.len()).filter(|&at| self.state[at] == State::Fixed).collect();
        for &at in &open {
            steps[at] = 0;
        }
        while let Some(at) = open.pop_front() {
            for n in self.beside(at).filter(|&n| inside(n)).collect::<Vec<_>>() {
                if steps[n] == u32::MAX {
                    steps[n] = steps[at] + 1;
                    open.push_back(n);
                }
            }
        }
        steps
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Silent;

    const FRAME: Frame = Frame { rows: 60, cols: 60, left: 0.0, top: 60.0, cell_size: 1.0, unit_m: 1.0 };

    fn square(from: f64, to: f64) -> Polygons {
        vec![vec![vec![[from, from], [to, from], [to, to], [from, to], [from, from]]]]
    }

    /// A bent plate goes through any surface whose curvature is constant: its fourth derivatives are nothing.
    #[test]
    fn a_paraboloid_is_its_own_surface_of_least_curvature() {
        let bowl = |c: Cell| {
            let (x, y) = (c.col as f64 - 30.0, c.row as f64 - 30.0);
            (0.02 * x * x + 0.03 * y * y - 0.01 * x * y + 0.3 * x) as f32
        };
        let truth = Grid::from_fn(60, 60, bowl);
        let mut dem = truth.clone();
        for row in 15..45 {
            for col in 15..45 {
                dem.values_mut()[row * 60 + col] = f32::NAN;
            }
        }
        let what = Rebuild { area: square(15.0, 45.0), ..Default::default() };
        let (ground, told) = rebuild(&dem, &FRAME, &what, &Silent).unwrap();
        assert_eq!((told.cells, told.data_cells), (900, 0));
        for (a, b) in ground.values().iter().zip(truth.values()) {
            assert!((a - b).abs() < 0.05, "{a} against {b}");
        }
    }

    #[test]
    fn data_are_kept_and_the_ground_outside_is_not_touched() {
        let dem = Grid::from_fn(60, 60, |c| 100.0 - c.row as f32);
        let what = Rebuild {
            area: square(10.0, 50.0),
            points: vec![[20.5, 20.5, 70.0], [20.7, 20.2, 72.0], [40.5, 40.5, 90.0], [500.0, 0.0, 1.0]],
            contours: vec![(75.0, vec![[12.0, 30.5], [48.0, 30.5]])],
            tension: 0.3,
            ..Default::default()
        };
        let (ground, told) = rebuild(&dem, &FRAME, &what, &Silent).unwrap();
        assert_eq!(ground.values()[39 * 60 + 20], 71.0, "the mean of two points in a cell");
        assert_eq!(ground.values()[19 * 60 + 40], 90.0);
        assert!((12..48).all(|col| ground.values()[29 * 60 + col] == 75.0));
        assert_eq!(told.data_cells, 2 + 37, "the contour ends on the edge of a cell");
        let inside = |c: Cell| (10..50).contains(&c.row) && (10..50).contains(&c.col);
        for (i, (a, b)) in ground.values().iter().zip(dem.values()).enumerate() {
            assert!(inside(dem.cell(i)) || a.to_bits() == b.to_bits());
        }
        // A skin never swings beyond the data.
        let skin = Rebuild { tension: 1.0, points: vec![[30.5, 30.5, 10.0]], contours: vec![], ..what };
        let (ground, _) = rebuild(&dem, &FRAME, &skin, &Silent).unwrap();
        assert!(ground.values().iter().all(|&z| (10.0..=100.0).contains(&z)));
    }

    #[test]
    fn ground_falls_along_breach_lines_and_uphill_ones_are_told() {
        // A bank 6 m high across a slope to the east.
        let dem = Grid::from_fn(60, 60, |c| {
            40.0 - 0.2 * c.col as f32 + if (28..32).contains(&c.col) { 6.0 } else { 0.0 }
        });
        let down: Line = vec![[22.5, 30.5], [38.5, 30.5]];
        let up: Line = vec![[38.5, 20.5], [22.5, 20.5]];
        let what = Rebuild {
            area: square(24.0, 37.0),
            breach_lines: vec![down, up],
            own: OwnGround::Cells { every: 4 },
            ..Default::default()
        };
        let (ground, told) = rebuild(&dem, &FRAME, &what, &Silent).unwrap();
        assert_eq!(told.uphill, [1]);
        let along: Vec<f32> = (22..=38).map(|col| ground.values()[29 * 60 + col]).collect();
        assert!(along.windows(2).all(|w| w[1] <= w[0] + 1e-4), "{along:?}");
    }

    #[test]
    fn the_edge_is_blended() {
        let dem = Grid::filled(60, 60, 10.0);
        let what = Rebuild {
            area: square(10.0, 50.0),
            points: vec![[30.5, 30.5, 50.0]],
            tension: 1.0,
            ..Default::default()
        };
        let (sharp, _) = rebuild(&dem, &FRAME, &what, &Silent).unwrap();
        let (soft, _) = rebuild(&dem, &FRAME, &Rebuild { blend_m: 8.0, ..what }, &Silent).unwrap();
        let at = |g: &Grid<f32>, col: usize| g.values()[30 * 60 + col];
        assert!(at(&soft, 12) < at(&sharp, 12) && at(&soft, 25) == at(&sharp, 25));
    }

    #[test]
    fn contours_of_the_own_ground_keep_its_shape() {
        let truth = Grid::from_fn(60, 60, |c| {
            let (x, y) = (c.col as f32 - 30.0, c.row as f32 - 30.0);
            80.0 - (x * x + y * y) * 0.03
        });
        let what = Rebuild {
            area: square(12.0, 48.0),
            own: OwnGround::Contours { interval_m: 2.0 },
            ..Default::default()
        };
        let (ground, told) = rebuild(&truth, &FRAME, &what, &Silent).unwrap();
        assert!(told.data_cells > 100);
        let worst =
            ground.values().iter().zip(truth.values()).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(worst < 0.6, "{worst}");
    }
}
