//! Snapping: moving a pour point to the stream.

use serde::{Deserialize, Serialize};

use crate::routing::{ACCUMULATION_NODATA, DIRECTION_NODATA, downstream, upstream};
use crate::{Cell, Error, Frame, Grid, Result, Threshold};

/// Where a pour point is moved to. As text: `largest`, `nearest_stream`, `area_` with square metres.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum SnapTo {
    /// the cell with the largest contributing area
    Largest,
    /// the nearest stream cell
    NearestStream,
    /// the cell whose contributing area comes nearest to a known one, m², as of a gauge: by the ratio of the two
    KnownArea(u64),
}

const LARGEST: &str = "largest";
const NEAREST_STREAM: &str = "nearest_stream";
const KNOWN_AREA: &str = "area_";

impl From<SnapTo> for String {
    fn from(to: SnapTo) -> Self {
        match to {
            SnapTo::Largest => LARGEST.into(),
            SnapTo::NearestStream => NEAREST_STREAM.into(),
            SnapTo::KnownArea(m2) => format!("{KNOWN_AREA}{m2}"),
        }
    }
}

impl TryFrom<String> for SnapTo {
    type Error = String;

    fn try_from(text: String) -> std::result::Result<Self, String> {
        let known = || text.strip_prefix(KNOWN_AREA)?.parse().ok().filter(|&m2| m2 > 0).map(Self::KnownArea);
        match text.as_str() {
            LARGEST => Ok(Self::Largest),
            NEAREST_STREAM => Ok(Self::NearestStream),
            _ => known().ok_or_else(|| format!("points do not snap to “{text}”")),
        }
    }
}

/// The cell that a pour point at `(x, y)` (CRS units) snaps to, within `distance_m` metres
/// between the point and the cell's centre. A distance of 0 leaves it in the cell it falls in.
///
/// Equals are decided by the nearer, then by row order.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the point has no elevation under it;
/// [`Error::NoStreamNear`] for [`SnapTo::NearestStream`] only.
pub fn snap(
    accumulation: &Grid<u32>,
    frame: &Frame,
    threshold: Threshold,
    at: (f64, f64),
    distance_m: f64,
    to: SnapTo,
) -> Result<Cell> {
    let is_stream = |cell: Cell| threshold.is_stream(accumulation.values()[accumulation.index(cell)]);
    snap_to_cells(accumulation, frame, &is_stream, at, distance_m, to)
}

/// As [`snap`], to the stream cells that `is_stream` tells.
///
/// # Errors
/// Those of [`snap`].
pub fn snap_to_cells(
    accumulation: &Grid<u32>,
    frame: &Frame,
    is_stream: &dyn Fn(Cell) -> bool,
    (x, y): (f64, f64),
    distance_m: f64,
    to: SnapTo,
) -> Result<Cell> {
    let far = Cell { row: usize::MAX, col: usize::MAX };
    let own = frame.cell_at(x, y).ok_or(Error::OutsideFootprint(far))?;
    match accumulation.get(own) {
        Some(&value) if value != ACCUMULATION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(own)),
    }
    if distance_m <= 0.0 {
        return Ok(own);
    }
    // As far as the grid goes at most.
    let widest = frame.rows.max(frame.cols) as f64;
    let reach = (distance_m / frame.cell_m()).ceil().min(widest) as usize + 1;
    let mut best: Option<(Cell, u32, f64)> = None;
    // How far, as a ratio, an area is from the known one.
    let misses = |cells: u32, m2: u64| {
        let here = frame.cell_area().as_m2() * (f64::from(cells) + 1.0);
        (here / m2 as f64).ln().abs()
    };
    for row in own.row.saturating_sub(reach)..=(own.row + reach).min(frame.rows - 1) {
        for col in own.col.saturating_sub(reach)..=(own.col + reach).min(frame.cols - 1) {
            let cell = Cell { row, col };
            let area = accumulation.values()[accumulation.index(cell)];
            let (cx, cy) = frame.centre(cell);
            let away = (cx - x).hypot(cy - y) * frame.unit_m;
            if area == ACCUMULATION_NODATA || (away > distance_m && cell != own) {
                continue;
            }
            if to == SnapTo::NearestStream && !is_stream(cell) {
                continue;
            }
            let better = best.is_none_or(|(_, best_area, best_away)| match to {
                SnapTo::Largest => (area, -away) > (best_area, -best_away),
                SnapTo::NearestStream => away < best_away,
                SnapTo::KnownArea(m2) => (misses(area, m2), away) < (misses(best_area, m2), best_away),
            });
            if better {
                best = Some((cell, area, away));
            }
        }
    }
    best.map(|(cell, ..)| cell).ok_or(Error::NoStreamNear { distance_m })
}

