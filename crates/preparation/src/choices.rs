//! The choices, and the grid that they lead to.

use bothros_core::conditioning::Polygons;
use bothros_core::{Frame, cells_within};
use bothros_formats::{Crs, CrsKind, Resampling, Transform, frame_of, plan_warp, widen};
use serde::{Deserialize, Serialize};

use crate::{Error, Read, Result};

/// A grid that the DEM is made to line up with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Alignment {
    /// name of the raster
    pub name: String,
    /// its CRS
    pub crs: String,
    /// easting of one of its corners, CRS units
    pub left: f64,
    /// northing of one of its corners, CRS units
    pub top: f64,
    /// edge of its cells, CRS units
    pub cell_size: f64,
}

/// What the DEM is clipped to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Clip {
    /// in words: the map's extent, a drawn polygon, the name of a layer
    pub name: String,
    /// the polygons
    pub polygons: Polygons,
    /// their CRS
    pub crs: String,
    /// margin around them, metres
    pub margin_m: f64,
}

/// How a DEM is prepared. Steps are done in this order: steps of rounding, spikes, warping, clipping, sea,
/// voids, full rectangle.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Preparing {
    /// warp to this CRS, as a code or definition
    pub crs: Option<String>,
    /// edge of a cell, units of that CRS
    pub cell_size: Option<f64>,
    /// how values between cells are found
    pub resampling: Resampling,
    /// line up with another grid; it decides CRS and cell size
    pub align: Option<Alignment>,
    /// clip
    pub clip: Option<Clip>,
    /// crop to the largest full rectangle
    pub full_rectangle: bool,
    /// mend spikes
    pub spikes: bool,
    /// give steps of rounding a slope again
    pub steps: bool,
    /// declare the sea as outside
    pub sea: bool,
    /// fill voids smoothly from their rim
    pub voids: bool,
}

/// Where a prepared DEM will lie.
pub struct PreparedPlace {
    /// its CRS
    pub crs: Crs,
    /// the grid before clipping
    pub frame: Frame,
    /// whether values must be found anew between cells
    pub warped: bool,
    /// rows and columns that clipping keeps: first row, first column, rows, columns
    pub window: Option<(usize, usize, usize, usize)>,
    /// the polygons of the clip in the CRS, margin included
    pub clip: Option<Polygons>,
}

impl PreparedPlace {
    /// The grid after clipping.
    pub fn clipped(&self) -> Frame {
        match self.window {
            Some((row, col, rows, cols)) => self.frame.window(row, col, rows, cols),
            None => self.frame,
        }
    }
}

impl Preparing {
    /// Finds the grid that these choices lead to, from where the elevations lie alone.
    ///
    /// # Errors
    /// [`Error::NoCrs`], [`Error::NotProjected`], [`Error::Outside`] for a clip that covers no cell, [`Error::Memory`],
    /// and those of reading a CRS and of warping.
    pub fn place(&self, read: &Read) -> Result<PreparedPlace> {
        let Read { rows, cols, geo_transform, crs, .. } = *read;
        let from = crs.ok_or(Error::NoCrs)?;
        let to = match (&self.align, &self.crs) {
            (Some(align), _) => Crs::parse(&align.crs)?,
            (None, Some(crs)) => Crs::parse(crs)?,
            (None, None) => from.clone(),
        };
        if to.kind != CrsKind::Projected {
            return Err(Error::NotProjected { crs: to.label() });
        }
        let own = read.frame().filter(|_| to.same_as(from).unwrap_or(false));
        let (frame, warped) = match (&self.align, self.cell_size, own) {
            (Some(align), _, own) => {
                let whole = |offset: f64| {
                    (offset / align.cell_size - (offset / align.cell_size).round()).abs() < 1e-3
                };
                let lies_on = own.filter(|f| {
                    (f.cell_size - align.cell_size).abs() < 1e-6 * align.cell_size
                        && whole(f.left - align.left)
                        && whole(f.top - align.top)
                });
                match lies_on {
                    Some(frame) => (frame, false),
                    None => {
                        let [west, south, east, north] =
                            plan_warp(rows, cols, geo_transform, from, &to)?.extent;
                        // On multiples of the cell size, counted from the other grid's corner.
                        let moved =
                            [west - align.left, south - align.top, east - align.left, north - align.top];
                        let mut frame = frame_of(moved, align.cell_size, &to)?;
                        frame.left += align.left;
                        frame.top += align.top;
                        (frame, true)
                    }
                }
            }
            (None, size, Some(frame)) if size.is_none_or(|s| (s - frame.cell_size).abs() < 1e-9 * s) => {
                (frame, false)
            }
            (None, size, _) => {
                let plan = plan_warp(rows, cols, geo_transform, from, &to)?;
                (frame_of(plan.extent, size.unwrap_or(plan.sensible_cell_size), &to)?, true)
            }
        };
        if let Some(step) = read.reckoned {
            step.check(frame.cells() as u64)?;
        }
        let clip = self.clip.as_ref().map(|clip| clip.widened_in(&to)).transpose()?;
        let window = match (&clip, &self.clip) {
            (Some(polygons), Some(named)) => {
                let outside = || Error::Outside { clip: named.name.clone() };
                Some(window_of(polygons, &frame).ok_or_else(outside)?)
            }
            _ => None,
        };
        Ok(PreparedPlace { crs: to, frame, warped, window, clip })
    }

