//! Putting a DEM together from several files.
//!
//! The first file counts most: a later one only fills what the ones before it leave open. Files that lie on
//! one grid are put together cell by cell; otherwise all are warped onto one grid, and that is told.

use std::path::PathBuf;

use bothros_core::terrain::NO_PIECE;
use bothros_core::{Frame, Grid, Monitor, Part};
use serde::{Deserialize, Serialize};

use crate::{
    Crs, CrsKind, Error, Placed, RasterInfo, Resampling, Result, Transform, VerticalUnit, frame_of,
    plan_warp, read_elevation, sensible_cell_size, utm_zone, warp_onto,
};

/// One of the files that a DEM is put together from.
#[derive(Debug, Clone, PartialEq)]
pub struct Piece {
    /// name as the user knows it
    pub name: String,
    /// where it lies
    pub path: PathBuf,
    /// what it says of itself
    pub info: RasterInfo,
    /// the CRS of its coordinates
    pub crs: Crs,
    /// the band that holds elevations, from 1
    pub band: usize,
    /// unit of the elevations
    pub unit: VerticalUnit,
}

/// How a mosaic is to be put together.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wish {
    /// its CRS; that of the first file by default, or the UTM zone of its centre where files
    /// must be warped
    pub crs: Option<Crs>,
    /// edge of a cell, units of the CRS; that of the first file by default
    pub cell_size: Option<f64>,
    /// whether cells must be square
    pub square: bool,
}

/// The grid that several files are put together on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MosaicPlan {
    /// number of rows
    pub rows: usize,
    /// number of columns
    pub cols: usize,
    /// left, width of a cell, rotation, top, rotation, height of a cell
    pub geo_transform: [f64; 6],
    /// its CRS
    pub crs: Crs,
    /// whether all files lie on this grid, so that none is warped
    pub exact: bool,
}

impl MosaicPlan {
    /// The place of the grid, where its cells are square and its rows run east.
    pub fn frame(&self) -> Frame {
        let [left, width, _, top, _, _] = self.geo_transform;
        Frame { rows: self.rows, cols: self.cols, left, top, cell_size: width, unit_m: self.crs.unit_m }
    }
}

/// How two files agree where both have elevations.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Overlap {
    /// number of the file, from 0, that was laid under those before it
    pub piece: u32,
    /// cells that it shares with them
    pub cells: u64,
    /// mean of its elevation less theirs, metres
    pub mean_m: f64,
    /// root of the mean square of that difference, metres
    pub rms_m: f64,
}

/// A DEM put together.
pub struct Mosaic {
    /// elevations, metres
    pub values: Grid<f32>,
    /// number of the file, from 0, that each cell comes from, [`NO_PIECE`] where there is no elevation;
    /// none for one file, and for more than [`MOST_TOLD`]
    pub origin: Option<Grid<u8>>,
    /// how the files agree
    pub overlaps: Vec<Overlap>,
    /// what was done that nobody asked for by name
    pub notes: Vec<String>,
}

/// The most files that are put together.
pub const MOST_PIECES: usize = 20_000;
/// The most files of which it is known which cell comes from which.
pub const MOST_TOLD: usize = NO_PIECE as usize;

/// Finds the grid that holds all pieces.
///
/// # Errors
/// [`Error::TooManyCells`], [`Error::CellSize`], [`Error::NotConvertible`], [`Error::TooManyFiles`].
pub fn plan_mosaic(pieces: &[Piece], wish: &Wish) -> Result<MosaicPlan> {
    if pieces.len() > MOST_PIECES {
        return Err(Error::TooManyFiles { files: pieces.len(), most: MOST_PIECES });
    }
    let first = pieces.first().ok_or(Error::TooManyFiles { files: 0, most: MOST_PIECES })?;
    let crs = wish.crs.as_ref().unwrap_or(&first.crs);
    if let Some(plan) = common_grid(pieces, crs, wish)? {
        return Ok(plan);
    }
    let crs = match (&wish.crs, first.crs.kind) {
        (Some(crs), _) => crs.clone(),
        (None, CrsKind::Projected) => first.crs.clone(),
        (None, _) => {
            let (x, y) = first.info.centre();
            let (lon, lat) = Transform::to_wgs84(&first.crs)?.point(x, y)?;
            utm_zone(lon, lat)?
        }
    };
    let mut extent = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let mut native = 0.0;
    for (at, piece) in pieces.iter().enumerate() {
        let info = &piece.info;
        let plan = plan_warp(info.rows, info.cols, info.geo_transform, &piece.crs, &crs)?;
        let [west, south, east, north] = plan.extent;
        extent = [extent[0].min(west), extent[1].min(south), extent[2].max(east), extent[3].max(north)];
        if at == 0 {
            let exact = piece.crs.same_as(&crs)? && info.is_square() && info.is_north_up();
            native = if exact { info.geo_transform[1] } else { sensible_cell_size(plan.native_cell_size) };
        }
    }
    let frame = frame_of(extent, wish.cell_size.unwrap_or(native), &crs)?;
    let geo_transform = [frame.left, frame.cell_size, 0.0, frame.top, 0.0, -frame.cell_size];
    Ok(MosaicPlan { rows: frame.rows, cols: frame.cols, geo_transform, crs, exact: false })
}