/// A place where streams meet.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Confluence {
    /// the cell that they meet in
    pub cell: Cell,
    /// how far it lies, metres
    pub away_m: f64,
    /// cells that drain to the largest and to the second of the streams that meet, their last cells counted
    pub cells: [u64; 2],
}

/// The nearest cell within `distance_m` metres of `(x, y)` (CRS units) into which at least two stream cells drain: which of the streams is meant must be looked
/// at. `directions` holds D8 codes, `accumulation` the cells upstream of each.
///
/// # Errors
/// [`Error::ShapeMismatch`].
pub fn confluence_near(
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    is_stream: &dyn Fn(Cell) -> bool,
    (x, y): (f64, f64),
    distance_m: f64,
) -> Result<Option<Confluence>> {
    directions.same_shape(accumulation)?;
    let Some(own) = frame.cell_at(x, y) else { return Ok(None) };
    let reach = (distance_m / frame.cell_m()).ceil().min(frame.rows.max(frame.cols) as f64) as usize + 1;
    let mut best: Option<Confluence> = None;
    for row in own.row.saturating_sub(reach)..=(own.row + reach).min(frame.rows - 1) {
        for col in own.col.saturating_sub(reach)..=(own.col + reach).min(frame.cols - 1) {
            let cell = Cell { row, col };
            let (cx, cy) = frame.centre(cell);
            let away_m = (cx - x).hypot(cy - y) * frame.unit_m;
            if away_m > distance_m || best.is_some_and(|b| b.away_m <= away_m) || !is_stream(cell) {
                continue;
            }
            let mut meet: Vec<u64> = upstream(directions, directions.index(cell))
                .filter(|&n| is_stream(directions.cell(n)))
                .map(|n| u64::from(accumulation.values()[n]) + 1)
                .collect();
            meet.sort_unstable_by(|a, b| b.cmp(a));
            if let [first, second, ..] = meet[..] {
                best = Some(Confluence { cell, away_m, cells: [first, second] });
            }
        }
    }
    Ok(best)
}

/// The contributing area one cell farther up and one farther down than a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Beside {
    /// cells that drain to the larger of its inflows, itself counted; 0 where it has none
    pub up: u64,
    /// cells that drain to it, itself counted
    pub here: u64,
    /// cells that drain to the cell it drains to, that one counted; none at an outlet
    pub down: Option<u64>,
}

impl Beside {
    /// Whether a shift by one cell would change the contributing area by more than a tenth, as beside a junction.
    pub fn is_touchy(&self) -> bool {
        let here = self.here as f64;
        self.down.is_some_and(|down| down as f64 > 1.1 * here) || (self.up as f64) < 0.9 * here
    }
}

