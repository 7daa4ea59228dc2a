//! The ground as pictures: terrain under a hillshade, hillshade alone, slope, curvature, topographic position.

use bothros_core::terrain::{
    Light, Radius, curvatures, hillshade, hillshade_from_four_sides, slope, topographic_position,
};
use bothros_core::{Frame, Grid, Silent};
use bothros_store::{RasterRole, Store};

use super::colour::{self, Ramp};
use crate::{Error, Facts, LandIndex, Result, blocking, boxed};

/// A dot: red, green, blue, opacity.
pub type Dot = [u8; 4];

/// A view computed from elevations on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// degrees
    Slope,
    /// profile curvature, 1/100 m; convex is positive
    Curvature,
    /// elevation less the mean around, metres
    Position,
}

impl View {
    /// The view of a name on the map.
    pub fn from_name(name: &str) -> Option<Self> {
        match name {
            "slope" => Some(Self::Slope),
            "curvature" => Some(Self::Curvature),
            "near" | "far" => Some(Self::Position),
            _ => None,
        }
    }
}

/// Largest neighbourhood evaluated for a picture, in cells of its level.
const WIDEST: f64 = 120.0;

/// Cells that a view needs around what is drawn, and its radius in cells. No radius, or one that is no number, is ten cells.
pub fn halo(view: View, radius_m: Option<f64>, cell_m: f64) -> (usize, f64) {
    match view {
        View::Position => {
            let radius =
                (radius_m.filter(|r| r.is_finite()).unwrap_or(10.0 * cell_m) / cell_m).clamp(1.5, WIDEST);
            (radius.ceil() as usize, radius)
        }
        _ => (1, 1.0),
    }
}

/// The values of a view over a window that has `halo` cells more on each side.
fn values(window: &Grid<f32>, view: View, cell_m: f64, radius: f64) -> bothros_core::Result<Grid<f32>> {
    let frame = Frame {
        rows: window.rows(),
        cols: window.cols(),
        left: 0.0,
        top: 0.0,
        cell_size: cell_m,
        unit_m: 1.0,
    };
    Ok(match view {
        View::Slope => {
            let mut tangent = slope(window, cell_m, &Silent)?;
            for value in tangent.values_mut() {
                *value = value.atan().to_degrees();
            }
            tangent
        }
        View::Curvature => {
            let mut profile = curvatures(window, cell_m, &Silent)?.profile;
            for value in profile.values_mut() {
                *value *= 100.0;
            }
            profile
        }
        View::Position => topographic_position(window, &frame, Radius::Cells(radius), &Silent)?,
    })
}

/// A view in colours; `window` has `halo` cells more on each side than the picture.
///
/// # Errors
/// Never for a window that is larger than its halo.
pub fn view_dots(
    window: &Grid<f32>,
    view: View,
    cell_m: f64,
    radius_m: Option<f64>,
    (low, high): (f32, f32),
    ramp: &Ramp,
) -> Result<Grid<Dot>> {
    let (more, radius) = halo(view, radius_m, cell_m);
    let all = values(window, view, cell_m, radius)?;
    let inner = all.window(more, more, window.rows() - 2 * more, window.cols() - 2 * more);
    let most = low.abs().max(high.abs()).max(f32::MIN_POSITIVE);
    let dot = |&v: &f32| match view {
        _ if v.is_nan() => [0; 4],
        View::Slope => ramp.pixel((v - low) / (high - low).max(f32::MIN_POSITIVE), 255),
        // What is even lies in the middle of the ramp.
        _ => ramp.pixel((v / most + 1.0) / 2.0, 255),
    };
    Ok(Grid::from_vec(inner.rows(), inner.cols(), inner.values().iter().map(dot).collect()))
}

/// The light that the ground is drawn under where none is chosen.
pub fn usual_light() -> Light {
    Light { exaggeration: 1.3, ..Light::default() }
}

/// Hillshade in greys; `halo` has a rim of one cell.
pub fn shade_dots(halo: &Grid<f32>, cell_x: f64, cell_y: f64, light: Light, four_sides: bool) -> Grid<Dot> {
    let shade = match four_sides {
        true => hillshade_from_four_sides(halo, cell_x, cell_y, light),
        false => hillshade(halo, cell_x, cell_y, light),
    };
    let grey = |&brightness: &f32| match brightness.is_nan() {
        true => [0; 4],
        false => {
            let g = (brightness.clamp(0.0, 1.0) * 255.0).round() as u8;
            [g, g, g, 255]
        }
    };
    Grid::from_vec(shade.rows(), shade.cols(), shade.values().iter().map(grey).collect())
}