fn near(a: f64, b: f64, tolerance: f64) -> bool {
    (a - b).abs() <= tolerance
}

/// Returns the grid that holds all pieces, if they already share one and need no reprojection.
fn common_grid(pieces: &[Piece], crs: &Crs, wish: &Wish) -> Result<Option<MosaicPlan>> {
    let [left0, width, _, top0, _, height] = pieces[0].info.geo_transform;
    if wish.cell_size.is_some_and(|w| !near(w, width, 1e-6 * width)) {
        return Ok(None);
    }
    let (mut west, mut east, mut north, mut south) = (0.0f64, 0.0f64, 0.0f64, 0.0f64);
    for piece in pieces {
        let info = &piece.info;
        let square = !wish.square || info.is_square();
        if !piece.crs.same_as(crs)? || !info.is_north_up() || !square {
            return Ok(None);
        }
        let [left, w, _, top, _, h] = info.geo_transform;
        // In cells from the first one's corner.
        let (right, down) = ((left - left0) / width, (top - top0) / height);
        let aligned = near(right, right.round(), 1e-3) && near(down, down.round(), 1e-3);
        let cells = info.cols.max(info.rows) as f64;
        if !aligned || !near(w, width, 1e-9 * width * cells) || !near(h, height, 1e-9 * height.abs() * cells)
        {
            return Ok(None);
        }
        west = west.min(right.round());
        east = east.max(right.round() + info.cols as f64);
        north = north.min(down.round());
        south = south.max(down.round() + info.rows as f64);
    }
    let (rows, cols) = ((south - north) as usize, (east - west) as usize);
    if rows as f64 * cols as f64 >= u32::MAX as f64 {
        return Err(Error::TooManyCells { cells: rows as u64 * cols as u64 });
    }
    let geo_transform = [left0 + west * width, width, 0.0, top0 + north * height, 0.0, height];
    Ok(Some(MosaicPlan { rows, cols, geo_transform, crs: crs.clone(), exact: true }))
}

/// Reads all pieces onto the grid of `plan`. With `level`, each piece is raised or lowered by its mean
/// difference to those before it where they overlap (in ten cells at least).
///
/// # Errors
/// Those of [`read_elevation`] and [`warp_onto`].
pub fn read_mosaic(
    pieces: &[Piece],
    plan: &MosaicPlan,
    resampling: Resampling,
    level: bool,
    monitor: &dyn Monitor,
) -> Result<Mosaic> {
    let mut notes = Vec::new();
    let mut overlaps = Vec::new();
    let share = 1.0 / pieces.len() as f64;
    let mut whole = None;
    for (at, piece) in pieces.iter().enumerate() {
        let part =
            |from: f64, to: f64| Part::new(monitor, (at as f64 + from) * share, (at as f64 + to) * share);
        let (values, place) = if plan.exact {
            let values = read_elevation(&piece.path, &piece.name, piece.band, piece.unit, &part(0.0, 1.0))?;
            (values, place_in(piece, plan))
        } else {
            let values = read_elevation(&piece.path, &piece.name, piece.band, piece.unit, &part(0.0, 0.5))?;
            let placed = Placed { values: &values, geo_transform: piece.info.geo_transform, crs: &piece.crs };
            let frame = plan.frame();
            let onto = warp_onto(&placed, &plan.crs, &frame, resampling, &part(0.5, 1.0))?;
            let what = match piece.crs.same_as(&plan.crs)? {
                true => "resampled".to_owned(),
                false => format!("warped from {} to {}", piece.crs.label(), plan.crs.label()),
            };
            let how = resampling.code();
            notes.push(format!("{} was {what} on cells of {} m ({how})", piece.name, frame.cell_m()));
            (onto, (0, 0))
        };
        if pieces.len() == 1 {
            return Ok(Mosaic { values, origin: None, overlaps, notes });
        }
        let whole = whole.get_or_insert_with(|| Whole::empty(plan, pieces.len()));
        let overlap = whole.lay_under(&values, place, at, level);
        if level && overlap.cells >= LEAST_OVERLAP && overlap.mean_m != 0.0 {
            let (way, by) = (if overlap.mean_m > 0.0 { "lowered" } else { "raised" }, overlap.mean_m.abs());
            notes.push(format!("{} was {way} by {by:.2} m to fit those before it", piece.name));
        }
        overlaps.extend((overlap.cells > 0).then_some(overlap));
    }
    let Whole { values, origin } = whole.ok_or(Error::TooManyFiles { files: 0, most: MOST_PIECES })?;
    Ok(Mosaic { values, origin, overlaps, notes })
}

/// Fewer cells tell nothing of a difference.
const LEAST_OVERLAP: u64 = 10;