/// Contributing areas beside a cell. `directions` holds D8 codes without cycles, `accumulation` the cells upstream of each.
///
/// # Errors
/// [`Error::OutsideFootprint`] where the cell has no direction.
///
/// ```
/// use bothros_core::{Cell, Grid, catchments::beside};
/// // Two rows that meet in the last column, which drains out below.
/// let directions = Grid::from_vec(2, 3, vec![1, 1, 4, 1, 1, 0]);
/// let accumulation = Grid::from_vec(2, 3, vec![0, 1, 2, 0, 1, 5]);
/// let at = |row, col| beside(&directions, &accumulation, Cell { row, col }).unwrap();
/// assert_eq!((at(0, 2).up, at(0, 2).here, at(0, 2).down), (2, 3, Some(6)));
/// assert!(at(0, 2).is_touchy(), "the next cell down has twice the area");
/// ```
pub fn beside(directions: &Grid<u8>, accumulation: &Grid<u32>, cell: Cell) -> Result<Beside> {
    directions.same_shape(accumulation)?;
    match directions.get(cell) {
        Some(&code) if code != DIRECTION_NODATA => {}
        _ => return Err(Error::OutsideFootprint(cell)),
    }
    let index = directions.index(cell);
    let cells = |i: usize| u64::from(accumulation.values()[i]) + 1;
    Ok(Beside {
        up: upstream(directions, index).map(cells).max().unwrap_or(0),
        here: cells(index),
        down: downstream(directions, index).map(cells),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_confluence_within_reach_is_told() {
        // Two rows that meet in the last column, which drains out below.
        let directions = Grid::from_vec(2, 3, vec![1, 1, 4, 1, 1, 0]);
        let accumulation = Grid::from_vec(2, 3, vec![0, 1, 2, 0, 1, 5]);
        let frame = Frame { rows: 2, cols: 3, left: 0.0, top: 20.0, cell_size: 10.0, unit_m: 1.0 };
        let near = |at, distance_m, least: u32| {
            let is_stream = |cell: Cell| accumulation.values()[accumulation.index(cell)] + 1 >= least;
            confluence_near(&directions, &accumulation, &frame, &is_stream, at, distance_m).unwrap()
        };
        let found = near((5.0, 5.0), 25.0, 1).unwrap();
        assert_eq!((found.cell, found.away_m, found.cells), (Cell { row: 1, col: 2 }, 20.0, [3, 2]));
        assert_eq!(near((5.0, 5.0), 15.0, 1), None, "too far");
        assert_eq!(near((5.0, 5.0), 25.0, 3), None, "one of the two is no stream");
        assert_eq!(near((500.0, 5.0), 25.0, 1), None, "beside the grid");
    }

    const FRAME: Frame = Frame { rows: 3, cols: 5, left: 0.0, top: 30.0, cell_size: 10.0, unit_m: 1.0 };

    fn accumulation() -> Grid<u32> {
        Grid::from_vec(3, 5, vec![0, 0, 1, 0, 90, 0, 0, 20, 0, 0, 0, 0, 30, 0, ACCUMULATION_NODATA])
    }

    fn at(x: f64, y: f64, distance_m: f64, to: SnapTo) -> Result<Cell> {
        snap(&accumulation(), &FRAME, Threshold::cells(10), (x, y), distance_m, to)
    }

    #[test]
    fn nearest_and_largest_differ() {
        assert_eq!(at(15.0, 16.0, 15.0, SnapTo::NearestStream), Ok(Cell { row: 1, col: 2 }));
        assert_eq!(at(15.0, 16.0, 15.0, SnapTo::Largest), Ok(Cell { row: 2, col: 2 }));
        assert_eq!(at(15.0, 16.0, 40.0, SnapTo::Largest), Ok(Cell { row: 0, col: 4 }));
        assert_eq!(at(15.0, 16.0, 0.0, SnapTo::Largest), Ok(Cell { row: 1, col: 1 }));
    }

    #[test]
    fn a_known_area_finds_the_cell_that_fits_it() {
        // Cells of 100 m²: 21 of them drain to the cell in the middle, 31 to the one below.
        let of = |m2, distance_m| at(15.0, 16.0, distance_m, SnapTo::KnownArea(m2));
        assert_eq!(of(2_000, 40.0), Ok(Cell { row: 1, col: 2 }));
        assert_eq!(of(3_500, 40.0), Ok(Cell { row: 2, col: 2 }));
        assert_eq!(of(7_000, 40.0), Ok(Cell { row: 0, col: 4 }));
        // Half as much is as far off as twice as much: of 18 cells the ones that gather 21 lie nearer than 9,100 m².
        assert_eq!(of(1_800, 12.0), Ok(Cell { row: 1, col: 2 }));
        // Of cells that fit alike the nearest.
        assert_eq!(of(100, 40.0), Ok(Cell { row: 1, col: 1 }));
    }

    #[test]
    fn where_points_snap_to_is_kept_as_text() {
        for to in [SnapTo::Largest, SnapTo::NearestStream, SnapTo::KnownArea(12_500_000)] {
            assert_eq!(SnapTo::try_from(String::from(to)), Ok(to));
        }
        assert_eq!(String::from(SnapTo::KnownArea(5)), "area_5");
        for wrong in ["", "area_", "area_0", "area_-5", "uphill"] {
            assert!(SnapTo::try_from(wrong.to_owned()).is_err(), "{wrong}");
        }
    }

    #[test]
    fn along_a_stream_a_small_shift_changes_little_and_beside_a_junction_much() {
        // A row of cells, each with one side inflow less than the last, into which a long row comes.
        let directions = Grid::from_vec(1, 40, (0..40).map(|i| if i < 39 { 1 } else { 0 }).collect());
        let accumulation =
            Grid::from_vec(1, 40, (0..40u32).map(|i| if i < 30 { i } else { i + 100 }).collect());
        let at = |col| beside(&directions, &accumulation, Cell { row: 0, col }).unwrap();
        assert!(!at(20).is_touchy() && !at(35).is_touchy());
        assert!(at(29).is_touchy(), "the next cell down has four times the area");
        assert!(at(30).is_touchy(), "the next cell up has a quarter of it");
        assert_eq!(at(39).down, None);
        let outside = Grid::from_vec(1, 1, vec![DIRECTION_NODATA]);
        assert!(beside(&outside, &Grid::from_vec(1, 1, vec![0]), Cell { row: 0, col: 0 }).is_err());
    }

    #[test]
    fn outside_and_far_from_streams() {
        assert!(matches!(at(-1.0, 5.0, 50.0, SnapTo::Largest), Err(Error::OutsideFootprint(_))));
        assert!(matches!(at(45.0, 5.0, 50.0, SnapTo::Largest), Err(Error::OutsideFootprint(_))));
        assert_eq!(at(5.0, 25.0, 10.0, SnapTo::NearestStream), Err(Error::NoStreamNear { distance_m: 10.0 }));
    }
}