/// Terrain tint over hillshade; `halo` has a rim of one cell.
pub fn relief_dots(
    halo: &Grid<f32>,
    (low, high): (f32, f32),
    cell_x: f64,
    cell_y: f64,
    light: Light,
    ramp: &Ramp,
) -> Grid<Dot> {
    let shade = hillshade(halo, cell_x, cell_y, light);
    let span = (high - low).max(0.01);
    let (rows, cols) = (shade.rows(), shade.cols());
    let dot = |(i, &brightness): (usize, &f32)| {
        if brightness.is_nan() {
            return [0; 4];
        }
        let z = halo.values()[(i / cols + 1) * halo.cols() + i % cols + 1];
        colour::shaded(ramp.at((z - low) / span), brightness)
    };
    Grid::from_vec(rows, cols, shade.values().iter().enumerate().map(dot).collect())
}

/// The colour of an index of the land, along the logarithm where few values are very large.
pub fn index_tint(
    index: LandIndex,
    low: f32,
    high: f32,
    ramp: Ramp,
) -> impl Fn(f32) -> Dot + Send + Sync + 'static {
    let along = move |v: f32| if index.is_skewed() { v.max(f32::MIN_POSITIVE).ln() } else { v };
    let least = if index.is_skewed() { 1e-3 } else { f32::MIN };
    let (low, high) = (along(low.max(least)), along(high.max(least)));
    let span = (high - low).max(f32::MIN_POSITIVE);
    move |v: f32| match index == LandIndex::Aspect && v < 0.0 {
        // Level ground faces nowhere.
        true => [0; 4],
        false => ramp.pixel((along(v) - low) / span, 235),
    }
}

/// The colour of a value of a raster from a formula, between what it is drawn between.
pub fn derived_tint(low: f32, high: f32, ramp: Ramp) -> impl Fn(f32) -> Dot + Send + Sync + 'static {
    let span = (high - low).max(f32::MIN_POSITIVE);
    move |v: f32| ramp.pixel((v - low) / span, 255)
}

/// More lines than that cannot be told apart.
const MOST_CONTOURS: f64 = 120.0;

/// Metres between contours of a window: as typed, or so that there are about twenty at a number that is easy to say; never so
/// little that they cannot be told apart. None where nothing of the window is ground.
pub fn contour_interval(window: &Grid<f32>, typed: Option<f64>) -> Option<f64> {
    let known = window.values().iter().copied().filter(|z| !z.is_nan());
    let (low, high) = known.fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), z| (l.min(z), h.max(z)));
    let relief = f64::from(high - low);
    let usual = || bothros_formats::sensible_cell_size((relief / 20.0).max(0.1));
    relief.is_finite().then(|| typed.unwrap_or_else(usual).max(relief / MOST_CONTOURS))
}

/// Share left out at each end of a range by default, percent.
pub const OUTER: f64 = 2.0;
/// More than that is no range any more.
const MOST_OUTER: f64 = 40.0;

/// Windows that a range is found from, along each side, and their size.
const LOOKS: usize = 4;
const LOOK: usize = 96;

/// The range of elevations, or of a view, without so many percent of the values at each end, from windows spread over the
/// DEM at full resolution.
///
/// # Errors
/// [`Error::Refused`] before there is a DEM, where nothing of it is ground, and for a share that leaves no range.
#[boxed]
pub async fn range(
    store: &Store,
    facts: &Facts,
    view: Option<View>,
    radius_m: Option<f64>,
    outer: f64,
) -> Result<(f32, f32)> {
    let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
    let meta = store.rasters_of_dem(facts.study, facts.aside).await?.remove(&RasterRole::Dem);
    let meta = meta.ok_or_else(Error::not_prepared)?;
    let look = Look::of(&frame, view, radius_m);
    let mut all = Vec::new();
    for place in look.places(&frame) {
        let window = store.read_window::<f32>(&meta, 0, place, look.size()).await?;
        all.extend(blocking(move || look.values(window)).await?);
    }
    ends(all, outer)
}

/// How the windows that a range is found from are read.
#[derive(Clone, Copy)]
pub(crate) struct Look {
    view: Option<View>,
    radius: f64,
    /// cells around a window that its view needs
    more: usize,
    cell_m: f64,
}

impl Look {
    pub(crate) fn of(frame: &Frame, view: Option<View>, radius_m: Option<f64>) -> Self {
        let cell_m = frame.cell_m();
        let (more, radius) = view.map_or((0, 1.0), |view| halo(view, radius_m, cell_m));
        Self { view, radius, more, cell_m }
    }

    /// Row and column of the first cell of each window.
    pub(crate) fn places(&self, frame: &Frame) -> Vec<(isize, isize)> {
        let at = |n: usize, count: usize| {
            (count.saturating_sub(LOOK) * n / (LOOKS - 1)) as isize - self.more as isize
        };
        let (rows, cols) = (frame.rows, frame.cols);
        (0..LOOKS * LOOKS).map(|n| (at(n / LOOKS, rows), at(n % LOOKS, cols))).collect()
    }

    /// Rows and columns of a window.
    pub(crate) fn size(&self) -> (usize, usize) {
        (LOOK + 2 * self.more, LOOK + 2 * self.more)
    }