/// The row and column of a piece on the larger grid that it is aligned with.
fn place_in(piece: &Piece, plan: &MosaicPlan) -> (usize, usize) {
    let [left, width, _, top, _, height] = plan.geo_transform;
    let [own_left, _, _, own_top, _, _] = piece.info.geo_transform;
    (((own_top - top) / height).round() as usize, ((own_left - left) / width).round() as usize)
}

/// What has been put together so far.
struct Whole {
    values: Grid<f32>,
    origin: Option<Grid<u8>>,
}

impl Whole {
    fn empty(plan: &MosaicPlan, pieces: usize) -> Self {
        let origin = (pieces <= MOST_TOLD).then(|| Grid::filled(plan.rows, plan.cols, NO_PIECE));
        Self { values: Grid::filled(plan.rows, plan.cols, f32::NAN), origin }
    }

    /// Takes values of a piece, whose first cell lies at a row and column, where there are none yet.
    fn lay_under(
        &mut self,
        piece: &Grid<f32>,
        (top, left): (usize, usize),
        number: usize,
        level: bool,
    ) -> Overlap {
        let (across, cols) = (self.values.cols(), piece.cols());
        // Where each of the piece's rows lies.
        let lines = || {
            let rows = piece.values().chunks(cols.max(1)).enumerate();
            rows.map(|(row, line)| ((top + row) * across + left, line))
        };
        let (mut cells, mut sum, mut squares) = (0u64, 0f64, 0f64);
        for (from, line) in lines() {
            for (a, b) in self.values.values()[from..from + cols].iter().zip(line) {
                let difference = (*b - *a) as f64;
                if !difference.is_nan() {
                    cells += 1;
                    sum += difference;
                    squares += difference * difference;
                }
            }
        }
        let n = cells.max(1) as f64;
        let overlap = Overlap { piece: number as u32, cells, mean_m: sum / n, rms_m: (squares / n).sqrt() };
        let shift = if level && cells >= LEAST_OVERLAP { overlap.mean_m as f32 } else { 0.0 };
        for (from, line) in lines() {
            let above = &mut self.values.values_mut()[from..from + cols];
            for (at, (above, &below)) in above.iter_mut().zip(line).enumerate() {
                if above.is_nan() && !below.is_nan() {
                    *above = below - shift;
                    if let Some(origin) = &mut self.origin {
                        origin.values_mut()[from + at] = number as u8;
                    }
                }
            }
        }
        overlap
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{inspect, write_cog};
    use bothros_core::{Coarser, Silent};

    const EDGE: usize = 4;

    /// A square of so many tiles, each over its neighbours by a cell to the south and east.
    fn tiles(dir: &std::path::Path, along: usize) -> Vec<Piece> {
        let crs = Crs::parse("EPSG:32628").unwrap();
        let mut pieces = Vec::new();
        for number in 0..along * along {
            let (row, col) = (number / along * EDGE, number % along * EDGE);
            let frame = Frame {
                rows: EDGE + 1,
                cols: EDGE + 1,
                left: 500_000.0 + 10.0 * col as f64,
                top: 4_760_000.0 - 10.0 * row as f64,
                cell_size: 10.0,
                unit_m: 1.0,
            };
            let values = Grid::from_fn(EDGE + 1, EDGE + 1, |c| ((row + c.row) * 1000 + col + c.col) as f32);
            let path = dir.join(format!("{number}.tif"));
            write_cog(&path, &values, &frame, &crs, f32::NAN, Coarser::Mean, "", "m").unwrap();
            let info = inspect(&path, "tile").unwrap();
            let name = number.to_string();
            pieces.push(Piece { name, path, info, crs: crs.clone(), band: 1, unit: VerticalUnit::Metre });
        }
        pieces
    }

    #[test]
    fn more_files_than_can_be_told_apart_are_put_together() {
        let dir = tempfile::tempdir().unwrap();
        let pieces = tiles(dir.path(), 17);
        assert!(pieces.len() > MOST_TOLD);
        let plan = plan_mosaic(&pieces, &Wish::default()).unwrap();
        assert!(plan.exact && (plan.rows, plan.cols) == (17 * EDGE + 1, 17 * EDGE + 1));
        let mosaic = read_mosaic(&pieces, &plan, Resampling::Bilinear, false, &Silent).unwrap();
        let expected = Grid::from_fn(plan.rows, plan.cols, |c| (c.row * 1000 + c.col) as f32);
        assert_eq!(mosaic.values, expected);
        assert!(mosaic.origin.is_none());
        // All but the first share cells with those before them, and agree.
        assert_eq!(mosaic.overlaps.len(), pieces.len() - 1);
        assert!(mosaic.overlaps.iter().all(|overlap| overlap.mean_m == 0.0 && overlap.cells >= 5));

        let few = &pieces[..2];
        let plan = plan_mosaic(few, &Wish::default()).unwrap();
        let origin = read_mosaic(few, &plan, Resampling::Bilinear, false, &Silent).unwrap().origin.unwrap();
        assert_eq!(&origin.values()[..plan.cols], [0, 0, 0, 0, 0, 1, 1, 1, 1]);
    }
}