    /// What is chosen, in words.
    pub fn words(&self) -> Vec<String> {
        let mut out = Vec::new();
        if let Some(align) = &self.align {
            out.push(format!("lined up with {}", align.name));
        }
        if let Some(clip) = &self.clip {
            let margin =
                if clip.margin_m > 0.0 { format!(" and {} m around", clip.margin_m) } else { String::new() };
            out.push(format!("clipped to {}{margin}", clip.name));
        }
        for (on, what) in [
            (self.steps, "steps of rounding softened"),
            (self.spikes, "spikes mended"),
            (self.sea, "sea outside"),
            (self.voids, "voids filled from their rim"),
            (self.full_rectangle, "cropped to the full rectangle"),
        ] {
            if on {
                out.push(what.into());
            }
        }
        out
    }
}

impl Clip {
    /// Its polygons in another CRS, without their margin.
    ///
    /// # Errors
    /// Those of reading a CRS and of transforming.
    pub fn polygons_in(&self, to: &Crs) -> Result<Polygons> {
        let transform = Transform::new(&Crs::parse(&self.crs)?, to)?;
        let mut polygons = self.polygons.clone();
        for point in polygons.iter_mut().flatten().flatten() {
            let (x, y) = transform.point(point[0], point[1])?;
            *point = [x, y];
        }
        Ok(polygons)
    }

    /// Its polygons in another CRS, with their margin.
    fn widened_in(&self, to: &Crs) -> Result<Polygons> {
        Ok(widen(&self.polygons_in(to)?, self.margin_m / to.unit_m)?)
    }
}

/// The rows and columns of the cells whose centres polygons can hold: a row of which only an edge is touched would stay empty.
fn window_of(polygons: &Polygons, frame: &Frame) -> Option<(usize, usize, usize, usize)> {
    let [mut west, mut south, mut east, mut north] =
        [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    for [x, y] in polygons.iter().flatten().flatten() {
        (west, east) = (west.min(*x), east.max(*x));
        (south, north) = (south.min(*y), north.max(*y));
    }
    let col = |x: f64| ((x - frame.left) / frame.cell_size).clamp(0.0, frame.cols as f64);
    let row = |y: f64| ((frame.top - y) / frame.cell_size).clamp(0.0, frame.rows as f64);
    let first = |edge: f64| (edge - 0.5).ceil().max(0.0) as usize;
    let end = |edge: f64| (edge + 0.5).floor().max(0.0) as usize;
    let (c0, c1) = (first(col(west)), end(col(east)).min(frame.cols));
    let (r0, r1) = (first(row(north)), end(row(south)).min(frame.rows));
    (c1 >= c0 + 2 && r1 >= r0 + 2).then_some((r0, c0, r1 - r0, c1 - c0))
}

/// Which cells of a grid a clip keeps.
pub(crate) fn kept_cells(polygons: &Polygons, frame: &Frame) -> Vec<bool> {
    let mut keep = vec![false; frame.cells()];
    for cell in cells_within(polygons, frame) {
        keep[cell.row * frame.cols + cell.col] = true;
    }
    keep
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const FRAME: Frame = Frame { rows: 100, cols: 80, left: 0.0, top: 1000.0, cell_size: 10.0, unit_m: 1.0 };

    #[rstest]
    // Between corners of cells: rows and columns whose centres lie outside are left out.
    #[case([103.0, 396.0, 297.0, 604.0], Some((40, 10, 20, 20)))]
    #[case([106.0, 397.0, 294.0, 603.0], Some((40, 11, 20, 18)))]
    // On corners of cells.
    #[case([100.0, 400.0, 300.0, 600.0], Some((40, 10, 20, 20)))]
    // Beyond the DEM on all sides.
    #[case([-500.0, -500.0, 5000.0, 5000.0], Some((0, 0, 100, 80)))]
    // Beside it, and too small to be one.
    #[case([900.0, 400.0, 990.0, 600.0], None)]
    #[case([101.0, 401.0, 112.0, 600.0], None)]
    fn a_clip_keeps_the_cells_whose_centres_it_holds(
        #[case] sides: [f64; 4],
        #[case] expected: Option<(usize, usize, usize, usize)>,
    ) {
        let [west, south, east, north] = sides;
        let ring = vec![[west, south], [east, south], [east, north], [west, north], [west, south]];
        let polygons: Polygons = vec![vec![ring]];
        let window = window_of(&polygons, &FRAME);
        assert_eq!(window, expected);
        let Some((row, col, rows, cols)) = window else { return };
        let frame = FRAME.window(row, col, rows, cols);
        let keep = kept_cells(&polygons, &frame);
        let row_kept = |r: usize| (0..cols).any(|c| keep[r * cols + c]);
        let col_kept = |c: usize| (0..rows).any(|r| keep[r * cols + c]);
        assert!((0..rows).all(row_kept) && (0..cols).all(col_kept), "no row and no column is empty");
    }
}