    /// What a window holds, or what its view does.
    pub(crate) fn values(&self, window: Grid<f32>) -> Result<Vec<f32>> {
        let all = match self.view {
            Some(view) => values(&window, view, self.cell_m, self.radius)?,
            None => window,
        };
        let inner = all.window(self.more, self.more, LOOK, LOOK);
        Ok(inner.values().iter().copied().filter(|v| !v.is_nan()).collect())
    }
}

/// What values lie between, with so many per cent left out at each end.
///
/// # Errors
/// [`Error::Refused`] where there are none, and for a share that leaves no range.
pub(crate) fn ends(mut all: Vec<f32>, outer: f64) -> Result<(f32, f32)> {
    if !(0.0..=MOST_OUTER).contains(&outer) {
        return Err(Error::Refused(format!("between 0 and {MOST_OUTER} % can be left out at each end")));
    }
    if all.is_empty() {
        return Err(Error::Refused("there is no ground to find a range from".into()));
    }
    all.sort_unstable_by(f32::total_cmp);
    let percentile = |p: f64| all[((all.len() - 1) as f64 * p).round() as usize];
    let (low, high) = (percentile(outer / 100.0), percentile(1.0 - outer / 100.0));
    Ok((low, high.max(low + 1e-3)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Cell;

    #[test]
    fn values_of_plain_shapes_are_what_geometry_says() {
        // A plane that falls by a quarter: 14.036 degrees everywhere (its arc tangent), and not bent.
        let plane = Grid::from_fn(9, 9, |c| 100.0 - 2.5 * c.col as f32);
        let at = |grid: &Grid<f32>| *grid.get(Cell { row: 4, col: 4 }).unwrap();
        assert!((at(&values(&plane, View::Slope, 10.0, 1.0).unwrap()) - 14.036).abs() < 1e-3);
        assert!(at(&values(&plane, View::Curvature, 10.0, 1.0).unwrap()).abs() < 1e-4);
        assert!(at(&values(&plane, View::Position, 10.0, 3.0).unwrap()).abs() < 1e-4);
        // The top of a cone stands above what lies around it, its mirror image below.
        let cone = |sign: f32| {
            Grid::from_fn(9, 9, |c| {
                let (x, y) = (c.col as f32 - 4.0, c.row as f32 - 4.0);
                100.0 - sign * 3.0 * x.hypot(y)
            })
        };
        let position = |sign| at(&values(&cone(sign), View::Position, 10.0, 3.0).unwrap());
        assert!(position(1.0) > 3.0 && (position(1.0) + position(-1.0)).abs() < 1e-4);
        // A ridge that falls away ever steeper is convex, which is positive.
        let ridge = Grid::from_fn(9, 9, |c| 100.0 - 0.1 * (c.col as f32).powi(2));
        assert!(at(&values(&ridge, View::Curvature, 10.0, 1.0).unwrap()) > 0.0);
    }

    #[test]
    fn a_view_looks_as_far_as_it_needs_and_no_farther() {
        assert_eq!(halo(View::Slope, Some(500.0), 5.0), (1, 1.0));
        assert_eq!(halo(View::Position, Some(50.0), 5.0), (10, 10.0));
        // Ten cells by default; a cell and a half at least, 120 at most; no number is none.
        assert_eq!(halo(View::Position, None, 5.0), (10, 10.0));
        assert_eq!(halo(View::Position, Some(f64::NAN), 5.0), (10, 10.0));
        assert_eq!(halo(View::Position, Some(-3.0), 5.0), (2, 1.5));
        assert_eq!(halo(View::Position, Some(1e9), 5.0), (120, 120.0));
    }

    #[test]
    fn relief_is_clear_where_nothing_is_known_and_lit_from_its_side() {
        let mut ground =
            Grid::from_fn(12, 22, |c| if c.col < 11 { c.col as f32 } else { 22.0 - c.col as f32 });
        let hole = ground.index(Cell { row: 5, col: 5 });
        ground.values_mut()[hole] = f32::NAN;
        let light = Light { azimuth: 270.0, ..Light::default() };
        let ramp = Ramp::of("relief", None, false);
        let dots = relief_dots(&ground, (0.0, 11.0), 1.0, 1.0, light, &ramp);
        assert_eq!((dots.cols(), dots.rows()), (20, 10));
        let pixel = |row: usize, col: usize| dots.get(Cell { row, col }).unwrap();
        assert_eq!(pixel(4, 4)[3], 0, "a hole is clear");
        let bright = |row, col| pixel(row, col)[..3].iter().map(|&v| u32::from(v)).sum::<u32>();
        // Equally high on both sides of the crest; the one towards the light is the brighter.
        assert!(bright(8, 6) > bright(8, 14) + 30, "{} {}", bright(8, 6), bright(8, 14));
    }
}
